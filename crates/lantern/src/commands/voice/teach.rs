//! `lantern voice teach`: a phrase is learnt from how the person says it, with no model.

use std::path::PathBuf;

use lantern_audio::AudioSource;
use lantern_speech::{
    EndpointSettings, Endpointer, Example, TrainedPhrase, TrainedPhrases, Utterance, VadEvent,
    features, heard_words, odd_one,
};

use crate::arguments::VoiceTeachArguments;
use crate::failure::{Failure, Status};
use crate::output::{complain, say};
use crate::trained_phrases::Taught;
use crate::{style, table};

/// What is quieter than this above the room, in decibels, teaches nothing.
const TOO_QUIET: f32 = 12.0;

pub fn run(arguments: &VoiceTeachArguments) -> Result<Status, Failure> {
    let mut taught = Taught::open()?;
    let words = heard_words(arguments.phrase.as_deref().unwrap_or_default()).join(" ");
    if words.is_empty() && !arguments.forget {
        return Ok(list(&taught));
    }
    if arguments.forget {
        let before = taught.phrases.len();
        taught.phrases.retain(|phrase| phrase.words != words);
        if taught.phrases.len() == before {
            complain!("\"{words}\" was not taught");
            return Ok(Status::Found);
        }
        taught.save()?;
        say!("\"{words}\" is forgotten");
        return Ok(Status::Done);
    }
    let examples = if arguments.recordings.is_empty() {
        listen(&words, arguments)?
    } else {
        read(&arguments.recordings)?
    };
    if examples.is_empty() {
        complain!("no speech was heard; nothing was learnt");
        return Ok(Status::Found);
    }
    let alike = most_alike(&taught.phrases, &words, &examples);
    let count = examples.len();
    taught.phrases.retain(|phrase| phrase.words != words);
    taught.phrases.push(TrainedPhrase { words: words.clone(), examples });
    taught.phrases.sort_by(|one, other| one.words.cmp(&other.words));
    taught.save()?;
    say!("\"{words}\" is learnt from {count} examples");
    if let Some(other) = alike {
        complain!(
            "{}warning{0:#}: it sounds much like \"{other}\"; say one of them otherwise",
            style::WARNING
        );
    }
    Ok(Status::Done)
}

fn list(Taught { path, phrases }: &Taught) -> Status {
    if phrases.is_empty() {
        complain!(
            "nothing was taught yet; `lantern voice teach \"next section\"` teaches a phrase"
        );
        return Status::Found;
    }
    let name = |phrase: &TrainedPhrase| match phrase.words.as_str() {
        "" => "(means nothing)".to_owned(),
        words => words.to_owned(),
    };
    let row = |phrase: &TrainedPhrase| vec![name(phrase), phrase.examples.len().to_string()];
    let rows: Vec<Vec<String>> = phrases.iter().map(row).collect();
    table::print(&["taught", "examples"], &rows);
    complain!("{}kept in {}{0:#}", style::FAINT, path.display());
    Status::Done
}

/// Another phrase that one of these examples would be taken for.
fn most_alike(phrases: &[TrainedPhrase], words: &str, examples: &[Example]) -> Option<String> {
    let others: Vec<TrainedPhrase> =
        phrases.iter().filter(|phrase| phrase.words != words).cloned().collect();
    let book = TrainedPhrases::new(&others);
    let taken = |example: &Example| {
        let likened = book.liken(&example.features(), example.above_noise, |_| true)?;
        (likened.score >= 0.5).then_some(likened.words)
    };
    examples.iter().find_map(taken)
}

/// Every utterance of a source, until `enough` says so.
fn utterances(
    source: &mut AudioSource,
    mut take: impl FnMut(Utterance) -> bool,
) -> Result<(), Failure> {
    let mut endpointer = Endpointer::new(EndpointSettings::default());
    let mut pending = None;
    loop {
        let sound = source.read()?;
        let signs = match &sound {
            Some(sound) => endpointer.take(sound),
            None => endpointer.finish(),
        };
        for sign in signs {
            match sign {
                VadEvent::Resting(utterance) => pending = Some(utterance),
                VadEvent::Ended => {
                    if pending.take().is_some_and(&mut take) {
                        return Ok(());
                    }
                }
                VadEvent::WentOn | VadEvent::BackgroundTalk => pending = None,
                VadEvent::Began => {}
            }
        }
        if sound.is_none() {
            return Ok(());
        }
    }
}

/// The examples of recordings, each the longest utterance in it.
fn read(recordings: &[PathBuf]) -> Result<Vec<Example>, Failure> {
    let mut examples = Vec::new();
    for path in recordings {
        let mut longest: Option<Utterance> = None;
        utterances(&mut AudioSource::file(path)?, |utterance| {
            if longest.as_ref().is_none_or(|l| utterance.speech_frames > l.speech_frames) {
                longest = Some(utterance);
            }
            false
        })?;
        match longest {
            Some(utterance) => examples.push(example_of(&utterance)),
            None => complain!("{}{}: no speech in it{0:#}", style::FAINT, path.display()),
        }
    }
    Ok(examples)
}

/// Asks the person to say it, a few times.
fn listen(words: &str, arguments: &VoiceTeachArguments) -> Result<Vec<Example>, Failure> {
    let named = arguments.microphone.as_deref().unwrap_or_default();
    let mut microphone = AudioSource::microphone(named)?;
    let times = arguments.times.max(1);
    let mut examples: Vec<Example> = Vec::new();
    let ask = |done: usize| complain!("say \"{words}\" ({} of {times})", done + 1);
    ask(0);
    utterances(&mut microphone, |utterance| {
        let length = utterance.until.saturating_sub(utterance.from).as_secs_f64();
        let above = utterance.above_noise;
        if above < TOO_QUIET {
            complain!("  only {above:.0} dB above the room: louder, or nearer to the microphone");
            return false;
        }
        say!("  heard {length:.1} s, {above:.0} dB above the room");
        examples.push(example_of(&utterance));
        if examples.len() >= times
            && let Some(odd) = odd_one(&examples)
        {
            complain!("  number {} was unlike the others; once more", odd + 1);
            examples.remove(odd);
        }
        if examples.len() < times {
            ask(examples.len());
        }
        examples.len() >= times
    })?;
    Ok(examples)
}

fn example_of(utterance: &Utterance) -> Example {
    Example::new(utterance.above_noise, &features(utterance.speech()))
}
