//! From a trigger to a run: throttles, what a second firing does, what ends a run.

use std::sync::Arc;

use lantern_model::{
    HeldModifiers, Key, KeyCombination, KeyGrab, ReentryPolicy, Refusal, Rule, RunId, Time,
    TriggerKind, Value,
};

use crate::binding_table::KeyStroke;
use crate::decision_log::{CHARACTER, DecisionKind, StopCause};
use crate::engine::Engine;
use crate::runs::{Block, CallFrame, Run, RunState};
use crate::timers::Timer;

/// Maximum number of runs at a time. It protects the machine from rules that fire without end and
/// never end.
pub(crate) const MOST_RUNS: usize = 20_000;

/// One press of a key; the number tells it from others of the same key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Press {
    pub key: Key,
    pub number: u64,
}

/// A trigger that came, with what it brings.
#[derive(Debug, Clone)]
pub(crate) struct Activation {
    pub trigger: usize,
    /// The press it was, if it was one.
    pub press: Option<Press>,
    pub payload: Value,
    /// How many characters the person typed for it.
    pub typed_characters: usize,
    pub is_repeat: bool,
}

impl Activation {
    /// By something that is no key.
    pub(crate) fn by(trigger: usize, brought: Value) -> Activation {
        Activation { trigger, press: None, payload: brought, typed_characters: 0, is_repeat: false }
    }
}

impl Engine {
    /// Whether a rule may fire now: it is not paused, the device is right, its condition holds. A
    /// blocked rule is recorded in the decision log.
    pub(crate) fn may_fire(&mut self, now: Time, rule: usize) -> bool {
        let rules = Arc::clone(&self.rules);
        let definition = &rules.rules[rule];
        let paused = self.is_paused(rule);
        let boards = definition.filter.input_devices.as_ref();
        let problem = if paused {
            "it is paused".to_owned()
        } else if boards.is_some_and(|boards| !boards.contains(&self.keys.input_device)) {
            format!("the key came from another device ({})", self.keys.input_device)
        } else {
            match self.unmet_condition(now, rule) {
                None => return true,
                Some(problem) => problem,
            }
        };
        self.record_decision(now, Some(rule), DecisionKind::Dropped(problem));
        false
    }

    /// What is wrong with a rule's condition now, if anything is.
    pub(crate) fn unmet_condition(&self, now: Time, rule: usize) -> Option<String> {
        let definition = &self.rules.rules[rule];
        match self.scope(now, &[], true).truth(definition.condition.as_ref()?) {
            Ok(true) => None,
            Ok(false) => {
                Some(format!("its condition `{}` does not hold", definition.condition_text))
            }
            Err(message) => Some(message),
        }
    }

    /// A trigger of a rule that may fire came.
    pub(crate) fn fire(&mut self, now: Time, rule: usize, firing: Activation) {
        let definition = &self.rules.rules[rule];
        let Some(span) = definition.debounce else {
            self.fire_throttled(now, rule, firing);
            return;
        };
        self.debounced.insert(rule, firing);
        self.timers.set(Timer::Debounce(rule), now + span);
    }

    /// A rule's triggers have been quiet for its `after quiet` time.
    pub(crate) fn on_debounce_end(&mut self, now: Time, rule: usize) {
        if let Some(firing) = self.debounced.remove(&rule) {
            self.fire_throttled(now, rule, firing);
        }
    }

    /// Drops what waits to start a run of these rules: the queued firing of `again waits` and the
    /// one that `after quiet` holds back.
    pub(crate) fn drop_pending_activations(&mut self, of: impl Fn(usize) -> bool) {
        self.queued.retain(|rule, _| !of(*rule));
        let timers = &mut self.timers;
        self.debounced.retain(|rule, _| {
            let dropped = of(*rule);
            if dropped {
                timers.cancel(Timer::Debounce(*rule));
            }
            !dropped
        });
    }

    fn fire_throttled(&mut self, now: Time, rule: usize, firing: Activation) {
        if let Some(span) = self.rules.rules[rule].throttle {
            let last = self.last_fired.get(&rule);
            if last.is_some_and(|last| now.since(*last) < span) {
                let why = format!("at most once per {}", Value::Duration(span));
                self.record_decision(now, Some(rule), DecisionKind::Dropped(why));
                return;
            }
            self.last_fired.insert(rule, now);
        }
        self.fire_again(now, rule, firing);
    }

