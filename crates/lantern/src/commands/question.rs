//! `lantern question`: one question to the person, in a process of its own, so that it can be ended at
//! any moment and holds nothing up. Reads the question as a line of JSON, and prints the answer as JSON.

use std::io::stdin;
use std::os::fd::AsFd;

use lantern_backend::{Dialog, DialogAnswer, DialogChoice};
use lantern_services::Services;
use lantern_session::{Front, NumberedElements};
use lantern_x11::{ask_person, pick_place};
use serde_json::json;

use crate::arguments::{QuestionArguments, QuestionKind};
use crate::failure::{Failure, Status};
use crate::output::say;
use crate::question::Asked;

pub fn run(arguments: QuestionArguments) -> Result<Status, Failure> {
    let asked = Asked::read()?;
    let choice = match arguments.kind {
        QuestionKind::Text => DialogChoice::Text,
        QuestionKind::YesNo => DialogChoice::YesNo,
        QuestionKind::One => DialogChoice::One(asked.choices),
        QuestionKind::Number => return number(asked),
    };
    let failed = |source| Failure::System { what: "cannot be heard", source };
    let mut services = Services::new().map_err(failed)?;
    let question = Dialog::new(&asked.asked, choice);
    let answer = match ask_person(question, |words| services.announce(words))? {
        DialogAnswer::Text(text) => json!(text),
        DialogAnswer::Truth(truth) => json!(truth),
        DialogAnswer::Picked(number) => json!(number),
        DialogAnswer::Dismissed => json!(null),
    };
    say!("{answer}");
    Ok(Status::Done)
}

/// Numbers what can be pressed in front, and presses what the person picks; the entries of a menu
/// that opens by it are numbered in turn.
fn number(asked: Asked) -> Result<Status, Failure> {
    let mut choices = asked.choices.into_iter();
    let title = choices.next().unwrap_or_default();
    let process = choices.next().and_then(|process| process.parse().ok());
    let front = Front { process, name: asked.asked, title };
    let answer = match NumberedElements::of(front) {
        Err(error) => json!({ "error": error.line() }),
        Ok(mut numbered) => loop {
            let DialogAnswer::Picked(index) = pick_place(&numbered.places(), stdin().as_fd())?
            else {
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
