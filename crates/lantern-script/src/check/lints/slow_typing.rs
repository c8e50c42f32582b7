//! Keys of plain typing that must wait, as they may become something else.

use lantern_model::{KeyCombination, PressKind, TriggerKind, Value};

use super::LintInput;
use super::plain_key::plain_keys;
use crate::codes::Code;
use crate::{Finding, Span};

pub(super) fn slow_typing(input: &LintInput<'_>, findings: &mut Vec<Finding>) {
    for (rule, head) in input.lowered.set.rules.iter().zip(&input.lowered.heads) {
        if rule.passes_key_through || rule.filter.layer.is_some() {
            continue;
        }
        for (trigger, span) in rule.triggers.iter().zip(&head.triggers) {
            let waiting = match &trigger.kind {
                TriggerKind::Key { combo, press, .. } => {
                    waits_for(input, combo, *press).map(|what| (combo, what))
                }
                TriggerKind::Keys { combos, .. } => {
                    combos.first().map(|combo| (combo, "the next key of the sequence".to_owned()))
                }
                _ => None,
            };
            if let Some((combo, what)) = waiting.filter(|(combo, _)| combo.types_character()) {
                findings.push(slows(combo, *span, &what));
            }
        }
    }
}

/// What delays the delivery of a key, if anything does.
fn waits_for(input: &LintInput<'_>, combo: &KeyCombination, press: PressKind) -> Option<String> {
    if plain_keys(combo) > 1 {
        let wait = Value::Duration(input.lowered.set.settings.chord_window);
        return Some(format!("the others, for {wait}"));
    }
    press.must_wait().then(|| "what becomes of the press".to_owned())
}

fn slows(combo: &KeyCombination, span: Span, waits_for: &str) -> Finding {
    Finding::new(Code::SlowsTyping, span, format!("typing `{combo}` waits for {waits_for}"))
        .label("a key of plain typing")
        .help("take keys that are not typed, add a modifier, or put the rule into a layer")
}
