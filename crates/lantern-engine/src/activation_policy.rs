//! From a trigger to a run: `after quiet`, `at most once per`, and what an activation does while the
//! rule runs already.
//!
//! Owns the activations that wait. It decides, and the engine starts and ends runs.

use std::collections::BTreeMap;

use lantern_model::{
    KeyCombination, KeySpec, ReentryPolicy, Rule, RuleId, Time, TriggerKind, Value,
};

use crate::decision_log::CHARACTER;
use crate::keys::{Press, Repetition};
use crate::timers::{Timer, TimerQueue};

/// A trigger that came, with its payload.
#[derive(Debug, Clone)]
pub(crate) struct Activation {
    /// The trigger of the rule, counted from 0.
    pub trigger: usize,
    /// The press it was, if it was one.
    pub press: Option<Press>,
    pub payload: Value,
    /// How many characters the person typed for it.
    pub typed_characters: usize,
    pub repetition: Repetition,
}

impl Activation {
    /// By something that is no key.
    pub(crate) fn by(trigger: usize, payload: Value) -> Activation {
        Activation {
            trigger,
            press: None,
            payload,
            typed_characters: 0,
            repetition: Repetition::First,
        }
    }

    /// By a key, whose combination is the payload of triggers that have one.
    pub(crate) fn by_key(
        trigger: usize,
        kind: &TriggerKind,
        press: Press,
        repetition: Repetition,
    ) -> Activation {
        let payload = match kind {
            TriggerKind::Key { payload_key, .. } => KeyCombination::of(*payload_key),
            TriggerKind::Keys { combos, .. } => {
                let last: Option<KeySpec> = combos.last().and_then(KeyCombination::last);
                last.map_or_else(KeyCombination::default, KeyCombination::of)
            }
            _ => KeyCombination::default(),
        };
        let payload = Value::Key(payload);
        Activation { press: Some(press), repetition, ..Activation::by(trigger, payload) }
    }
}

/// What becomes of an activation.
#[derive(Debug)]
pub(crate) enum Admission {
    /// A run starts.
    Start(Activation),
    /// The live runs of the rule end, and a run starts.
    Restart(Activation),
    /// The live runs of the rule end.
    StopRuns,
    /// It waits: for the end of `after quiet`, or of the live run.
    Wait,
    /// It is dropped, for this reason.
    Drop(String),
}

/// The activations that wait, and when rules fired last.
#[derive(Debug, Default)]
pub(crate) struct ActivationPolicy {
    /// Activations that wait for the end of the rule's run.
    queued: BTreeMap<RuleId, Activation>,
    /// What fires once the rule's triggers have been quiet long enough.
    debounced: BTreeMap<RuleId, Activation>,
    last_fired: BTreeMap<RuleId, Time>,
}

impl ActivationPolicy {
    /// Takes the activation of a rule that may fire. `is_running` tells whether it has live runs.
    pub(crate) fn offer(
        &mut self,
        now: Time,
        rule: (RuleId, &Rule),
        activation: Activation,
        is_running: bool,
        timers: &mut TimerQueue<Timer>,
    ) -> Admission {
        let (id, definition) = rule;
        match definition.debounce {
            None => self.throttle(now, rule, activation, is_running),
            Some(span) => {
                self.debounced.insert(id, activation);
                timers.set(Timer::Debounce(id), now + span);
                Admission::Wait
            }
        }
    }

    /// Takes that a rule's triggers have been quiet for its `after quiet` time.
    pub(crate) fn end_debounce(
        &mut self,
        now: Time,
        rule: (RuleId, &Rule),
        is_running: bool,
    ) -> Option<Admission> {
        let activation = self.debounced.remove(&rule.0)?;
        Some(self.throttle(now, rule, activation, is_running))
    }

    fn throttle(
        &mut self,
        now: Time,
        (id, definition): (RuleId, &Rule),
        activation: Activation,
        is_running: bool,
    ) -> Admission {
        if let Some(problem) = self.throttle_problem(now, id, definition) {
            return Admission::Drop(problem);
        }
        if definition.throttle.is_some() {
            self.last_fired.insert(id, now);
        }
        if !is_running {
            return Admission::Start(activation);
        }
        self.reenter(id, definition.reentry, activation)
    }

