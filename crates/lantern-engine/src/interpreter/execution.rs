//! The interpreter at work: turns of runs, outcomes, failures, and the end of a run.

use std::time::Duration;

use lantern_model::code::{AssignTarget, Op};
use lantern_model::{
    CommandError, CommandResult, EffectId, EffectKind, InputAction, InputBatch, Key, RunId, Time,
    Value,
};

use super::runs::{Block, RunState};
use super::{EndedRun, Interpreter, Owner, RunEnd, StepFlow, TurnEnd, World};
use crate::decision_log::{DecisionKind, StopCause};
use crate::eval::{EvalScope, TriggerKey};
use crate::outbox::Outbox;
use crate::step_error::{Evaluated, StepError};
use crate::timers::Timer;

/// Operations a run may do without sleeping before it steps back for the others and the person.
const TURN: usize = 256;
/// Number of bytes that expressions copy, join and compare for which one operation counts.
const WORK_OF_OPERATION: usize = 2 << 10;
/// How long a run that used up its turn steps back.
const STEP_BACK: Duration = Duration::from_millis(1);
/// How often conditions on the clock are evaluated.
const CLOCK_CONDITIONS: Duration = Duration::from_secs(1);

/// The interpreter at work.
#[derive(Debug)]
pub(crate) struct Execution<'a> {
    pub(super) state: &'a mut Interpreter,
    pub(super) world: World<'a>,
    pub(super) out: &'a mut Outbox,
}

