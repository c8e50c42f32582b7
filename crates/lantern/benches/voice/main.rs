//! How well speech is understood, and how rarely talk is taken for a command.
//!
//! `cargo bench -p cold-lantern --bench voice [-- SENTENCES] [model | taught]
//! [commands | called | uncalled] [fresh]` has the system's speech programs say the phrases of a bench and
//! sentences of other talk (with the attention word asked for, or without), adds noise, and hears all of
//! it by each recogniser. The limits in the code were set on voices and sentences of the first half
//! ([`said::TUNING`]); what is printed is the other half. `fresh` takes sentences behind the first 9,000, of
//! which what was taken for a command was looked at. It needs flite and the speech library with its
//! English model.

#[path = "../figure/mod.rs"]
mod figure;
mod heard;
mod kept;
mod plot;
mod said;

use std::io::Write as _;
use std::ops::Range;
use std::time::Instant;

use heard::Recogniser;
use kept::Store;
use plot::{BackgroundTalk, Curve};
use said::{Noise, Voice};

/// The first sentence that has not been used before.
const FRESH: usize = 9000;

fn main() {
    let given: Vec<String> =
        std::env::args().skip(1).filter(|word| !word.starts_with('-')).collect();
    let sentences = given.iter().find_map(|word| word.parse().ok()).unwrap_or(3000);
    let tuning = given.iter().any(|word| word == "tuning");
    let voices = if tuning { said::TUNING } else { said::JUDGING };
    if let Err(missing) = said::check() {
        eprintln!("{missing}");
        std::process::exit(2);
    }
    let store = Store::of(tuning);
    let first = if given.iter().any(|word| word == "fresh") { FRESH } else { 0 };
    println!("{} phrases, voices {}", said::PHRASES.len(), names(voices));
    let mut recognisers = vec![Recogniser::Model, Recogniser::Taught];
    recognisers.retain(|one| wants(&given, &["model", "taught"], one.name()));
    println!("\nrecogniser  noise    accepted  another  not understood");
    let part = |part: &str| wants(&given, &["commands", "called", "uncalled"], part);
    for &recogniser in recognisers.iter().filter(|_| part("commands")) {
        for noise in [Noise::None, Noise::Decibels(20.0), Noise::Decibels(10.0)] {
            let curve = commands(recogniser, noise, voices);
            store.change(|kept| kept.add_curve(curve));
        }
    }
    println!("\nrecogniser  attention  noise    hours  seconds  taken for a command  an hour");
    for &recogniser in recognisers.iter().filter(|_| sentences > 0) {
        for (way, called, noise) in [
            ("uncalled", false, Noise::Decibels(35.0)),
            ("called", true, Noise::Decibels(35.0)),
            ("uncalled", false, Noise::Decibels(10.0)),
        ] {
            if !part(way) {
                continue;
            }
            let talk = talk(recogniser, called, noise, voices, first..first + sentences);
            store.change(|kept| kept.add_talk(talk));
        }
    }
    let (figure, kept) = (store.figure(), store.read());
    figure::write(&plot::draw(&kept.curves, &kept.talks), &figure);
    println!("the figure, with the parts that were heard before, is {}", figure.display());
}

/// Whether that one of several is to be measured: all of them are, if none is named.
fn wants(given: &[String], of: &[&str], one: &str) -> bool {
    let named = |word: &&str| given.iter().any(|given| given == word);
    !of.iter().any(named) || named(&one)
}

fn names(voices: &[Voice]) -> String {
    voices.iter().map(|voice| voice.name()).collect::<Vec<_>>().join(", ")
}

/// Says every phrase with every voice; what was made of them.
fn commands(recogniser: Recogniser, noise: Noise, voices: &[Voice]) -> Curve {
    let total = said::PHRASES.len() * voices.len();
    let name = format!("{}, {}", recogniser.name(), noise.name());
    let mut curve = Curve { name, recogniser, noise, right: Vec::new(), wrong: Vec::new() };
    for (number, voice) in voices.iter().enumerate() {
        let mut hearer = recogniser.open(true, voice);
        for (at, phrase) in said::PHRASES.iter().enumerate() {
            progress("commands", number * said::PHRASES.len() + at, total);
            let words = format!("lantern {phrase}");
            let sound = noise.over(&voice.say(&words, at), (number * 1000 + at) as u32);
            match heard::first(&mut hearer, &sound) {
                Some(heard) if heard.words == words => curve.right.push(heard.score),
                heard => curve.wrong.push(heard.map_or(0.0, |heard| heard.score)),
            }
        }
    }
    let (accepted, another) = curve.at(0.5);
    println!(
        "\r{:<10}  {:<7} {accepted:>8.1} % {another:>6.1} % {:>13.1} %",
        recogniser.name(),
        noise.name(),
        100.0 - accepted - another,
    );
    curve
}

/// Hears sentences of other talk; how sure each of them would be a command.
fn talk(
    recogniser: Recogniser,
    called: bool,
    noise: Noise,
    voices: &[Voice],
    sentences: Range<usize>,
) -> BackgroundTalk {
    let began = Instant::now();
    let mut talk = BackgroundTalk { recogniser, called, noise, hours: 0.0, scores: Vec::new() };
    let mut taken = Vec::new();
    let mut done = 0;
    for (number, voice) in voices.iter().enumerate() {
        let mut hearer = recogniser.open(called, voice);
        for at in sentences.clone().skip(number).step_by(voices.len()) {
            progress("talk", done, sentences.len());
            done += 1;
            let sentence = said::sentence(at);
            let sound = noise.over(&voice.say(&sentence, at), at as u32);
            talk.hours += sound.len() as f64 / lantern_speech::RATE as f64 / 3600.0;
            for heard in heard::all(&mut hearer, &sound) {
                talk.scores.push(heard.score);
                if heard.counts {
                    taken.push((sentence.clone(), heard));
                }
            }
        }
    }
    println!(
        "\r{:<10}  {:<9} {:>6} {:>7.2} {:>8.0} {:>20} {:>8.2}",
        recogniser.name(),
        if called { "lantern" } else { "none" },
        noise.name(),
        talk.hours,
        began.elapsed().as_secs_f64(),
        taken.len(),
        taken.len() as f64 / talk.hours
    );
    for (sentence, heard) in taken.iter().take(5) {
        println!("    \"{sentence}\" as \"{}\", {:.0} % sure", heard.words, 100.0 * heard.score);
    }
    talk
}

/// A bar on standard error.
fn progress(what: &str, done: usize, all: usize) {
    let filled = 30 * done / all.max(1);
    let bar: String = (0..30).map(|at| if at < filled { '#' } else { '.' }).collect();
    let mut out = std::io::stderr();
    let _ = write!(out, "\r{bar} {what} {done} of {all} ");
    let _ = out.flush();
}