    /// Fires a rule as its `again` clause says. A repeat never queues.
    fn fire_again(&mut self, now: Time, rule: usize, firing: Activation) {
        let again = self.rules.rules[rule].reentry;
        if again == ReentryPolicy::Parallel {
            return self.start_run(now, rule, firing);
        }
        let live = self.runs.of_rule(rule);
        if live.is_empty() {
            return self.start_run(now, rule, firing);
        }
        let dropped = match again {
            ReentryPolicy::Queue if firing.is_repeat => "the previous run has not ended",
            ReentryPolicy::Queue if self.queued.contains_key(&rule) => {
                "another activation waits already"
            }
            ReentryPolicy::Queue => {
                self.queued.insert(rule, firing);
                return;
            }
            ReentryPolicy::Ignore => "the previous run has not ended",
            ReentryPolicy::Restart if firing.is_repeat => "a repeat does not restart a run",
            ReentryPolicy::Restart => {
                for run in live {
                    self.end_run(now, run, DecisionKind::Stopped(run, StopCause::FiredAgain));
                }
                self.start_run(now, rule, firing);
                return;
            }
            ReentryPolicy::Toggle if firing.is_repeat => "a repeat does not stop a run",
            ReentryPolicy::Toggle => {
                for run in live {
                    self.end_run(now, run, DecisionKind::Stopped(run, StopCause::OwnTrigger));
                }
                return;
            }
            ReentryPolicy::Parallel => unreachable!("overlapping runs start above"),
        };
        self.record_decision(now, Some(rule), DecisionKind::Dropped(dropped.to_owned()));
    }

    /// Whether no more runs may begin.
    pub(crate) fn is_at_run_limit(&self) -> bool {
        self.runs.live.len() >= MOST_RUNS
    }

    fn start_run(&mut self, now: Time, rule: usize, firing: Activation) {
        if self.is_at_run_limit() {
            let why = format!("{MOST_RUNS} runs exist already");
            self.record_decision(now, Some(rule), DecisionKind::Dropped(why));
            return;
        }
        let definition = &self.rules.rules[rule];
        let mut slots = vec![Value::Truth(false); self.rules.routine(definition.body).slots];
        if definition.has_payload {
            slots[0] = firing.payload.clone();
        }
        let trigger = firing.trigger;
        let words = || describe_trigger(definition, trigger).into();
        let by = Arc::clone(self.trigger_texts.entry((rule, trigger)).or_insert_with(words));
        self.start_run_with(now, rule, firing, slots, by);
    }

    /// Starts a run whose body finds these values.
    pub(crate) fn start_run_with(
        &mut self,
        now: Time,
        rule: usize,
        firing: Activation,
        slots: Vec<Value>,
        by: Arc<str>,
    ) {
        let rules = Arc::clone(&self.rules);
        let definition = &rules.rules[rule];
        let id = self.runs.next_id();
        let frame = CallFrame { routine: definition.body, next: 0, slots };
        let run = Run {
            rule,
            began: now,
            press: firing.press,
            typed_characters: firing.typed_characters,
            frames: vec![frame],
            blocks: Vec::new(),
            state: RunState::Ready,
            is_rate_limited: false,
            operations: 0,
        };
        self.runs.add(id, run);
        self.ready_runs.push_back(id);
        self.record_decision(now, Some(rule), DecisionKind::Fired { by, run: id });
        if definition.reentry == ReentryPolicy::Toggle && !definition.filter.is_anywhere() {
            self.update_bindings(now);
        }
    }

    /// Ends the live runs of `again stops` rules that the stroke is a trigger of.
    pub(crate) fn stop_by_trigger(
        &mut self,
        now: Time,
        stroke: KeyStroke,
        held: HeldModifiers,
    ) -> bool {
        let rules = Arc::clone(&self.rules);
        let stopping: Vec<usize> = self
            .bindings
            .candidates(stroke)
            .iter()
            .filter(|candidate| candidate.fits(held))
            .map(|candidate| candidate.rule)
            .filter(|rule| rules.rules[*rule].reentry == ReentryPolicy::Toggle)
            .collect();
        let mut stopped = false;
        for rule in stopping {
            for run in self.runs.of_rule(rule) {
                self.end_run(now, run, DecisionKind::Stopped(run, StopCause::OwnTrigger));
                stopped = true;
            }
        }
        stopped
    }

    /// The rules with live runs that their own trigger stops.
    pub(crate) fn self_stopping_rules(&self) -> Vec<usize> {
        let live = self.runs.rules();
        live.filter(|rule| self.rules.rules[*rule].reentry == ReentryPolicy::Toggle).collect()
    }

