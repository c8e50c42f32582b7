//! Rules that can never fire.

use std::collections::BTreeMap;

use lantern_model::code::{Expr, Operator};
use lantern_model::{ContextFilter, KeyCombination, KeySpec, LayerId, TriggerKind, Value};

use super::LintInput;
use crate::check::conflicts::canonical;
use crate::check::names::ItemKind;
use crate::codes::Code;
use crate::{Finding, Span};

pub(super) fn never_firing(input: &LintInput<'_>, findings: &mut Vec<Finding>) {
    unentered_layers(input, findings);
    remapped_keys(input, findings);
    hidden_sequences(input, findings);
    hidden_abbreviations(input, findings);
    for (rule, head) in input.lowered.set.rules.iter().zip(&input.lowered.heads) {
        if rule.condition.as_ref().and_then(known_truth) == Some(false) {
            findings.push(never(head.span, "its condition is never true", "never true"));
        }
        let shut = |app: &String| rule.filter.not_apps.contains(app);
        if rule.filter.apps.as_ref().is_some_and(|apps| !apps.is_empty() && apps.iter().all(shut)) {
            let why = "the programs it is for are those it is not for";
            findings.push(never(head.span, why, "no place is left"));
        }
    }
}

/// Layers that no step enters.
fn unentered_layers(input: &LintInput<'_>, findings: &mut Vec<Finding>) {
    for (name, entry) in input.names.all(ItemKind::Layer) {
        if input.lowered.entered_layers.contains(&LayerId(entry.index))
            || input.broken.contains(name)
        {
            continue;
        }
        let why = format!("no step enters the layer `{name}`");
        let finding = never(entry.span, &why, "never entered");
        findings.push(finding.help(format!("somewhere write `enter layer {name}`")));
    }
}

/// Keys that a remap takes before any rule sees them.
fn remapped_keys(input: &LintInput<'_>, findings: &mut Vec<Finding>) {
    let mut by_key: BTreeMap<KeySpec, Vec<(&ContextFilter, &KeyCombination, Span)>> =
        BTreeMap::new();
    let rules =
        if input.lowered.set.remaps.is_empty() { &[] } else { input.lowered.set.rules.as_slice() };
    for (rule, head) in rules.iter().zip(&input.lowered.heads) {
        for (trigger, place) in rule.triggers.iter().zip(&head.triggers) {
            if let TriggerKind::Key { combo, .. } = &trigger.kind
                && let Some(key) = combo.last()
            {
                by_key.entry(key).or_default().push((&rule.filter, combo, *place));
            }
        }
    }
    for (remap, span) in input.lowered.set.remaps.iter().zip(&input.lowered.remap_spans) {
        let same_key = remap.from.last().and_then(|key| by_key.get(&key));
        for (scope, combo, place) in same_key.into_iter().flatten() {
            if covers(&remap.filter, scope) && takes(&remap.from, combo) {
                let why = format!("`{}` is another key here", remap.from);
                let finding = never(*place, &why, "never seen by a rule");
                findings.push(
                    finding.other(*span, "turned into another here").help(
                        "rules see what a remap gives: name that key, or leave the remap away",
                    ),
                );
            }
        }
    }
}

/// Sequences that begin with another, which is through before them.
fn hidden_sequences(input: &LintInput<'_>, findings: &mut Vec<Finding>) {
    let mut known: BTreeMap<Vec<Vec<KeySpec>>, Vec<(&ContextFilter, Span)>> = BTreeMap::new();
    for (rule, head) in input.lowered.set.rules.iter().zip(&input.lowered.heads) {
        for (trigger, span) in rule.triggers.iter().zip(&head.triggers) {
            if let TriggerKind::Keys { combos, .. } = &trigger.kind {
                let keys = combos.iter().map(canonical).collect();
                known.entry(keys).or_default().push((&rule.filter, *span));
            }
        }
    }
    for (longer, places) in &known {
        for (scope, span) in places {
            let shorter = (1..longer.len()).filter_map(|count| known.get(&longer[..count]));
            let hides = shorter.flatten().find(|(outer, _)| covers(outer, scope));
            if let Some((_, first)) = hides {
                let finding = never(*span, "a shorter sequence is through before it", "longer");
                findings.push(
                    finding.other(*first, "this fires first").help("let them begin differently"),
                );
            }
        }
    }
}

/// Abbreviations that begin with another, which is replaced before they are typed.
fn hidden_abbreviations(input: &LintInput<'_>, findings: &mut Vec<Finding>) {
    let mut known: BTreeMap<&str, Vec<(&ContextFilter, Span)>> = BTreeMap::new();
    for (rule, head) in input.lowered.set.rules.iter().zip(&input.lowered.heads) {
        for (trigger, span) in rule.triggers.iter().zip(&head.triggers) {
            if let TriggerKind::Typed(text) = &trigger.kind {
                known.entry(text).or_default().push((&rule.filter, *span));
            }
        }
    }
    for (text, places) in &known {
        let starts = text.char_indices().skip(1).map(|(at, _)| &text[..at]);
        for shorter in starts.filter_map(|start| known.get(start)).flatten() {
            for (_, span) in places.iter().filter(|(scope, _)| covers(shorter.0, scope)) {
                let finding =
                    never(*span, "a shorter one is replaced before it is typed", "longer");
                findings.push(
                    finding.other(shorter.1, "this fires first").help("let them begin differently"),
                );
            }
        }
    }
}

fn never(span: Span, why: &str, label: &str) -> Finding {
    Finding::new(Code::NeverFires, span, format!("this never fires: {why}"))
        .label(label)
        .help("mend what keeps it from firing, or remove it")
}

/// Whether everywhere that `inner` applies, `outer` applies as well.
pub(super) fn covers(outer: &ContextFilter, inner: &ContextFilter) -> bool {
    outer.is_anywhere() || outer == inner
}

/// Whether a remap of `from` takes every press of `combo`: it is under any further modifiers.
fn takes(from: &KeyCombination, combo: &KeyCombination) -> bool {
    from.last() == combo.last()
        && from.modifiers().iter().all(|key| combo.modifiers().contains(key))
}

/// What a condition is before anything runs, if that can be known.
pub(super) fn known_truth(expr: &Expr) -> Option<bool> {
    match expr {
        Expr::Value(Value::Truth(truth)) => Some(*truth),
        Expr::Not(inner) => known_truth(inner).map(|truth| !truth),
        Expr::Binary(Operator::And, left, right) => match (known_truth(left), known_truth(right)) {
            (Some(false), _) | (_, Some(false)) => Some(false),
            (Some(true), Some(true)) => Some(true),
            _ => None,
        },
        Expr::Binary(Operator::Or, left, right) => match (known_truth(left), known_truth(right)) {
            (Some(true), _) | (_, Some(true)) => Some(true),
            (Some(false), Some(false)) => Some(false),
            _ => None,
        },
        Expr::Binary(operator, left, right) => {
            let (Expr::Value(left), Expr::Value(right)) = (left.as_ref(), right.as_ref()) else {
                return None;
            };
            match (operator, left, right) {
                (Operator::Equal, ..) => Some(left == right),
                (Operator::Unequal, ..) => Some(left != right),
                (Operator::Less, Value::Number(a), Value::Number(b)) => Some(a < b),
                (Operator::Greater, Value::Number(a), Value::Number(b)) => Some(a > b),
                _ => None,
            }
        }
        _ => None,
    }
}
