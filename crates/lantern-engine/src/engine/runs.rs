//! From an activation to a run and its end: the engine between the activation policy and the interpreter.

use std::sync::Arc;

use lantern_model::code::StopTarget;
use lantern_model::{LayerId, ReentryPolicy, RuleId, RunId, Time, TriggerRef, Value};

use super::Engine;
use crate::activation_policy::{Activation, Admission};
use crate::decision_log::{DecisionKind, StopCause};
use crate::eligibility::blocking_problem;
use crate::interpreter::{
    EndedRun, EngineRequest, Execution, MOST_RUNS, RunEnd, RunStart, TurnEnd, World,
};
use crate::keys::KeyRecognizer;
use crate::scope::Found;

/// Whether a run continues after a request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum AfterRequest {
    Continues,
    Ended,
}

/// Activations.
impl Engine {
    /// Whether a rule may fire now. That it is blocked is a decision.
    fn may_fire(&mut self, now: Time, rule: RuleId) -> bool {
        let definition = &self.active.rules()[rule];
        let evaluator = self.interpreter.evaluator();
        match blocking_problem(definition, self.around(now), evaluator) {
            None => true,
            Some(problem) => {
                self.out.record(now, Some(rule), DecisionKind::Dropped(problem));
                false
            }
        }
    }

    /// Fires the first trigger whose rule may fire; whether there is one.
    pub(super) fn fire_one(&mut self, now: Time, found: Vec<Found>) -> bool {
        for Found { trigger, activation, .. } in self.scope().by_precedence(found) {
            if self.may_fire(now, trigger.rule) {
                self.fire(now, trigger.rule, activation);
                return true;
            }
        }
        false
    }

    /// Fires every trigger whose rule may fire.
    pub(super) fn fire_all(&mut self, now: Time, found: Vec<Found>) {
        for Found { trigger, activation, .. } in found {
            if self.may_fire(now, trigger.rule) {
                self.fire(now, trigger.rule, activation);
            }
        }
    }

    /// Fires a trigger of time, if its rule applies and may fire.
    pub(super) fn fire_timed(&mut self, now: Time, trigger: TriggerRef) {
        if self.scope().applies(trigger) && self.may_fire(now, trigger.rule) {
            let activation = Activation::by(trigger.trigger, Value::Truth(true));
            self.fire(now, trigger.rule, activation);
        }
    }

    /// Takes the activation of a rule that may fire.
    pub(super) fn fire(&mut self, now: Time, rule: RuleId, activation: Activation) {
        let definition = (rule, &self.active.rules()[rule]);
        let is_running = self.interpreter.runs().is_running(rule);
        let timers = &mut self.out.timers;
        let admission = self.activations.offer(now, definition, activation, is_running, timers);
        self.admit(now, rule, admission);
    }

    /// A rule's triggers have been quiet for its `after quiet` time.
    pub(super) fn end_debounce(&mut self, now: Time, rule: RuleId) {
        let definition = (rule, &self.active.rules()[rule]);
        let is_running = self.interpreter.runs().is_running(rule);
        if let Some(admission) = self.activations.end_debounce(now, definition, is_running) {
            self.admit(now, rule, admission);
        }
    }

    fn admit(&mut self, now: Time, rule: RuleId, admission: Admission) {
        match admission {
            Admission::Start(activation) => self.start_run(now, rule, activation),
            Admission::Restart(activation) => {
                let runs = self.interpreter.runs().of_rule(rule);
                self.stop_runs(now, runs, StopCause::FiredAgain);
                self.start_run(now, rule, activation);
            }
            Admission::StopRuns => {
                let runs = self.interpreter.runs().of_rule(rule);
                self.stop_runs(now, runs, StopCause::OwnTrigger);
            }
            Admission::Wait => {}
            Admission::Drop(why) => self.out.record(now, Some(rule), DecisionKind::Dropped(why)),
        }
    }

