//! `lantern voice wrong`: what was said last was understood wrongly; what to learn from it.

use std::io::{BufRead as _, IsTerminal as _};

use lantern_speech::{Example, TrainedPhrase, heard_words};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::arguments::VoiceWrongArguments;
use crate::commands::print_json;
use crate::failure::{Failure, Status};
use crate::ipc::client::IpcClient;
use crate::output::{complain, say};
use crate::style;
use crate::text::{span_words, sureness};
use crate::trained_phrases::Taught;

/// So many other phrases are offered.
const OFFERED: usize = 9;

/// What was said last.
#[derive(Deserialize)]
struct Last {
    words: String,
    score: f64,
    counted: bool,
    outcome: String,
    seconds: f64,
    others: Vec<String>,
    example: Example,
}

/// What is to be learnt.
enum Lesson {
    /// It means nothing.
    Never,
    /// It was that phrase.
    Meant(String),
}

pub fn run(arguments: &VoiceWrongArguments) -> Result<Status, Failure> {
    let told = IpcClient::reach()?.ask("last-said", &json!({}))?;
    if arguments.json {
        let mut told = told;
        if let Value::Object(fields) = &mut told {
            fields.remove("example");
        }
        print_json(&told);
        return Ok(Status::Done);
    }
    let unread =
        || Failure::Refused { message: "it answers in words of another version".to_owned() };
    let last: Last = serde_json::from_value(told).map_err(|_| unread())?;
    show(&last);
    let lesson = match (&arguments.meant, arguments.never) {
        (Some(phrase), _) => Some(Lesson::Meant(heard_words(phrase).join(" "))),
        (None, true) => Some(Lesson::Never),
        (None, false) if std::io::stdin().is_terminal() => ask(&last),
        (None, false) => None,
    };
    let Some(lesson) = lesson else {
        complain!("nothing was learnt");
        return Ok(Status::Found);
    };
    learn(lesson, last.example)?;
    Ok(Status::Done)
}

fn show(last: &Last) {
    let words = if last.words.is_empty() { "nothing it knows" } else { &last.words };
    let word = if last.counted { style::WENT_OUT } else { style::FAINT };
    say!("{} ago it heard \"{words}\", {} sure", span_words(last.seconds), sureness(last.score));
    say!("  {word}{}{word:#}", last.outcome);
}

/// Shows what can be learnt, and lets the person choose by one key and enter.
fn ask(last: &Last) -> Option<Lesson> {
    let others: Vec<&String> =
        last.others.iter().filter(|other| **other != last.words).take(OFFERED).collect();
    say!("\nIt was");
    for (number, other) in others.iter().enumerate() {
        say!("  {}{}{0:#}  {other}", style::HEAD, number + 1);
    }
    if !last.words.is_empty() {
        say!("  {}t{0:#}  indeed \"{}\": learn how I say it", style::HEAD, last.words);
    }
    say!("  {}n{0:#}  nothing: never again take this for a command", style::HEAD);
    say!("  anything else learns nothing");
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line).ok()?;
    match line.trim() {
        "n" => Some(Lesson::Never),
        "t" if !last.words.is_empty() => Some(Lesson::Meant(last.words.clone())),
        number => {
            let number: usize = number.parse().ok()?;
            others.get(number.checked_sub(1)?).map(|other| Lesson::Meant((*other).clone()))
        }
    }
}

/// Adds what was said to what was taught.
fn learn(lesson: Lesson, example: Example) -> Result<(), Failure> {
    let mut taught = Taught::open()?;
    let path = taught.path.clone();
    let words = match &lesson {
        Lesson::Never => "",
        Lesson::Meant(words) => words.as_str(),
    };
    let count = match taught.phrases.iter_mut().find(|phrase| phrase.words == words) {
        Some(phrase) => {
            phrase.examples.push(example);
            phrase.examples.len()
        }
        None => {
            let words = words.to_owned();
            taught.phrases.push(TrainedPhrase { words, examples: vec![example] });
            1
        }
    };
    taught.save()?;
    match &lesson {
        Lesson::Never => say!("learnt: what sounds like this means nothing"),
        Lesson::Meant(words) => say!("learnt: this is \"{words}\" ({count} examples of it now)"),
    }
    complain!(
        "{}kept in {}; `lantern voice teach {words:?} --forget` takes it back{0:#}",
        style::FAINT,
        path.display()
    );
    Ok(())
}