    /// The key of `while held` runs was let go.
    pub(crate) fn end_held_runs(&mut self, now: Time, key: Key) {
        let rules = Arc::clone(&self.rules);
        let by_key = |press: Option<Press>| press.is_some_and(|press| press.key == key);
        let held: Vec<usize> =
            self.runs.rules().filter(|rule| rules.rules[*rule].ends_on_release).collect();
        let ended: Vec<(RunId, usize)> = held
            .into_iter()
            .flat_map(|rule| self.runs.of_rule(rule).into_iter().map(move |run| (run, rule)))
            .filter(|(run, _)| by_key(self.runs.live[run].press))
            .collect();
        for (run, rule) in ended {
            self.queued.remove(&rule);
            self.end_run(now, run, DecisionKind::Stopped(run, StopCause::KeyReleased));
        }
        self.queued
            .retain(|rule, firing| !by_key(firing.press) || !rules.rules[*rule].ends_on_release);
    }

    /// Takes a run away: everything it held is let go, and what waited for it begins.
    pub(crate) fn end_run(&mut self, now: Time, id: RunId, why: DecisionKind) {
        let keys = self.held.release_all(|owner| owner.run() == Some(id));
        self.emit_releases(Some(id), keys);
        self.release_input(id);
        let Some(mut run) = self.runs.remove(id) else {
            return;
        };
        // The person is brought back to where they were, if nothing else came to the front.
        let first_front = run.blocks.iter_mut().find_map(|block| match block {
            Block::With { window: came, previous_window: back, .. } if *came == self.app.window => {
                Some(*back)
            }
            _ => None,
        });
        if let Some(back) = first_front {
            self.bring_back(id, back);
        }
        self.release_front(id);
        self.timers.cancel(Timer::Wake(id));
        self.timers.cancel(Timer::Timeout(id));
        self.cancel(now, id, &run.state);
        let ended_itself = !matches!(why, DecisionKind::Stopped(..));
        self.record_decision(now, Some(run.rule), why);
        let waiting = self.queued.remove(&run.rule);
        if let Some(waiting) = waiting.filter(|_| ended_itself) {
            self.start_run(now, run.rule, waiting);
        }
        let definition = &self.rules.rules[run.rule];
        if definition.reentry == ReentryPolicy::Toggle && !definition.filter.is_anywhere() {
            self.update_bindings(now);
        }
    }

    /// Names the rules whose keys cannot be had.
    pub(crate) fn handle_refusals(&mut self, now: Time, refused: &[(KeyGrab, Refusal)]) {
        let rules = Arc::clone(&self.rules);
        self.refused_grabs.extend(refused.iter().map(|(armed, _)| *armed));
        for (armed, why) in refused {
            let stroke = (armed.key, armed.modifiers);
            let reason = match why {
                Refusal::HeldByOther => DecisionKind::GrabsRefused,
                Refusal::NotOnKeyboard => DecisionKind::MissingKeys,
            };
            if self.bindings.is_panic(stroke) {
                let combo = format!("{} (panic)", rules.settings.panic);
                self.record_decision(now, None, reason(combo));
            }
            let watch = Arc::clone(&self.bindings);
            let candidates = watch.candidates(stroke);
            if candidates.is_empty() && !self.bindings.is_panic(stroke) {
                // It is wanted for a chord, a sequence, a drawing or a remap.
                let combo = KeyCombination::with(armed.modifiers, armed.key);
                self.record_decision(now, None, reason(combo.to_string()));
            }
            for candidate in candidates {
                let cause = &rules.rules[candidate.rule].triggers[candidate.trigger].kind;
                self.record_decision(now, Some(candidate.rule), reason(trigger_text(cause)));
            }
        }
    }
}

/// What fired a rule, as a reason names it. Of a rule on many keys that type, it is not told which one
/// it was: what the person types stands in no reason.
fn describe_trigger(rule: &Rule, trigger: usize) -> String {
    let types = |cause: &TriggerKind| matches!(cause, TriggerKind::Key { combo, .. } if combo.types_character());
    let cause = &rule.triggers[trigger].kind;
    let many = rule.triggers.iter().filter(|trigger| types(&trigger.kind)).nth(1).is_some();
    if many && types(cause) { CHARACTER.to_owned() } else { trigger_text(cause) }
}

/// A cause as a reason names it.
pub(crate) fn trigger_text(cause: &TriggerKind) -> String {
    match cause {
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
