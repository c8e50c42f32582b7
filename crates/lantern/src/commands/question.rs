//! `lantern question`: one question to the person, in a process of its own, so that it can be ended at
//! any moment and holds nothing up. Prints the answer as JSON.

use std::io::stdin;
use std::os::fd::AsFd;

use lantern_desk::{Answer, Choice, Question, ask_person, pick_place};
use lantern_devices::{Front, Numbered, Services};
use serde_json::json;

use crate::arguments::{QuestionArguments, QuestionKind};
use crate::failure::{Failure, Status};
use crate::style::say;

pub fn run(arguments: QuestionArguments) -> Result<Status, Failure> {
    let choice = match arguments.kind {
        QuestionKind::Text => Choice::Text,
        QuestionKind::YesNo => Choice::YesNo,
        QuestionKind::One => Choice::One(arguments.choices),
        QuestionKind::Number => return number(arguments),
    };
    let failed = |source| Failure::System { what: "cannot be heard", source };
    let mut services = Services::new().map_err(failed)?;
    let question = Question::new(&arguments.asked, choice);
    let answer = match ask_person(question, |words| services.announce(words))? {
        Answer::Text(text) => json!(text),
        Answer::Truth(truth) => json!(truth),
        Answer::Picked(number) => json!(number),
        Answer::Dismissed => json!(null),
    };
    say!("{answer}");
    Ok(Status::Done)
}

/// Numbers what can be pressed in front, and presses what the person picks; the entries of a menu
/// that opens by it are numbered in turn.
fn number(arguments: QuestionArguments) -> Result<Status, Failure> {
    let mut choices = arguments.choices.into_iter();
    let title = choices.next().unwrap_or_default();
    let process = choices.next().and_then(|process| process.parse().ok());
    let front = Front { process, name: arguments.asked, title };
    let answer = match Numbered::of(front) {
        Err(error) => json!({ "error": error.line() }),
        Ok(mut numbered) => loop {
            let Answer::Picked(index) = pick_place(&numbered.places(), stdin().as_fd())? else {
                break json!(null);
            };
            match numbered.press(index) {
                Ok(true) => {}
                Ok(false) => break json!(""),
                Err(error) => break json!({ "error": error.line() }),
            }
        },
    };
    say!("{answer}");
    Ok(Status::Done)
}