    fn start_run(&mut self, now: Time, rule: RuleId, activation: Activation) {
        if self.interpreter.runs().is_at_limit() {
            let why = format!("{MOST_RUNS} runs exist already");
            self.out.record(now, Some(rule), DecisionKind::Dropped(why));
            return;
        }
        let rules = self.active.rules();
        let definition = &rules[rule];
        let mut slots = vec![Value::Truth(false); rules.routine(definition.body).slots];
        if definition.has_payload {
            slots[0] = activation.payload;
        }
        let start = RunStart {
            rule,
            body: definition.body,
            press: activation.press,
            typed_characters: activation.typed_characters,
            slots,
        };
        let by = self.active.trigger_text(TriggerRef { rule, trigger: activation.trigger });
        self.start_run_with(now, start, by);
    }

    /// Starts a run whose body finds these values; `by` is what fired it, in words.
    pub(super) fn start_run_with(&mut self, now: Time, start: RunStart, by: Arc<str>) {
        let rule = start.rule;
        let run = self.interpreter.start(now, start);
        self.out.record(now, Some(rule), DecisionKind::Fired { by, run });
        self.update_bindings_of(now, rule);
    }

    /// Makes the binding table anew if it depends on whether the rule runs.
    fn update_bindings_of(&mut self, now: Time, rule: RuleId) {
        let definition = &self.active.rules()[rule];
        if definition.reentry == ReentryPolicy::Toggle && !definition.filter.is_anywhere() {
            self.update_bindings(now);
        }
    }

    /// The rules with live runs that their own trigger stops.
    pub(super) fn self_stopping_rules(&self) -> Vec<RuleId> {
        let rules = self.active.rules();
        let live = self.interpreter.runs().rules();
        live.filter(|rule| rules[*rule].reentry == ReentryPolicy::Toggle).collect()
    }
}

