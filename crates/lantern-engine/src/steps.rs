//! Carrying out a run's operations, one after another, until it must wait.

use std::sync::Arc;
use std::time::Duration;

use lantern_model::code::{AssignTarget, Expr, HintPlaceExpr, KeyCombinationExpr, Op, StopTarget};
use lantern_model::{
    Command, CommandKind, EffectKind, Hint, HintContent, HintPlace, InputAction, Key,
    KeyCombination, KeySpec, RoutineId, RunId, Time, Value,
};

use crate::decision_log::{DecisionKind, StopCause};
use crate::engine::Engine;
use crate::held_keys::Owner;
use crate::input::{InputJob, InputWork};
use crate::runs::{Block, CallFrame, DEEPEST_CALL, RunState};
use crate::timers::Timer;

/// Operations a run may do without sleeping before it steps back for the others and the person.
const TURN: usize = 256;
/// Number of bytes that expressions copy, join and compare for which one operation counts.
const WORK_OF_OPERATION: usize = 2 << 10;
/// How long a run that used up its turn steps back.
const STEP_BACK: Duration = Duration::from_millis(1);
/// Default duration of a hint.
const HINT: Duration = Duration::from_secs(2);

/// How a run continues after a step.
pub(crate) enum StepFlow {
    Next,
    Wait,
    End,
}

pub(crate) type StepResult = Result<StepFlow, String>;

impl Engine {
    /// Executes every ready run.
    pub(crate) fn run_ready(&mut self, now: Time) {
        while let Some(id) = self.ready_runs.pop_front() {
            let Some(run) = self.runs.live.get(&id) else { continue };
            if !matches!(run.state, RunState::Ready) {
                continue;
            }
            if self.is_paused(run.rule) {
                self.suspended_runs.push(id);
            } else {
                self.take_turn(now, id);
            }
        }
    }

    pub(crate) fn is_paused(&self, rule: usize) -> bool {
        self.all_paused
            || !self.paused.is_empty()
                && self.rules.rules[rule]
                    .name
                    .as_ref()
                    .is_some_and(|name| self.paused.contains(name))
    }

    /// A run's timer is due.
    pub(crate) fn wake_run(&mut self, now: Time, id: RunId) {
        let Some(run) = self.runs.live.get(&id) else {
            return;
        };
        match run.state {
            RunState::SendingInput(..) => self.advance_job(now, id),
            _ => self.make_ready(id),
        }
    }

    /// Queues a run to continue.
    pub(crate) fn make_ready(&mut self, id: RunId) {
        self.runs.get_mut(id).state = RunState::Ready;
        self.timers.cancel(Timer::Wake(id));
        self.timers.cancel(Timer::Timeout(id));
        self.ready_runs.push_back(id);
    }

    fn take_turn(&mut self, now: Time, id: RunId) {
        let rules = Arc::clone(&self.rules);
        // What conditions cost is not the run's.
        self.charged_bytes.set(0);
        loop {
            let run = self.runs.get_mut(id);
            if run.operations >= TURN {
                run.state = RunState::Sleeping;
                self.sleep_until(now + STEP_BACK, id);
                return;
            }
            run.operations += 1 + self.charged_bytes.take() / WORK_OF_OPERATION;
            let Some(frame) = run.frames.last_mut() else {
                self.end_run(now, id, DecisionKind::Ended(id));
                return;
            };
            let Some(op) = rules.routine(frame.routine).ops.get(frame.next) else {
                run.frames.pop();
                continue;
            };
            frame.next += 1;
            match self.do_op(now, id, op) {
                Ok(StepFlow::Next) => {}
                Ok(StepFlow::Wait) | Ok(StepFlow::End) => return,
                Err(message) => {
                    if !self.fail_step(now, id, message) {
                        return;
                    }
                }
            }
        }
    }

