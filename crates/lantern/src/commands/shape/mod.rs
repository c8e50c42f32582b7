//! `lantern shape`: shapes that are drawn, seen, tried and compared.

mod alike;
mod draw;
mod record;
mod trial;

use lantern_model::{RuleSet, TriggerKind};

use crate::arguments::ShapeCommand;
use crate::failure::{Failure, Status};

pub fn run(command: ShapeCommand) -> Result<Status, Failure> {
    match command {
        ShapeCommand::Draw(arguments) => draw::run(&arguments),
        ShapeCommand::Record(arguments) => record::run(&arguments),
        ShapeCommand::Try(arguments) => trial::run(&arguments),
        ShapeCommand::Alike(arguments) => alike::run(&arguments),
    }
}

/// What a shape fires, in words: nothing if no rule wants it.
fn outcome(rules: &RuleSet, shape: &str) -> Vec<String> {
    let wants = |cause: &TriggerKind| matches!(cause, TriggerKind::Gesture { shape: wanted, .. } if wanted == shape);
    let of_rule = |rule: &lantern_model::Rule| {
        let found = rule.triggers.iter().find(|trigger| wants(&trigger.kind))?;
        let TriggerKind::Gesture { holding, .. } = &found.kind else { return None };
        Some(format!("holding {holding}: {}", rule.label))
    };
    rules.rules.iter().filter_map(of_rule).collect()
}
