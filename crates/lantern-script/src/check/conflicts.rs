//! Rules held against one another and against the panic combination.

use std::collections::BTreeMap;

use lantern_model::{ContextFilter, KeyCombination, KeySpec, Rule, TriggerKind};

use super::LintInput;
use crate::codes::Code;
use crate::{Finding, Span};

/// A combination whatever the order of its modifiers, or of all its keys if some are plain.
pub(super) fn canonical(combo: &KeyCombination) -> Vec<KeySpec> {
    let plain = combo.0.iter().filter(|key| !key.is_modifier()).count();
    let mut keys = combo.0.clone();
    let ordered = if plain > 1 { keys.len() } else { keys.len().saturating_sub(1) };
    keys[..ordered].sort();
    keys.dedup();
    keys
}

/// What a trigger takes, so that no other rule of the place can have it; nothing if many rules may
/// fire at once.
fn taken_by(cause: &TriggerKind) -> Option<String> {
    let keys = |combo: &KeyCombination| format!("{:?}", canonical(combo));
    Some(match cause {
        TriggerKind::Key { combo, press, .. } => format!("key {} {press:?}", keys(combo)),
        TriggerKind::Keys { combos, .. } => {
            format!("keys {}", combos.iter().map(keys).collect::<Vec<_>>().join(","))
        }
        TriggerKind::Typed(text) => format!("typed {text}"),
        TriggerKind::Voice(phrase) => {
            let words: Vec<String> = phrase.split_whitespace().map(str::to_lowercase).collect();
            format!("voice {}", words.join(" "))
        }
        TriggerKind::Gesture { shape, holding } => format!("gesture {shape} {}", keys(holding)),
        _ => return None,
    })
}

/// How a trigger is shown in a message.
fn shown(cause: &TriggerKind) -> String {
    match cause {
        TriggerKind::Key { combo, .. } => combo.to_string(),
        TriggerKind::Keys { combos, .. } => {
            combos.iter().map(KeyCombination::to_string).collect::<Vec<_>>().join(", ")
        }
        TriggerKind::Typed(text) | TriggerKind::Voice(text) => text.clone(),
        TriggerKind::Gesture { shape, .. } => shape.clone(),
        _ => String::new(),
    }
}

/// Each place of a scope on its own, as words.
fn places(scope: &ContextFilter) -> Vec<String> {
    let listed = |names: &Option<Vec<String>>, what: &str| match names {
        None => vec![String::new()],
        Some(names) => names.iter().map(|name| format!(" in {what} \"{name}\"")).collect(),
    };
    let mut rest = scope.layer.map_or_else(String::new, |layer| format!(" in layer {}", layer.0));
    for app in &scope.not_apps {
        rest.push_str(&format!(" not in app \"{app}\""));
    }
    let mut places = Vec::new();
    for app in listed(&scope.apps, "app") {
        for title in listed(&scope.titles, "title") {
            for device in listed(&scope.input_devices, "device") {
                places.push(format!("{app}{title}{device}{rest}"));
            }
        }
    }
    places
}

/// Where a rule applies and on what condition; rules of one place with different conditions are
/// tried in the order of the file.
fn standings(rule: &Rule) -> Vec<(String, Option<String>)> {
    let condition = rule.condition.as_ref().map(|condition| format!("{condition:?}"));
    places(&rule.filter).into_iter().map(|place| (place, condition.clone())).collect()
}

/// Combinations that two rules, or a rule and the panic combination, want in the same context.
pub(super) fn conflicts(input: &LintInput<'_>) -> Vec<Finding> {
    let panic = canonical(&input.lowered.set.settings.panic);
    let mut taken: BTreeMap<(String, String, Option<String>), Span> = BTreeMap::new();
    let mut findings = Vec::new();
    let mut overlaps = Overlaps::default();
    for (rule, head) in input.lowered.set.rules.iter().zip(&input.lowered.heads) {
        for (trigger, span) in rule.triggers.iter().zip(&head.triggers) {
            if let TriggerKind::Key { combo, .. } = &trigger.kind
                && canonical(combo) == panic
            {
                findings.push(panic_taken(input, *span));
                continue;
            }
            let Some(what) = taken_by(&trigger.kind) else { continue };
            for (place, condition) in standings(rule) {
                let on = if condition.is_some() { " on the same condition" } else { "" };
                match taken.get(&(what.clone(), place.clone(), condition.clone())) {
                    Some(earlier) => {
                        let place = if place.is_empty() { " everywhere" } else { &place };
                        let place = format!("{place}{on}");
                        overlaps.add(*span, *earlier, place, shown(&trigger.kind));
                        break;
                    }
                    None => {
                        taken.insert((what.clone(), place, condition), *span);
                    }
                }
            }
        }
    }
    for (remap, span) in input.lowered.set.remaps.iter().zip(&input.lowered.remap_spans) {
        if canonical(&remap.from) == panic {
            findings.push(panic_taken(input, *span));
        }
        let what = format!("remap {:?}", canonical(&remap.from));
        for place in places(&remap.filter) {
            let key = (what.clone(), place.clone(), None);
            if let Some(earlier) = taken.insert(key, *span) {
                let place = if place.is_empty() { " everywhere" } else { &place };
                overlaps.add(*span, earlier, place.to_owned(), remap.from.to_string());
            }
        }
    }
    findings.extend(overlaps.findings());
    findings
}

/// What two heads both take: two sets of keys may have many keys in common.
#[derive(Default)]
struct Overlaps(BTreeMap<(Span, Span, String), Vec<String>>);

impl Overlaps {
    fn add(&mut self, span: Span, earlier: Span, place: String, what: String) {
        self.0.entry((span, earlier, place)).or_default().push(what);
    }

    /// One finding for each two heads and place.
    fn findings(self) -> impl Iterator<Item = Finding> {
        self.0
            .into_iter()
            .map(|((span, earlier, place), what)| taken_twice(&what, span, earlier, &place))
    }
}

/// The first of some keys or texts, with the number of the others.
fn listed(what: &[String]) -> String {
    const MOST: usize = 4;
    let quoted: Vec<String> = what.iter().take(MOST).map(|one| format!("`{one}`")).collect();
    match (what.len().saturating_sub(MOST), quoted.split_last()) {
        (0, Some((last, [_, ..]))) => {
            format!("{} and {last}", quoted[..quoted.len() - 1].join(", "))
        }
        (0, _) => quoted.join(", "),
        (others, _) => format!("{} and {others} more", quoted.join(", ")),
    }
}

fn panic_taken(input: &LintInput<'_>, span: Span) -> Finding {
    let combo = &input.lowered.set.settings.panic;
    let finding = Finding::new(
        Code::TakenByPanic,
        span,
        format!("`{combo}` stops everything; no rule can take it"),
    )
    .label("the panic combination")
    .help("give the rule another key, or set `panic` to another combination in `settings`");
    match input.lowered.panic_span {
        Some(panic) => finding.other(panic, "set here"),
        None => finding,
    }
}

fn taken_twice(what: &[String], span: Span, earlier: Span, place: &str) -> Finding {
    let keys = listed(what);
    let message = if span == earlier {
        format!("{keys} stands twice in one head")
    } else {
        format!("two rules take {keys}{place}")
    };
    Finding::new(Code::TakenTwice, span, message)
        .label("taken again")
        .other(earlier, "taken first")
        .help(
            "only one could fire: give one another key, a program (`in app`) or a condition (`if`)",
        )
}