    fn do_op(&mut self, now: Time, id: RunId, op: &Op) -> StepResult {
        match op {
            Op::Tap { combos, times, pace } => {
                self.do_tap(now, id, combos, times.as_ref(), pace.as_ref())
            }
            Op::Type { text, pace, despite_focus_change: anyway } => {
                self.do_type(now, id, text, pace.as_ref(), *anyway)
            }
            Op::Press(combo) => {
                self.do_hold(now, id, combo, |id, _| Owner::Run(id)).map(|(flow, _)| flow)
            }
            Op::Hold(combo) => {
                let (flow, keys) = self.do_hold(now, id, combo, Owner::Block)?;
                if let Some(keys) = keys {
                    self.runs.get_mut(id).blocks.push(Block::Hold(keys));
                }
                Ok(flow)
            }
            Op::Release(combo) => self.do_release(now, id, combo),
            Op::Toggle(combo) => self.do_toggle(now, id, combo),
            Op::Erase => self.do_erase(now, id),
            Op::Move { to, over } => self.do_move(now, id, to, over.as_ref()),
            Op::Command { .. } => self.do_command(now, id, op),
            Op::With(app) => self.do_with(now, id, app),
            Op::EndBlock => Ok(self.do_end_block(id)),
            Op::OnFailure(target) => Ok(self.jump(id, *target)),
            Op::Wait(span) => {
                let span = self.ask(now, id, |scope| scope.optional_duration(span.as_ref()))?;
                self.runs.get_mut(id).state = RunState::Sleeping;
                if let Some(span) = span {
                    self.sleep_until(now + span, id);
                }
                Ok(StepFlow::Wait)
            }
            Op::WaitUntil { condition, timeout: limit } => {
                self.do_wait_until(now, id, condition, limit.as_ref())
            }
            Op::Repeat { times, every } => self.do_repeat(now, id, times.as_ref(), every.as_ref()),
            Op::For { list, slot } => self.do_for(now, id, list, *slot),
            Op::NextIteration(end) => Ok(self.do_next_iteration(now, id, *end)),
            Op::AnyOf(targets) => Ok(self.do_any_of(id, targets)),
            Op::Jump(target) => Ok(self.jump(id, *target)),
            Op::JumpUnless(test, target) => {
                let holds = self.ask(now, id, |scope| scope.truth(test))?;
                Ok(if holds { StepFlow::Next } else { self.jump(id, *target) })
            }
            Op::Set(target, value) => {
                let value = self.ask(now, id, |scope| scope.value(value))?;
                self.put(id, *target, value);
                Ok(StepFlow::Next)
            }
            Op::Call(routine, arguments) => self.do_call(now, id, *routine, arguments),
            Op::Log(text) => {
                let text = self.ask(now, id, |scope| scope.shown(text))?;
                self.emit(Some(id), EffectKind::Log(text));
                Ok(StepFlow::Next)
            }
            Op::Hint { text, at, duration: span } => self.do_hint(now, id, text, at, span.as_ref()),
            Op::Stop(target) => Ok(self.do_stop(now, id, target)),
            Op::Pause { name, paused } => Ok(self.do_pause(name, *paused)),
            Op::Listen(heed) => Ok(self.do_listen(now, *heed)),
            Op::Layer { layer, on } => {
                self.layers.retain(|known| known != layer);
                if *on {
                    self.layers.push(*layer);
                }
                self.update_bindings(now);
                Ok(StepFlow::Next)
            }
        }
    }

    /// Puts a value into a slot of the run's present call, or into a top-level name.
    pub(crate) fn put(&mut self, id: RunId, target: AssignTarget, value: Value) {
        match target {
            AssignTarget::Local(slot) => {
                let frame = self.runs.get_mut(id).frames.last_mut();
                frame.expect("an operation is done in a call").slots[slot] = value;
            }
            AssignTarget::Global(index) => {
                self.globals[index] = value;
                self.conditions_dirty = true;
            }
        }
    }

