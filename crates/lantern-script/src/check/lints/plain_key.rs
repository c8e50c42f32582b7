//! Keys that everybody uses without modifiers, and that a rule takes in every program.

use lantern_model::{KeyCombination, KeySpec, TriggerKind};

use super::LintInput;
use crate::codes::Code;
use crate::{Finding, Span};

pub(super) fn plain_keys_taken(input: &LintInput<'_>, findings: &mut Vec<Finding>) {
    for (rule, head) in input.lowered.set.rules.iter().zip(&input.lowered.heads) {
        let anywhere = rule.filter.is_anywhere() && rule.condition.is_none();
        if rule.passes_key_through || !anywhere {
            continue;
        }
        for (trigger, span) in rule.triggers.iter().zip(&head.triggers) {
            if let TriggerKind::Key { combo, press, .. } = &trigger.kind
                && !press.must_wait()
                && plain_keys(combo) == 1
                && let Some(what) = lost_with(combo)
            {
                findings.push(taken(combo, *span, what));
            }
        }
    }
}

fn taken(combo: &KeyCombination, span: Span, what: &str) -> Finding {
    Finding::new(Code::PlainKey, span, format!("`{combo}` {what}"))
        .label("taken in every program")
        .help("add a modifier, a program (`in app`), a layer, or `passing`")
}

/// What a person can no longer do anywhere when a rule takes the key; nothing if it is no key that
/// everybody uses without modifiers.
fn lost_with(combo: &KeyCombination) -> Option<&'static str> {
    if combo.types_character() {
        return Some("can no longer be typed anywhere");
    }
    let [KeySpec::Named(key) | KeySpec::Placed(key)] = combo.0.as_slice() else { return None };
    match key.name() {
        "left-button" | "right-button" => Some("can no longer be clicked anywhere"),
        "wheel-up" | "wheel-down" => Some("no longer scrolls anywhere"),
        "enter" | "pad-enter" | "escape" | "tab" | "backspace" | "delete" => {
            Some("does nothing of its own in any program")
        }
        "up" | "down" | "left" | "right" => Some("no longer moves the cursor anywhere"),
        _ => None,
    }
}

/// How many of its keys are no modifiers.
pub(super) fn plain_keys(combo: &KeyCombination) -> usize {
    combo.0.iter().filter(|key| !key.is_modifier()).count()
}
