//! Rules held against one another and against the panic combination.

use std::collections::BTreeMap;

use lantern_model::{Combo, KeyRef, Manner, Rule};

use super::Checker;
use crate::codes::Code;
use crate::{Finding, Span};

/// A combination whatever the order of its modifiers: those, and the last key.
type Canonical = (Vec<KeyRef>, Option<KeyRef>);

/// Where a rule applies and on what condition, as far as others could stand in its way.
type Standing<'r> = (Option<&'r str>, Option<String>);

fn canonical(combo: &Combo) -> Canonical {
    let mut modifiers = combo.modifiers().to_vec();
    modifiers.sort();
    modifiers.dedup();
    (modifiers, combo.last())
}

/// What two rules must share to stand in each other's way: where they apply and on what condition.
/// Rules of one place with different conditions are tried in the order of the file.
fn standings(rule: &Rule) -> Vec<Standing<'_>> {
    let condition = rule.condition.as_ref().map(|condition| format!("{condition:?}"));
    match &rule.apps {
        None => vec![(None, condition)],
        Some(apps) => apps.iter().map(|app| (Some(app.as_str()), condition.clone())).collect(),
    }
}

impl Checker<'_> {
    pub(super) fn check_conflicts(&mut self) {
        let panic = canonical(&self.set.settings.panic);
        let mut by_combo: BTreeMap<(Canonical, bool), BTreeMap<Standing<'_>, Span>> =
            BTreeMap::new();
        let mut findings = Vec::new();
        for (rule, spans) in self.set.rules.iter().zip(&self.spans) {
            for (trigger, span) in rule.triggers.iter().zip(spans) {
                let combo = canonical(&trigger.combo);
                if combo == panic {
                    findings.push(self.panic_taken(*span));
                    continue;
                }
                let taken =
                    by_combo.entry((combo, trigger.manner == Manner::Released)).or_default();
                for standing in standings(rule) {
                    match taken.get(&standing) {
                        Some(earlier) => {
                            findings.push(taken_twice(&trigger.combo, *span, *earlier, &standing));
                            break;
                        }
                        None => {
                            taken.insert(standing, *span);
                        }
                    }
                }
            }
        }
        self.findings.append(&mut findings);
    }

    fn panic_taken(&self, span: Span) -> Finding {
        let combo = &self.set.settings.panic;
        let finding = Finding::new(
            Code::TakenByPanic,
            span,
            format!("`{combo}` stops everything; no rule can take it"),
        )
        .label("the panic combination")
        .help("give the rule another key, or set `panic` to another combination in `settings`");
        match self.panic_span {
            Some(panic) => finding.other(panic, "set here"),
            None => finding,
        }
    }
}

fn taken_twice(
    combo: &Combo,
    span: Span,
    earlier: Span,
    (app, condition): &Standing<'_>,
) -> Finding {
    let place = app.map_or_else(|| "everywhere".to_owned(), |app| format!("in app \"{app}\""));
    let on = if condition.is_some() { " on the same condition" } else { "" };
    let message = if span == earlier {
        format!("`{combo}` stands twice in one head")
    } else {
        format!("two rules take `{combo}` {place}{on}")
    };
    Finding::new(Code::TakenTwice, span, message)
        .label("taken again")
        .other(earlier, "taken first")
        .help(
            "only one could fire: give one another key, a program (`in app`) or a condition (`if`)",
        )
}