    /// What an activation does while the rule runs. A repeat neither waits nor stops or restarts runs.
    fn reenter(&mut self, id: RuleId, policy: ReentryPolicy, activation: Activation) -> Admission {
        let is_repeat = activation.repetition == Repetition::Repeat;
        let problem = match policy {
            ReentryPolicy::Parallel => return Admission::Start(activation),
            ReentryPolicy::Queue if is_repeat => "the previous run has not ended",
            ReentryPolicy::Queue if self.queued.contains_key(&id) => {
                "another activation waits already"
            }
            ReentryPolicy::Queue => {
                self.queued.insert(id, activation);
                return Admission::Wait;
            }
            ReentryPolicy::Ignore => "the previous run has not ended",
            ReentryPolicy::Restart if is_repeat => "a repeat does not restart a run",
            ReentryPolicy::Restart => return Admission::Restart(activation),
            ReentryPolicy::Toggle if is_repeat => "a repeat does not stop a run",
            ReentryPolicy::Toggle => return Admission::StopRuns,
        };
        Admission::Drop(problem.to_owned())
    }

    /// That a rule fired too recently for its `at most once per`, if it did.
    pub(crate) fn throttle_problem(&self, now: Time, id: RuleId, rule: &Rule) -> Option<String> {
        let span = rule.throttle?;
        let last = self.last_fired.get(&id)?;
        (now.since(*last) < span).then(|| format!("at most once per {}", Value::Duration(span)))
    }

    /// Why a rule with live runs would not fire once more, if it would not.
    pub(crate) fn busy_problem(&self, id: RuleId, policy: ReentryPolicy) -> Option<&'static str> {
        match policy {
            ReentryPolicy::Ignore => Some("its previous run has not ended"),
            ReentryPolicy::Queue if self.queued.contains_key(&id) => {
                Some("its previous run has not ended, and another activation waits already")
            }
            _ => None,
        }
    }

    /// Takes the activation that waits for the end of the rule's run.
    pub(crate) fn take_queued(&mut self, rule: RuleId) -> Option<Activation> {
        self.queued.remove(&rule)
    }

    /// Drops what waits to start a run of these rules: the queued activation of `again waits` and the
    /// one that `after quiet` holds back.
    pub(crate) fn drop_waiting(
        &mut self,
        of: impl Fn(RuleId) -> bool,
        timers: &mut TimerQueue<Timer>,
    ) {
        self.queued.retain(|rule, _| !of(*rule));
        self.debounced.retain(|rule, _| {
            let is_dropped = of(*rule);
            if is_dropped {
                timers.cancel(Timer::Debounce(*rule));
            }
            !is_dropped
        });
    }

    /// Drops queued activations for which `unwanted` holds.
    pub(crate) fn drop_queued(&mut self, unwanted: impl Fn(RuleId, &Activation) -> bool) {
        self.queued.retain(|rule, activation| !unwanted(*rule, activation));
    }

    /// Gives every rule the number that `change` says, and forgets those without one.
    pub(crate) fn remap_ids(&mut self, change: impl Fn(RuleId) -> Option<RuleId>) {
        fn renumbered<T>(map: &mut BTreeMap<RuleId, T>, change: impl Fn(RuleId) -> Option<RuleId>) {
            let old = std::mem::take(map).into_iter();
            *map = old.filter_map(|(rule, value)| Some((change(rule)?, value))).collect();
        }
        renumbered(&mut self.queued, &change);
        renumbered(&mut self.debounced, &change);
        renumbered(&mut self.last_fired, &change);
    }
}

/// What fired a rule, as a decision names it. Of a rule with several triggers that type a character, the
/// decision does not name which one came: what the person types stands in no decision.
pub(crate) fn describe_trigger(rule: &Rule, trigger: usize) -> String {
    let types = |kind: &TriggerKind| matches!(kind, TriggerKind::Key { combo, .. } if combo.types_character());
    let kind = &rule.triggers[trigger].kind;
    let many = rule.triggers.iter().filter(|trigger| types(&trigger.kind)).nth(1).is_some();
    if many && types(kind) { CHARACTER.to_owned() } else { trigger_text(kind) }
}

