//! `lantern voice hear`: what the microphone hears, and which rule that would fire. Fires nothing.

use std::io::{IsTerminal as _, Write as _};
use std::time::Duration;

use lantern_audio::{AudioSource, HearingEvent};
use lantern_speech::Loudness;

use crate::arguments::VoiceHearArguments;
use crate::diagnostics::rules_of;
use crate::failure::{Failure, Status};
use crate::output::{complain, say};
use crate::spoken_rules::{Phrases, seconds};
use crate::style;

/// Columns of the meter.
const METER: usize = 30;
/// What the meter shows at its left end, in decibels under full scale.
const QUIETEST: f32 = -70.0;

pub fn run(arguments: &VoiceHearArguments) -> Result<Status, Failure> {
    let (source, rules) = rules_of(arguments.file.clone())?;
    let phrases = Phrases::of(&rules);
    if phrases.is_empty() {
        complain!("{}: no rule here is spoken to", source.name());
        return Ok(Status::Found);
    }
    let named = arguments.microphone.as_deref().unwrap_or(&rules.settings.microphone);
    let mut microphone = AudioSource::microphone(named)?;
    let count = phrases.listening.phrases.len();
    let free =
        phrases.listening.phrases.iter().filter(|phrase| phrase.without_attention_word).count();
    let called = match (phrases.listening.attention_words.as_str(), free) {
        ("", _) => String::new(),
        (word, 0) => format!(", behind \"{word}\""),
        (word, free) => format!(", {} of them behind \"{word}\"", count - free),
    };
    complain!("{count} phrases count{called}; nothing is fired here; end with ctrl+c");
    let meter = std::io::stderr().is_terminal();
    let mut understood = 0;
    let end = arguments.seconds.map(Duration::from_secs);
    phrases.hear(&mut microphone, |hearer, noted| {
        match noted {
            HearingEvent::Passed => {
                if meter {
                    draw_meter(hearer.loudness());
                }
            }
            HearingEvent::Began => {}
            HearingEvent::BackgroundTalk => {
                say!("{}talk, longer than a command{0:#}", style::FAINT)
            }
            HearingEvent::Utterance(verdict) => {
                understood += u32::from(verdict.counts);
                clear_meter(meter);
                let word = if verdict.counts { style::WENT_OUT } else { style::FAINT };
                let said = match verdict.words.as_str() {
                    "" => String::new(),
                    words => format!("{words}: "),
                };
                say!(
                    "{}{:>9}{0:#}  {word}{:>3.0} %{word:#}  {:>3.0} dB  {said}{word}{}{word:#}",
                    style::FAINT,
                    seconds(verdict.from),
                    verdict.score * 100.0,
                    verdict.above_noise,
                    phrases.outcome(&verdict)
                );
            }
        }
        end.is_none_or(|end| hearer.time() < end)
    })?;
    clear_meter(meter);
    Ok(if understood > 0 { Status::Done } else { Status::Found })
}

/// Clears a terminal's line from here to its end (ECMA-48, "erase in line").
const CLEARED: &str = "\u{1b}[K";

/// A bar of how loud it is, with a mark where the room ends.
fn draw_meter(Loudness { level, noise, speech }: Loudness) {
    let column = |level: f32| {
        let share = (level - QUIETEST) / -QUIETEST;
        ((share * METER as f32).round().max(0.0) as usize).min(METER)
    };
    let (filled, room) = (column(level), column(noise));
    let cell = |at: usize| match at {
        at if at == room => '|',
        at if at < filled => '#',
        _ => '.',
    };
    let bar: String = (0..METER).map(cell).collect();
    let word = if speech { ", speech" } else { "" };
    let mut out = anstream::stderr();
    // A terminal that went away is no fault.
    let _ = write!(
        out,
        "\r{}{bar} {level:>4.0} dB in a room of {noise:.0} dB{word}{0:#}{CLEARED}",
        style::FAINT
    );
    let _ = out.flush();
}

fn clear_meter(meter: bool) {
    if meter {
        let _ = write!(anstream::stderr(), "\r{CLEARED}");
    }
}