/// Runs.
impl Engine {
    /// Has the interpreter do something, and takes the runs that it ended.
    pub(super) fn execute<T>(
        &mut self,
        now: Time,
        work: impl FnOnce(&mut Execution<'_>) -> T,
    ) -> T {
        let world =
            World { now, rules: self.active.rules(), context: &self.context, keys: &self.keys };
        let mut execution = Execution::new(&mut self.interpreter, world, &mut self.out);
        let result = work(&mut execution);
        self.settle(now);
        result
    }

    /// Starts the activations that waited for runs which have ended.
    fn settle(&mut self, now: Time) {
        if self.interpreter.take_typed() {
            self.triggers.forget_typed_text();
        }
        for EndedRun { rule, end } in self.interpreter.take_ended() {
            let queued = self.activations.take_queued(rule);
            if let Some(queued) = queued.filter(|_| end == RunEnd::Itself) {
                self.start_run(now, rule, queued);
            }
            self.update_bindings_of(now, rule);
        }
    }

    /// Executes ready runs and evaluates the conditions that runs wait for, until nothing changes.
    pub(super) fn advance_runs(&mut self, now: Time) {
        self.run_ready(now);
        // A run that changes what another waits for may be changed by that one in turn; each round
        // costs a turn of theirs, so the rounds end.
        while self.interpreter.take_conditions_dirty() {
            let mut depends_on_clock = false;
            for run in self.interpreter.condition_waiters() {
                depends_on_clock |=
                    self.execute(now, |execution| execution.evaluate_condition(run));
            }
            if depends_on_clock {
                self.execute(now, |execution| execution.set_clock_timer());
            }
            self.run_ready(now);
        }
    }

    fn run_ready(&mut self, now: Time) {
        while let Some(run) = self.interpreter.pop_ready() {
            let rule = self.interpreter.runs().get(run).map(|run| run.rule());
            if rule.is_some_and(|rule| self.context.is_paused(&self.active.rules()[rule])) {
                self.interpreter.suspend(run);
            } else {
                self.take_turn(now, run);
            }
        }
    }

    fn take_turn(&mut self, now: Time, run: RunId) {
        while let TurnEnd::Request(request) =
            self.execute(now, |execution| execution.take_turn(run))
        {
            if self.handle_request(now, run, request) == AfterRequest::Ended {
                return;
            }
        }
    }

    fn handle_request(&mut self, now: Time, run: RunId, request: EngineRequest) -> AfterRequest {
        match request {
            EngineRequest::Stop(target) => return self.stop_by_step(now, run, &target),
            EngineRequest::Pause(name) => self.context.pause_named(&name),
            EngineRequest::Resume(name) => {
                if self.context.resume_named(&name) {
                    self.interpreter.resume_suspended();
                }
            }
            EngineRequest::Listen(mode) => self.set_listen_mode(now, mode),
            EngineRequest::Layer(layer, on) => self.switch_layer(now, layer, on),
        }
        AfterRequest::Continues
    }

    fn switch_layer(&mut self, now: Time, layer: LayerId, on: bool) {
        self.context.switch_layer(layer, on);
        self.update_bindings(now);
    }

    /// The step `stop` of a run.
    fn stop_by_step(&mut self, now: Time, own: RunId, target: &StopTarget) -> AfterRequest {
        let rules = self.active.shared();
        let named = |rule: RuleId, name: &str| rules[rule].name.as_deref() == Some(name);
        let runs = self.interpreter.runs();
        let stopped: Vec<RunId> = match target {
            StopTarget::ThisRun => {
                if let Some(rule) = runs.get(own).map(|run| run.rule()) {
                    self.activations.take_queued(rule);
                }
                vec![own]
            }
            StopTarget::All => {
                let stopped = runs.filtered(|_| true);
                self.activations.drop_waiting(|_| true, &mut self.out.timers);
                stopped
            }
            StopTarget::AllUntilResumed => {
                self.panic(now, StopCause::StopAllStep);
                return AfterRequest::Ended;
            }
            StopTarget::Named(name) => {
                let stopped = runs.filtered(|run| named(run.rule(), name));
                self.activations.drop_waiting(|rule| named(rule, name), &mut self.out.timers);
                stopped
            }
        };
        let ends_itself = stopped.contains(&own);
        for run in stopped {
            let why = if run == own {
                DecisionKind::Ended(run)
            } else {
                DecisionKind::Stopped(run, StopCause::StopStep)
            };
            self.execute(now, |execution| execution.end_run(run, why));
        }
        if ends_itself { AfterRequest::Ended } else { AfterRequest::Continues }
    }

    /// Ends runs from outside.
    pub(super) fn stop_runs(&mut self, now: Time, runs: Vec<RunId>, why: StopCause) {
        for run in runs {
            self.execute(now, |execution| execution.stop(run, why));
        }
    }

    /// Ends every run and releases every key. Gives the numbers of runs and keys.
    pub fn stop_everything(&mut self, now: Time, why: StopCause) -> (usize, usize) {
        self.activations.drop_waiting(|_| true, &mut self.out.timers);
        let runs = self.interpreter.runs().filtered(|_| true);
        let keys = self.execute(now, |execution| execution.release_all_keys());
        let counts = (runs.len(), keys);
        self.stop_runs(now, runs, why);
        counts
    }

    /// Ends every run and pauses everything, so that a rule that ran away does not fire again at once.
    pub(super) fn panic(&mut self, now: Time, why: StopCause) {
        let (runs, keys) = self.stop_everything(now, why);
        self.out.record(now, None, DecisionKind::Panic { runs, keys });
        self.pause_all(now);
    }

    /// Lets no rule fire until the person resumes. Pending presses are replayed.
    pub(super) fn pause_all(&mut self, now: Time) {
        self.cancel_drawing(now, "everything is paused");
        self.decide_keys(now, KeyRecognizer::replay_all);
        self.context.pause_all();
        self.update_bindings(now);
    }
}