/// A trigger as a decision names it.
pub(crate) fn trigger_text(kind: &TriggerKind) -> String {
    match kind {
        TriggerKind::Key { combo, .. } => combo.to_string(),
        TriggerKind::Keys { combos, .. } => {
            combos.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
        }
        TriggerKind::Typed(text) => format!("typed {text:?}"),
        TriggerKind::Voice(phrase) => format!("voice {phrase:?}"),
        TriggerKind::Gesture { shape, .. } => format!("gesture {shape}"),
        TriggerKind::Line(..) => "a line".to_owned(),
        TriggerKind::Message(_, topic) => format!("message {topic:?}"),
        TriggerKind::Call(_, path) => format!("call {path:?}"),
        TriggerKind::Every(span) => format!("every {}", Value::Duration(*span)),
        TriggerKind::At(time) => format!("at {time}"),
        TriggerKind::Started => "started".to_owned(),
        TriggerKind::Window { must_be_new: true, .. } => "window opened".to_owned(),
        TriggerKind::Window { must_be_new: false, .. } => "window focused".to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    const RULE: RuleId = RuleId(3);

    fn at(millis: u64) -> Time {
        Time::START + Duration::from_millis(millis)
    }

    fn activation(repetition: Repetition) -> Activation {
        Activation { repetition, ..Activation::by(0, Value::Truth(true)) }
    }

    fn again(reentry: ReentryPolicy) -> Rule {
        Rule { reentry, ..Rule::default() }
    }

    /// What becomes of an activation at a time, of a rule that runs.
    fn offer(
        policy: &mut ActivationPolicy,
        millis: u64,
        rule: &Rule,
        repetition: Repetition,
    ) -> Admission {
        let mut timers = TimerQueue::default();
        policy.offer(at(millis), (RULE, rule), activation(repetition), true, &mut timers)
    }

    #[test]
    fn each_policy_decides_what_an_activation_does_while_the_rule_runs() {
        use Repetition::{First, Repeat};
        let mut policy = ActivationPolicy::default();
        let mut with = |reentry, repetition| offer(&mut policy, 0, &again(reentry), repetition);
        assert!(matches!(with(ReentryPolicy::Parallel, Repeat), Admission::Start(_)));
        assert!(matches!(with(ReentryPolicy::Ignore, First), Admission::Drop(_)));
        assert!(matches!(with(ReentryPolicy::Toggle, First), Admission::StopRuns));
        assert!(matches!(with(ReentryPolicy::Toggle, Repeat), Admission::Drop(_)));
        assert!(matches!(with(ReentryPolicy::Restart, First), Admission::Restart(_)));
        assert!(matches!(with(ReentryPolicy::Restart, Repeat), Admission::Drop(_)));
        assert!(matches!(with(ReentryPolicy::Queue, Repeat), Admission::Drop(_)));
        assert!(matches!(with(ReentryPolicy::Queue, First), Admission::Wait));
        assert!(matches!(with(ReentryPolicy::Queue, First), Admission::Drop(_)), "one waits");
        assert!(policy.take_queued(RULE).is_some() && policy.take_queued(RULE).is_none());
    }

    #[test]
    fn a_throttled_rule_fires_again_when_its_time_is_over() {
        let rule =
            Rule { throttle: Some(Duration::from_millis(100)), ..again(ReentryPolicy::Parallel) };
        let mut policy = ActivationPolicy::default();
        let mut offered = |millis| offer(&mut policy, millis, &rule, Repetition::First);
        assert!(matches!(offered(0), Admission::Start(_)));
        assert!(matches!(offered(99), Admission::Drop(_)));
        assert!(matches!(offered(100), Admission::Start(_)), "a dropped one does not count");
    }

    #[test]
    fn a_debounced_activation_waits_until_its_timer_and_can_be_dropped() {
        let rule =
            Rule { debounce: Some(Duration::from_millis(100)), ..again(ReentryPolicy::Queue) };
        let (mut policy, mut timers) = (ActivationPolicy::default(), TimerQueue::default());
        let mut offered = |policy: &mut ActivationPolicy, millis| {
            let first = activation(Repetition::First);
            policy.offer(at(millis), (RULE, &rule), first, false, &mut timers)
        };
        assert!(matches!(offered(&mut policy, 0), Admission::Wait));
        assert!(matches!(offered(&mut policy, 80), Admission::Wait));
        assert_eq!(timers.next(), Some(at(180)));
        let ended = policy.end_debounce(at(180), (RULE, &rule), false);
        assert!(matches!(ended, Some(Admission::Start(_))));
        assert!(policy.end_debounce(at(180), (RULE, &rule), false).is_none());
        timers.set(Timer::Debounce(RULE), at(280));
        policy.debounced.insert(RULE, activation(Repetition::First));
        policy.drop_waiting(|rule| rule == RULE, &mut timers);
        assert_eq!(timers.next(), None);
        assert!(policy.debounced.is_empty());
    }

    #[test]
    fn what_waits_follows_its_rule_into_another_set() {
        let mut policy = ActivationPolicy::default();
        policy.queued.insert(RULE, activation(Repetition::First));
        policy.last_fired.insert(RuleId(4), at(0));
        policy.remap_ids(|rule| (rule == RULE).then_some(RuleId(0)));
        assert!(policy.take_queued(RuleId(0)).is_some() && policy.last_fired.is_empty());
    }
}
