//! `lantern question`: one question to the person, in a process of its own, so that it can be ended at
//! any moment and holds nothing up. Prints the answer as JSON.

use lantern_desk::{Answer, Choice, Question, ask_person};
use serde_json::json;

use crate::arguments::{QuestionArguments, QuestionKind};
use crate::failure::{Failure, Status};
use crate::style::say;

pub fn run(arguments: QuestionArguments) -> Result<Status, Failure> {
    let choice = match arguments.kind {
        QuestionKind::Text => Choice::Text,
        QuestionKind::YesNo => Choice::YesNo,
        QuestionKind::One => Choice::One(arguments.choices),
    };
    let answer = match ask_person(Question::new(&arguments.asked, choice))? {
        Answer::Text(text) => json!(text),
        Answer::Truth(truth) => json!(truth),
        Answer::Picked(number) => json!(number),
        Answer::Dismissed => json!(null),
    };
    say!("{answer}");
    Ok(Status::Done)
}
