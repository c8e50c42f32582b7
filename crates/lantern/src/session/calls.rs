//! Calls to a listener are answered with the rules that ran.

use lantern_engine::{DecisionKind, Engine};
use lantern_model::{Event, Rule, RuleId, RuleSet, Time, TriggerKind};
use lantern_net::{CallAnswer, CalledRule};

/// Hands a call to the engine. What the engine decides at once is the answer.
pub(super) fn handle_call(engine: &mut Engine, now: Time, event: Event) -> CallAnswer {
    let mut wanting = match &event {
        Event::Call { device, path, .. } => rules_for(engine.rules(), device, path),
        _ => Vec::new(),
    };
    let before = engine.last_decision();
    engine.handle_event(now, event);
    let rules = engine.rules();
    let mut answer = CallAnswer::default();
    for decision in engine.decisions_after(before) {
        let Some(rule) = decision.rule else { continue };
        match &decision.kind {
            DecisionKind::Fired { .. } => answer.ran.push(called(rules, rule, None)),
            DecisionKind::Dropped(why) => answer.did_not.push(called(rules, rule, Some(why))),
            _ => continue,
        }
        wanting.retain(|wanting| *wanting != rule);
    }
    let why = match engine.paused().1 {
        true => "everything is paused",
        false => "not now: its place, its layer, a pause or a locked screen",
    };
    answer.did_not.extend(wanting.into_iter().map(|rule| called(rules, rule, Some(why))));
    answer
}

/// The rules that a call of that path is for.
fn rules_for(rules: &RuleSet, device: &str, path: &str) -> Vec<RuleId> {
    let is_it = |kind: &TriggerKind| match kind {
        TriggerKind::Call(id, wanted) => wanted == path && rules.devices[id.0].name == device,
        _ => false,
    };
    let wants = |rule: &Rule| rule.triggers.iter().any(|trigger| is_it(&trigger.kind));
    let wanting = rules.numbered_rules().filter(|(_, rule)| wants(rule));
    wanting.map(|(id, _)| id).collect()
}

/// A rule in the answer to a call.
fn called(rules: &RuleSet, rule: RuleId, why: Option<&str>) -> CalledRule {
    let Rule { place, name, label, .. } = &rules[rule];
    CalledRule {
        place: rules.show_place(*place),
        rule: name.clone().unwrap_or_else(|| label.clone()),
        why: why.map(str::to_owned),
    }
}
