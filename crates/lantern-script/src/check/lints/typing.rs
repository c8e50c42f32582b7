//! Keys of plain typing that rules take or make wait.

use lantern_model::{Cause, Combo, Key, KeyKind, KeyRef, Manner, Rule};

use super::Checker;
use crate::codes::Code;
use crate::{Finding, Span};

impl Checker<'_> {
    pub(super) fn look_for_slow_typing(&self, findings: &mut Vec<Finding>) {
        for (rule, head) in self.set.rules.iter().zip(&self.heads) {
            if rule.passing || rule.scope.layer.is_some() {
                continue;
            }
            for (trigger, span) in rule.triggers.iter().zip(&head.triggers) {
                let finding = match &trigger.cause {
                    Cause::Key { combo, manner, .. } => self.about_key(rule, combo, *manner, *span),
                    Cause::Keys { combos, .. } => {
                        let first = combos.first().filter(|combo| is_typing(combo));
                        first.map(|combo| slows(combo, *span, "the next key of the sequence"))
                    }
                    _ => None,
                };
                findings.extend(finding);
            }
        }
    }

    fn about_key(&self, rule: &Rule, combo: &Combo, manner: Manner, span: Span) -> Option<Finding> {
        if !is_typing(combo) {
            return None;
        }
        let together = combo.0.iter().filter(|key| !key.is_modifier()).count() > 1;
        if together {
            let wait = lantern_model::Value::Duration(self.set.settings.together);
            return Some(slows(combo, span, &format!("the others, for {wait}")));
        }
        if manner.must_wait() {
            return Some(slows(combo, span, "what becomes of the press"));
        }
        let anywhere = rule.scope.is_anywhere() && rule.condition.is_none();
        anywhere.then(|| {
            Finding::new(
                Code::PlainLetter,
                span,
                format!("`{combo}` can no longer be typed anywhere"),
            )
            .label("a key of plain typing, in every program")
            .help("add a modifier, a program (`in app`), a layer, or `passing`")
        })
    }
}

fn slows(combo: &Combo, span: Span, waits_for: &str) -> Finding {
    Finding::new(Code::SlowsTyping, span, format!("typing `{combo}` waits for {waits_for}"))
        .label("a key of plain typing")
        .help("take keys that are not typed, add a modifier, or put the rule into a layer")
}

/// Whether it is of keys that give characters, with nothing but shift held.
fn is_typing(combo: &Combo) -> bool {
    let typed =
        |key: &Key| matches!(key.kind(), KeyKind::Letter | KeyKind::Digit | KeyKind::Punctuation);
    let (modifiers, plain): (Vec<&KeyRef>, Vec<&KeyRef>) =
        combo.0.iter().partition(|key| key.is_modifier());
    let only_shift = modifiers.iter().all(|key| key.to_string().ends_with("shift"));
    let any_typed = plain.iter().any(|key| match key {
        KeyRef::Named(key) | KeyRef::Placed(key) => typed(key),
        KeyRef::Character(_) => true,
        KeyRef::Either(_) => false,
    });
    only_shift && any_typed
}
