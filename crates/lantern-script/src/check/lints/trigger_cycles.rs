//! Rules that fire themselves, or each other in a circle.
//!
//! What a rule sends as keys fires no rule, so circles of keys only reach the program; circles of
//! messages, of windows and of layers' own windows are real.

use std::collections::{BTreeMap, BTreeSet};

use lantern_model::code::{Expr, KeyCombinationExpr, Op};
use lantern_model::{
    CommandKind, DeviceId, KeyCombination, KeySpec, RoutineId, TriggerKind, Value, topic_fits,
};

use super::LintInput;
use crate::Finding;
use crate::check::{conflicts::canonical, graph};
use crate::codes::Code;

/// What a step sends, if it can fire a rule.
enum Sent {
    Keys(KeyCombination),
    Text(String),
    Message(DeviceId, String),
    Front(String),
    Opened(String),
}

pub(super) fn trigger_cycles(input: &LintInput<'_>, findings: &mut Vec<Finding>) {
    let sends: Vec<Vec<Sent>> =
        input.lowered.set.rules.iter().map(|rule| sent_by(input, rule.body)).collect();
    if sends.iter().all(Vec::is_empty) {
        return;
    }
    let listeners = listeners(input);
    let next: Vec<Vec<usize>> =
        sends.iter().map(|sent| fired_by(input, sent, &listeners)).collect();
    let on_cycle = graph::on_cycle(&next);
    for (start, head) in input.lowered.heads.iter().enumerate() {
        if !on_cycle[start] {
            continue;
        }
        let Some(way) = circle(start, &next) else { continue };
        // Each circle is reported once, at its first rule.
        if way.iter().any(|rule| *rule < start) {
            continue;
        }
        let keys_only = sends[start].iter().all(|s| matches!(s, Sent::Keys(_) | Sent::Text(_)));
        let message = if way.len() == 1 {
            "this rule sends what it waits for".to_owned()
        } else {
            format!("{} rules send each other what they wait for", way.len())
        };
        let help = if keys_only {
            "what a rule types fires no rule, so it only reaches the program; to let the program have the key as well say `passing`"
        } else {
            "send something else, or add a condition that ends it"
        };
        let mut finding = Finding::new(Code::FiresItself, head.span, message)
            .label("sends its own trigger")
            .help(help);
        for other in way.iter().filter(|rule| **rule != start) {
            finding = finding.other(input.lowered.heads[*other].span, "by way of this one");
        }
        findings.push(finding);
    }
}

fn sent_by(input: &LintInput<'_>, body: RoutineId) -> Vec<Sent> {
    let mut sent = Vec::new();
    let mut open = vec![body.0];
    let mut seen = BTreeSet::new();
    while let Some(number) = open.pop() {
        if !seen.insert(number) {
            continue;
        }
        for op in &input.lowered.set.routines[number].ops {
            match op {
                Op::Call(RoutineId(called), _) => open.push(*called),
                Op::Tap { combos, .. } => {
                    sent.extend(
                        combos.iter().filter_map(KeyCombinationExpr::fixed).map(Sent::Keys),
                    );
                }
                Op::Press(combo) => sent.extend(combo.fixed().map(Sent::Keys)),
                Op::Type { text: Expr::Value(Value::Text(text)), .. } => {
                    sent.push(Sent::Text(text.clone()));
                }
                Op::With(Expr::Value(Value::Text(app))) => {
                    sent.push(Sent::Front(app.to_lowercase()))
                }
                Op::Command { kind: verb, arguments: words, .. } => {
                    sent.extend(sent_by_command(verb, words))
                }
                _ => {}
            }
        }
    }
    sent
}

/// Rules by what fires them, for what can be looked up.
fn listeners(input: &LintInput<'_>) -> Listeners {
    let mut listeners = Listeners::default();
    for (number, rule) in input.lowered.set.rules.iter().enumerate() {
        for trigger in &rule.triggers {
            match &trigger.kind {
                TriggerKind::Key { combo, .. } => {
                    listeners.keys.entry(canonical(combo)).or_default().push(number);
                }
                TriggerKind::Typed(_) => listeners.typed.push(number),
                TriggerKind::Message(..) => listeners.messages.push(number),
                TriggerKind::Window { .. } => listeners.windows.push(number),
                _ => {}
            }
        }
    }
    listeners
}

/// The rules that something sent would fire.
fn fired_by(input: &LintInput<'_>, sent: &[Sent], listeners: &Listeners) -> Vec<usize> {
    let mut fired = Vec::new();
    for sent in sent {
        let candidates: &[usize] = match sent {
            Sent::Keys(keys) => listeners.keys.get(&canonical(keys)).map_or(&[], Vec::as_slice),
            Sent::Text(_) => &listeners.typed,
            Sent::Message(..) => &listeners.messages,
            Sent::Front(_) | Sent::Opened(_) => &listeners.windows,
        };
        let hears = |number: &&usize| {
            let triggers = &input.lowered.set.rules[**number].triggers;
            triggers.iter().any(|trigger| is_heard(sent, &trigger.kind))
        };
        fired.extend(candidates.iter().filter(hears));
    }
    fired.sort_unstable();
    fired.dedup();
    fired
}

/// Rules by what fires them.
#[derive(Default)]
struct Listeners {
    keys: BTreeMap<Vec<KeySpec>, Vec<usize>>,
    typed: Vec<usize>,
    messages: Vec<usize>,
    windows: Vec<usize>,
}

/// Whether something sent is what fires a trigger.
fn is_heard(sent: &Sent, cause: &TriggerKind) -> bool {
    match (sent, cause) {
        (Sent::Keys(keys), TriggerKind::Key { combo, .. }) => canonical(keys) == canonical(combo),
        (Sent::Text(text), TriggerKind::Typed(wanted)) => text.contains(wanted.as_str()),
        (Sent::Message(device, topic), TriggerKind::Message(other, filter)) => {
            device == other && topic_fits(filter, topic)
        }
        (Sent::Front(app), TriggerKind::Window { must_be_new: false, apps, .. })
        | (Sent::Opened(app), TriggerKind::Window { must_be_new: true, apps, .. }) => {
            apps.is_empty() || apps.contains(app)
        }
        _ => false,
    }
}

fn sent_by_command(verb: &CommandKind, words: &[Expr]) -> Option<Sent> {
    let Some(Expr::Value(Value::Text(first))) = words.first() else { return None };
    Some(match verb {
        CommandKind::Publish { broker, .. } => Sent::Message(*broker, first.clone()),
        CommandKind::Focus => Sent::Front(first.to_lowercase()),
        CommandKind::Launch => Sent::Opened(first.to_lowercase()),
        _ => return None,
    })
}

/// The rules on the shortest way from one back to itself.
fn circle(start: usize, next: &[Vec<usize>]) -> Option<Vec<usize>> {
    let mut ways = vec![vec![start]];
    let mut seen = BTreeSet::new();
    while !ways.is_empty() {
        let mut longer = Vec::new();
        for way in ways {
            let last = *way.last().expect("a way has a start");
            for rule in &next[last] {
                if *rule == start {
                    return Some(way);
                }
                if seen.insert(*rule) {
                    longer.push(way.iter().copied().chain([*rule]).collect());
                }
            }
        }
        ways = longer;
    }
    None
}