impl<'a> Execution<'a> {
    pub(crate) fn new(
        state: &'a mut Interpreter,
        world: World<'a>,
        out: &'a mut Outbox,
    ) -> Execution<'a> {
        Execution { state, world, out }
    }

    /// Executes a ready run until it waits, ends, has used up its turn, or asks something of the engine.
    pub(crate) fn take_turn(&mut self, id: RunId) -> TurnEnd {
        let rules = self.world.rules;
        // What conditions cost is not the run's.
        self.state.evaluator.take_charge();
        loop {
            if self.is_turn_over(id) {
                return TurnEnd::Done;
            }
            let run = self.state.runs.live_mut(id);
            let Some(frame) = run.frames.last_mut() else {
                self.end_run(id, DecisionKind::Ended(id));
                return TurnEnd::Done;
            };
            let Some(op) = rules.routine(frame.routine).ops.get(frame.next) else {
                run.frames.pop();
                continue;
            };
            frame.next += 1;
            match self.do_op(id, op) {
                Ok(StepFlow::Next) => {}
                Ok(StepFlow::Wait) => return TurnEnd::Done,
                Ok(StepFlow::Request(request)) => return TurnEnd::Request(request),
                Err(problem) => {
                    if !self.fail_step(id, problem) {
                        return TurnEnd::Done;
                    }
                }
            }
        }
    }

    /// Counts an operation of a run. One that has used up its turn sleeps.
    fn is_turn_over(&mut self, id: RunId) -> bool {
        let charge = self.state.evaluator.take_charge() / WORK_OF_OPERATION;
        let run = self.state.runs.live_mut(id);
        if run.operations < TURN {
            run.operations += 1 + charge;
            return false;
        }
        run.state = RunState::Sleeping;
        self.sleep_until(self.world.now + STEP_BACK, id);
        true
    }

    /// Takes that a run's timer is due.
    pub(crate) fn wake(&mut self, id: RunId) {
        match self.state.runs.get(id).map(|run| &run.state) {
            None => {}
            Some(RunState::SendingInput(..)) => self.advance_job(id),
            Some(_) => self.make_ready(id),
        }
    }

    /// Takes that what a run waits for took too long.
    pub(crate) fn time_out(&mut self, id: RunId) {
        let Some(run) = self.state.runs.get(id) else { return };
        let message = match &run.state {
            RunState::AwaitingCondition(_) => "what it waits for did not come in time".to_owned(),
            RunState::AwaitingFocus { app, .. } => format!("{app} did not come to the front"),
            RunState::Awaiting(..) => "it took too long".to_owned(),
            _ => return,
        };
        let run = self.state.runs.live_mut(id);
        let state = std::mem::replace(&mut run.state, RunState::Sleeping);
        self.cancel(id, &state);
        if matches!(state, RunState::AwaitingFocus { .. }) {
            self.release_focus_outside_blocks(id);
        }
        self.fail_waiting(id, CommandError::timed_out(message).into());
    }

    /// Takes that an effect is done, or failed.
    pub(crate) fn take_outcome(&mut self, effect: EffectId, result: CommandResult) {
        self.state.end_sound(self.world.now, effect);
        let Some(id) = self.state.runs.take_waiter(effect) else { return };
        let state = &self.state.runs.live(id).state;
        let is_asking = matches!(state, RunState::QueryingInputMethod(..));
        let value = match result {
            Ok(value) => value,
            // An input method that does not answer is assumed to pass keys through.
            Err(_) if is_asking => None,
            Err(error) => return self.take_failure(id, error),
        };
        match &mut self.state.runs.live_mut(id).state {
            RunState::SendingInput(_, under_way) => {
                *under_way = None;
                self.advance_job(id);
            }
            RunState::QueryingInputMethod(..) => self.type_unless_composed(id, value),
            RunState::AwaitingFocus { effect, .. } => {
                *effect = None;
                self.state.conditions_dirty = true;
            }
            RunState::Awaiting(_, into) => {
                if let Some(target) = into.take() {
                    self.assign(id, target, value.unwrap_or_else(|| Value::Text(String::new())));
                }
                self.release_input(id);
                self.make_ready(id);
            }
            _ => {}
        }
    }

    fn take_failure(&mut self, id: RunId, mut error: CommandError) {
        match &self.state.runs.live(id).state {
            RunState::SendingInput(job, _) => error.detail.push_str(&job.typed_words()),
            RunState::AwaitingFocus { .. } => self.release_focus_outside_blocks(id),
            _ => {}
        }
        self.state.runs.live_mut(id).state = RunState::Sleeping;
        self.fail_waiting(id, error.into());
    }

    /// Ends a run: everything it held is released. The engine takes it by [`Interpreter::take_ended`].
    pub(crate) fn end_run(&mut self, id: RunId, why: DecisionKind) {
        let keys = self.state.arbiter.held.release_all(|owner| owner.run() == Some(id));
        self.emit_releases(Some(id), keys);
        self.release_input(id);
        let Some(run) = self.state.runs.remove(id) else { return };
        // The window that was in front before comes back, if no other did since.
        let front = self.world.context.app().window;
        let before = run.blocks.iter().find_map(|block| match block {
            Block::With { window, previous_window, .. } if *window == front => {
                Some(*previous_window)
            }
            _ => None,
        });
        if let Some(window) = before.filter(|window| *window != 0) {
            self.raise(id, window);
        }
        self.release_focus(id);
        self.cancel_timers(id);
        self.cancel(id, &run.state);
        let is_stopped = matches!(why, DecisionKind::Stopped(..));
        let end = if is_stopped { RunEnd::Stopped } else { RunEnd::Itself };
        self.out.record(self.world.now, Some(run.rule()), why);
        self.state.ended.push(EndedRun { rule: run.rule(), end });
    }

    /// Releases every key that is down by our doing; gives how many.
    pub(crate) fn release_all_keys(&mut self) -> usize {
        let keys = self.state.arbiter.held.release_all(|_| true);
        let count = keys.len();
        self.emit_releases(None, keys);
        count
    }

    /// Releases the keys that the person has toggled.
    pub(crate) fn release_toggled_keys(&mut self) {
        let keys = self.state.arbiter.held.release_all(|owner| owner == Owner::Toggle);
        self.emit_releases(None, keys);
    }

    /// Evaluates what a run waits for; whether it depends on the clock and does not hold yet.
    pub(crate) fn evaluate_condition(&mut self, id: RunId) -> bool {
        let Some(run) = self.state.runs.get(id) else { return false };
        match &run.state {
            RunState::AwaitingCondition(condition) => {
                let condition = condition.clone();
                match self.ask(id, |scope| scope.truth(&condition)) {
                    Ok(true) => self.make_ready(id),
                    Ok(false) => return condition.reads(&|query| query.is_time()),
                    Err(problem) => self.fail_waiting(id, problem),
                }
            }
            RunState::AwaitingFocus { app, previous_window, effect: None }
                if self.world.context.app().is_named(app) =>
            {
                let (app, previous_window) = (app.clone(), *previous_window);
                let window = self.world.context.app().window;
                let block = Block::With { app, window, previous_window };
                self.state.runs.live_mut(id).blocks.push(block);
                self.make_ready(id);
            }
            _ => {}
        }
        false
    }

    /// Sets the time at which conditions on the clock are evaluated again.
    pub(crate) fn set_clock_timer(&mut self) {
        self.out.timers.set(Timer::EvaluateConditions, self.world.now + CLOCK_CONDITIONS);
    }

    /// Queues an effect for a run, which may wait for its outcome.
    pub(super) fn emit(&mut self, run: RunId, kind: EffectKind) -> EffectId {
        let has_outcome = matches!(kind, EffectKind::Input(_) | EffectKind::Execute(_));
        let effect = self.out.emit(Some(run), kind);
        if has_outcome {
            self.state.runs.note_effect(effect, run);
        }
        effect
    }

    /// Releases keys at once, also while another run sends input.
    pub(super) fn emit_releases(&mut self, run: Option<RunId>, keys: Vec<Key>) {
        if !keys.is_empty() {
            let actions = keys.into_iter().rev().map(InputAction::Up).collect();
            let batch = InputBatch { actions, ..InputBatch::default() };
            let effect = self.out.emit(run, EffectKind::Input(batch));
            if let Some(run) = run {
                self.state.runs.note_effect(effect, run);
            }
        }
    }

    /// Cancels the effect that a run waits for.
    fn cancel(&mut self, id: RunId, state: &RunState) {
        if let RunState::Awaiting(effect, _) = state {
            self.state.end_sound(self.world.now, *effect);
            self.out.emit(Some(id), EffectKind::Cancel(*effect));
        }
    }

    /// Queues a run to continue.
    pub(super) fn make_ready(&mut self, id: RunId) {
        self.state.runs.live_mut(id).state = RunState::Ready;
        self.cancel_timers(id);
        self.state.runs.push_ready(id);
    }

    /// Wakes the run at `time`.
    pub(super) fn sleep_until(&mut self, time: Time, id: RunId) {
        self.out.timers.set(Timer::Wake(id), time);
        self.state.runs.live_mut(id).operations = 0;
    }

    fn cancel_timers(&mut self, id: RunId) {
        self.out.timers.cancel(Timer::Wake(id));
        self.out.timers.cancel(Timer::Timeout(id));
    }

    /// Puts a value into a slot of the run's present call, or into a top-level name.
    pub(super) fn assign(&mut self, id: RunId, target: AssignTarget, value: Value) {
        match target {
            AssignTarget::Local(slot) => {
                self.state.runs.live_mut(id).frame_mut().slots[slot] = value;
            }
            AssignTarget::Global(index) => {
                self.state.evaluator.set_global(index, value);
                self.state.conditions_dirty = true;
            }
        }
    }

    /// Evaluates something with the run's values.
    pub(super) fn ask<T>(
        &self,
        id: RunId,
        question: impl FnOnce(&EvalScope<'_>) -> Evaluated<T>,
    ) -> Evaluated<T> {
        let run = self.state.runs.live(id);
        let is_held = run.press().is_some_and(|press| self.world.keys.is_held(press));
        let trigger_key = if is_held { TriggerKey::Held } else { TriggerKey::Up };
        let slots = &run.frame().slots;
        question(&self.state.evaluator.scope(self.world.around(), slots, trigger_key))
    }

    /// Handles a failed step: the run continues in its `else` block, or ends with the location of the
    /// step. Returns whether the run continues.
    fn fail_step(&mut self, id: RunId, problem: StepError) -> bool {
        let rules = self.world.rules;
        let run = self.state.runs.live_mut(id);
        let frame = run.frame_mut();
        let routine = rules.routine(frame.routine);
        if matches!(routine.ops.get(frame.next), Some(Op::OnFailure(_))) {
            frame.next += 1;
            run.state = RunState::Ready;
            self.cancel_timers(id);
            return true;
        }
        let place = run.place(rules).unwrap_or_default();
        let StepError { kind, message } = problem;
        self.end_run(id, DecisionKind::Failed { run: id, place, kind, message });
        false
    }

    /// The same for a run that is not being executed: if it continues, it is queued.
    pub(super) fn fail_waiting(&mut self, id: RunId, problem: StepError) {
        self.release_input(id);
        if self.fail_step(id, problem) {
            self.state.runs.push_ready(id);
        }
    }

    /// A choice of `count` at the run's present operation that is not the last one made there.
    pub(super) fn choose(&mut self, id: RunId, count: usize) -> usize {
        let frame = self.state.runs.live(id).frame();
        let site = (frame.routine, frame.next);
        let last = self.state.last_choices.get(&site).copied();
        let choice = self.state.evaluator.random().choice(count, last);
        self.state.last_choices.insert(site, choice);
        choice
    }

    /// Ends a run from outside.
    pub(crate) fn stop(&mut self, id: RunId, why: StopCause) {
        self.end_run(id, DecisionKind::Stopped(id, why));
    }
}