    /// Works something out with the run's values.
    pub(crate) fn ask<T>(
        &self,
        now: Time,
        id: RunId,
        question: impl FnOnce(&crate::eval::EvalScope<'_>) -> Result<T, String>,
    ) -> Result<T, String> {
        let run = &self.runs.live[&id];
        let frame = run.frames.last().expect("an operation is done in a call");
        question(&self.scope(now, &frame.slots, self.is_held(run.press)))
    }

    /// Handles a failed step: the run continues in its `else` block, or ends with the location of the
    /// step. Returns whether the run continues.
    pub(crate) fn fail_step(&mut self, now: Time, id: RunId, message: String) -> bool {
        let rules = Arc::clone(&self.rules);
        let run = self.runs.get_mut(id);
        let frame = run.frames.last_mut().expect("a live run is in a call");
        let routine = rules.routine(frame.routine);
        if matches!(routine.ops.get(frame.next), Some(Op::OnFailure(_))) {
            frame.next += 1;
            run.state = RunState::Ready;
            self.timers.cancel(Timer::Wake(id));
            self.timers.cancel(Timer::Timeout(id));
            return true;
        }
        let place = routine.places.get(frame.next.saturating_sub(1)).copied().unwrap_or_default();
        self.end_run(now, id, DecisionKind::Failed { run: id, place, message });
        false
    }

    /// The same for a run that is not being executed: if it continues, it is queued.
    pub(crate) fn fail_waiting(&mut self, now: Time, id: RunId, message: String) {
        self.release_input(id);
        if self.fail_step(now, id, message) {
            self.ready_runs.push_back(id);
        }
    }

    /// The keys of the board for a combination.
    fn board_keys(
        &self,
        now: Time,
        id: RunId,
        combo: &KeyCombinationExpr,
    ) -> Result<Vec<Key>, String> {
        let combo = self.ask(now, id, |scope| scope.combo(combo))?;
        self.press_order(&combo)
    }

    fn press_order(&self, combo: &KeyCombination) -> Result<Vec<Key>, String> {
        self.layout
            .press_order(combo)
            .map_err(|key| format!("this keyboard has no key {key}, so {combo} cannot be pressed"))
    }

    pub(crate) fn jump(&mut self, id: RunId, target: usize) -> StepFlow {
        let frame = self.runs.get_mut(id).frames.last_mut();
        frame.expect("an operation is done in a call").next = target;
        StepFlow::Next
    }

    /// Does the operation again when the run has its turn.
    pub(crate) fn continue_now(&mut self, id: RunId) -> StepFlow {
        let run = self.runs.get_mut(id);
        run.frames.last_mut().expect("an operation is done in a call").next -= 1;
        run.state = RunState::Queued;
        StepFlow::Wait
    }

    pub(crate) fn await_input(&mut self, now: Time, id: RunId, acts: Vec<InputAction>) -> StepFlow {
        if acts.is_empty() {
            self.release_input(id);
            return StepFlow::Next;
        }
        let effect = self.emit_input(now, id, acts, false);
        self.runs.get_mut(id).state = RunState::Awaiting(effect, None);
        StepFlow::Wait
    }

    fn do_tap(
        &mut self,
        now: Time,
        id: RunId,
        combos: &[KeyCombinationExpr],
        times: Option<&Expr>,
        pace: Option<&Expr>,
    ) -> StepResult {
        let mut keys = Vec::with_capacity(combos.len());
        let mut lone_character = None;
        for combo in combos {
            let combo = self.ask(now, id, |scope| scope.combo(combo))?;
            match (combo.0.as_slice(), self.press_order(&combo)) {
                (_, Ok(order)) => keys.push(order),
                ([KeySpec::Character(character)], Err(_)) if combos.len() == 1 => {
                    lone_character = Some(*character);
                }
                (_, Err(message)) => return Err(message),
            }
        }
        let times = self.ask(now, id, |scope| times.map_or(Ok(1), |times| scope.count(times)))?;
        let pace = self.ask(now, id, |scope| scope.optional_duration(pace))?;
        if !self.acquire_input(now, id)? {
            return Ok(self.continue_now(id));
        }
        let times = usize::try_from(times).unwrap_or(usize::MAX);
        let work = match lone_character {
            // A character without a key is typed, as often as it would be tapped.
            Some(character) => {
                InputWork::Text { text: vec![character; times.min(1 << 20)], done: 0, sure: 0 }
            }
            None => {
                let total = times.saturating_mul(keys.len());
                InputWork::Taps { combos: keys, done: 0, total }
            }
        };
        self.begin_job(now, id, InputJob { work, pace, due: now, window: None });
        Ok(StepFlow::Wait)
    }

    fn do_type(
        &mut self,
        now: Time,
        id: RunId,
        text: &Expr,
        pace: Option<&Expr>,
        anyway: bool,
    ) -> StepResult {
        let text = self.ask(now, id, |scope| scope.shown(text))?;
        let pace = self.ask(now, id, |scope| scope.optional_duration(pace))?;
        if !self.acquire_input(now, id)? {
            return Ok(self.continue_now(id));
        }
        if self.may_paste(pace, anyway) && self.is_better_pasted(&text) {
            return Ok(self.await_command(id, CommandKind::Paste, text));
        }
        let work = InputWork::Text { text: text.chars().collect(), done: 0, sure: 0 };
        let window = if anyway { None } else { Some(self.app.window) };
        let job = InputJob { work, pace, due: now, window };
        if self.input_method_active && !anyway {
            let deed = Command {
                kind: CommandKind::QueryInputMethod,
                arguments: Vec::new(),
                value: None,
                timeout: None,
            };
            let effect = self.emit(Some(id), EffectKind::Execute(deed));
            self.runs.get_mut(id).state = RunState::QueryingInputMethod(effect, job);
        } else {
            self.begin_job(now, id, job);
        }
        Ok(StepFlow::Wait)
    }

    /// Whether the person lets a text that is typed at this pace come by the clipboard.
    pub(crate) fn may_paste(&self, pace: Option<Duration>, anyway: bool) -> bool {
        let allowed = self.rules.settings.may_paste && pace.is_none();
        allowed && (anyway || self.check_open_field().is_ok())
    }

    /// Whether a text is better off in the clipboard than typed.
    fn is_better_pasted(&self, text: &str) -> bool {
        const LONG: usize = 300;
        let group = self.layout.group();
        let lacks = |c: char| !c.is_control() && group.key_for(c).is_none();
        text.chars().count() > LONG || text.chars().any(lacks)
    }

    pub(crate) fn await_command(&mut self, id: RunId, verb: CommandKind, word: String) -> StepFlow {
        let deed = Command { kind: verb, arguments: vec![word], value: None, timeout: None };
        let effect = self.emit(Some(id), EffectKind::Execute(deed));
        self.runs.get_mut(id).state = RunState::Awaiting(effect, None);
        StepFlow::Wait
    }

    /// Presses keys for an owner; nothing if the run must wait for its turn.
    fn do_hold(
        &mut self,
        now: Time,
        id: RunId,
        combo: &KeyCombinationExpr,
        owner: impl Fn(RunId, usize) -> Owner,
    ) -> Result<(StepFlow, Option<Vec<Key>>), String> {
        let keys = self.board_keys(now, id, combo)?;
        if !self.acquire_input(now, id)? {
            return Ok((self.continue_now(id), None));
        }
        let owner = owner(id, self.runs.live[&id].blocks.len());
        let pressed = keys.iter().copied().filter(|key| self.held.press(*key, owner));
        let acts: Vec<InputAction> = pressed.map(InputAction::Down).collect();
        Ok((self.await_input(now, id, acts), Some(keys)))
    }

    fn do_release(&mut self, now: Time, id: RunId, combo: &KeyCombinationExpr) -> StepResult {
        let keys = self.board_keys(now, id, combo)?;
        if !self.acquire_input(now, id)? {
            return Ok(self.continue_now(id));
        }
        let owner = Owner::Run(id);
        let freed = keys.into_iter().rev().filter(|key| self.held.release(*key, owner));
        let acts = freed.map(InputAction::Up).collect();
        Ok(self.await_input(now, id, acts))
    }

    fn do_toggle(&mut self, now: Time, id: RunId, combo: &KeyCombinationExpr) -> StepResult {
        let keys = self.board_keys(now, id, combo)?;
        if !self.acquire_input(now, id)? {
            return Ok(self.continue_now(id));
        }
        let mut acts = Vec::new();
        let is_on = keys.iter().all(|key| self.held.holds(*key, Owner::Toggle));
        for key in keys {
            if is_on && self.held.release(key, Owner::Toggle) {
                acts.insert(0, InputAction::Up(key));
            } else if !is_on
                && !self.held.holds(key, Owner::Toggle)
                && self.held.press(key, Owner::Toggle)
            {
                acts.push(InputAction::Down(key));
            }
        }
        Ok(self.await_input(now, id, acts))
    }

    /// Takes back what the person typed to fire the run.
    fn do_erase(&mut self, now: Time, id: RunId) -> StepResult {
        let count = self.runs.live[&id].typed_characters;
        if count == 0 {
            return Ok(StepFlow::Next);
        }
        if !self.acquire_input(now, id)? {
            return Ok(self.continue_now(id));
        }
        let backspace = Key::named("backspace").expect("backspace is in the key table");
        let work = InputWork::Taps { combos: vec![vec![backspace]], done: 0, total: count };
        self.begin_job(now, id, InputJob { work, pace: None, due: now, window: None });
        Ok(StepFlow::Wait)
    }

    fn do_call(
        &mut self,
        now: Time,
        id: RunId,
        routine: RoutineId,
        arguments: &[Option<Expr>],
    ) -> StepResult {
        let rules = Arc::clone(&self.rules);
        let called = rules.routine(routine);
        let mut slots = Vec::with_capacity(called.slots);
        for (argument, parameter) in arguments.iter().zip(&called.parameters) {
            slots.push(match (argument, &parameter.default) {
                (Some(argument), _) => self.ask(now, id, |scope| scope.value(argument))?,
                (None, Some(default)) => self.scope(now, &[], false).value(default)?,
                (None, None) => unreachable!("check counts the values of every call"),
            });
        }
        slots.resize(called.slots, Value::Truth(false));
        let run = self.runs.get_mut(id);
        if run.frames.len() >= DEEPEST_CALL {
            return Err(format!(
                "`{}` calls itself without end: {DEEPEST_CALL} calls within calls",
                called.name
            ));
        }
        run.frames.push(CallFrame { routine, next: 0, slots });
        Ok(StepFlow::Next)
    }

    fn do_hint(
        &mut self,
        now: Time,
        id: RunId,
        text: &Expr,
        at: &HintPlaceExpr,
        span: Option<&Expr>,
    ) -> StepResult {
        let text = self.ask(now, id, |scope| scope.shown(text))?;
        let span = self.ask(now, id, |scope| scope.optional_duration(span))?.unwrap_or(HINT);
        let place = match at {
            HintPlaceExpr::Pointer => HintPlace::Pointer,
            HintPlaceExpr::Corner(corner) => HintPlace::Corner(*corner),
            HintPlaceExpr::Point(x, y) => {
                let (x, y) = self.ask(now, id, |scope| Ok((scope.pixels(x)?, scope.pixels(y)?)))?;
                HintPlace::At(x, y)
            }
        };
        let rule = Some(self.runs.live[&id].rule);
        self.emit(
            Some(id),
            EffectKind::Hint(Hint {
                content: HintContent::Text(text),
                place,
                duration: span,
                rule,
            }),
        );
        Ok(StepFlow::Next)
    }

    fn do_stop(&mut self, now: Time, id: RunId, target: &StopTarget) -> StepFlow {
        let rules = Arc::clone(&self.rules);
        let named = |rule: usize, name: &str| rules.rules[rule].name.as_deref() == Some(name);
        let stopped: Vec<RunId> = match target {
            StopTarget::ThisRun => {
                let rule = self.runs.live[&id].rule;
                self.queued.remove(&rule);
                vec![id]
            }
            StopTarget::All => self.runs.live.keys().copied().collect(),
            StopTarget::AllUntilResumed => {
                self.panic(now, StopCause::StopAllStep);
                return StepFlow::End;
            }
            StopTarget::Named(name) => {
                self.drop_pending_activations(|rule| named(rule, name));
                let runs = self.runs.live.iter().filter(|(_, run)| named(run.rule, name));
                runs.map(|(id, _)| *id).collect()
            }
        };
        if *target == StopTarget::All {
            self.drop_pending_activations(|_| true);
        }
        let ends_itself = stopped.contains(&id);
        for run in stopped {
            let kind = if run == id {
                DecisionKind::Ended(run)
            } else {
                DecisionKind::Stopped(run, StopCause::StopStep)
            };
            self.end_run(now, run, kind);
        }
        if ends_itself { StepFlow::End } else { StepFlow::Next }
    }

    fn do_pause(&mut self, name: &str, paused: bool) -> StepFlow {
        if paused {
            self.paused.insert(name.to_owned());
        } else if self.paused.remove(name) {
            self.ready_runs.extend(std::mem::take(&mut self.suspended_runs));
        }
        StepFlow::Next
    }
}
