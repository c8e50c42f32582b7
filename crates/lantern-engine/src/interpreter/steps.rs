//! Steps that are no input and no blocks: values, calls, waits, commands to the world, and what is asked
//! of the engine.

use std::time::Duration;

use lantern_model::code::{Expr, HintPlaceExpr, Op};
use lantern_model::{
    Command, CommandKind, EffectKind, Hint, HintContent, HintPlace, RoutineId, RunId, Value,
};

use super::runs::{CallFrame, DEEPEST_CALL, RunState};
use super::{EngineRequest, Execution, Owner, StepFlow, StepResult};
use crate::eval::TriggerKey;
use crate::timers::Timer;

/// Default duration of a hint.
const HINT: Duration = Duration::from_secs(2);

impl Execution<'_> {
    /// Does one operation of a run.
    pub(super) fn do_op(&mut self, id: RunId, op: &Op) -> StepResult {
        match op {
            Op::Tap { combos, times, pace } => {
                self.do_tap(id, combos, times.as_ref(), pace.as_ref())
            }
            Op::Type { text, pace, despite_focus_change } => {
                self.do_type(id, text, pace.as_ref(), *despite_focus_change)
            }
            Op::Press(combo) => {
                self.do_hold(id, combo, |id, _| Owner::Run(id)).map(|(flow, _)| flow)
            }
            Op::Hold(combo) => self.do_hold_block(id, combo),
            Op::Release(combo) => self.do_release(id, combo),
            Op::Toggle(combo) => self.do_toggle(id, combo),
            Op::Erase => self.do_erase(id),
            Op::Move { to, over } => self.do_move(id, to, over.as_ref()),
            Op::Command { .. } => self.do_command(id, op),
            Op::With(app) => self.do_with(id, app),
            Op::EndBlock => Ok(self.do_end_block(id)),
            Op::OnFailure(target) => Ok(self.jump(id, *target)),
            Op::Wait(span) => self.do_wait(id, span.as_ref()),
            Op::WaitUntil { condition, timeout } => {
                self.do_wait_until(id, condition, timeout.as_ref())
            }
            Op::Repeat { times, every } => self.do_repeat(id, times.as_ref(), every.as_ref()),
            Op::For { list, slot } => self.do_for(id, list, *slot),
            Op::NextIteration(end) => Ok(self.do_next_iteration(id, *end)),
            Op::AnyOf(targets) => Ok(self.do_any_of(id, targets)),
            Op::Jump(target) => Ok(self.jump(id, *target)),
            Op::JumpUnless(test, target) => {
                let holds = self.ask(id, |scope| scope.truth(test))?;
                Ok(if holds { StepFlow::Next } else { self.jump(id, *target) })
            }
            Op::Set(target, value) => {
                let value = self.ask(id, |scope| scope.value(value))?;
                self.assign(id, *target, value);
                Ok(StepFlow::Next)
            }
            Op::Call(routine, arguments) => self.do_call(id, *routine, arguments),
            Op::Log(text) => {
                let text = self.ask(id, |scope| scope.shown(text))?;
                self.emit(id, EffectKind::Log(text));
                Ok(StepFlow::Next)
            }
            Op::Hint { text, at, duration } => self.do_hint(id, text, at, duration.as_ref()),
            Op::Stop(target) => Ok(StepFlow::Request(EngineRequest::Stop(target.clone()))),
            Op::Pause { name, paused: true } => {
                Ok(StepFlow::Request(EngineRequest::Pause(name.clone())))
            }
            Op::Pause { name, paused: false } => {
                Ok(StepFlow::Request(EngineRequest::Resume(name.clone())))
            }
            Op::Listen(mode) => Ok(StepFlow::Request(EngineRequest::Listen(*mode))),
            Op::Layer { layer, on } => Ok(StepFlow::Request(EngineRequest::Layer(*layer, *on))),
        }
    }

    /// Continues at another operation of the present routine.
    pub(super) fn jump(&mut self, id: RunId, target: usize) -> StepFlow {
        self.state.runs.live_mut(id).frame_mut().next = target;
        StepFlow::Next
    }

    /// Does the operation again when the run has its turn.
    pub(super) fn retry_later(&mut self, id: RunId) -> StepFlow {
        let run = self.state.runs.live_mut(id);
        run.frame_mut().next -= 1;
        run.state = RunState::Queued;
        StepFlow::Wait
    }

    fn do_wait(&mut self, id: RunId, span: Option<&Expr>) -> StepResult {
        let span = self.ask(id, |scope| scope.optional_duration(span))?;
        self.state.runs.live_mut(id).state = RunState::Sleeping;
        if let Some(span) = span {
            self.sleep_until(self.world.now + span, id);
        }
        Ok(StepFlow::Wait)
    }

    fn do_call(&mut self, id: RunId, routine: RoutineId, arguments: &[Option<Expr>]) -> StepResult {
        let called = self.world.rules.routine(routine);
        let mut slots = Vec::with_capacity(called.slots);
        for (argument, parameter) in arguments.iter().zip(&called.parameters) {
            slots.push(match (argument, &parameter.default) {
                (Some(argument), _) => self.ask(id, |scope| scope.value(argument))?,
                (None, Some(default)) => {
                    let evaluator = &self.state.evaluator;
                    evaluator.scope(self.world.around(), &[], TriggerKey::Up).value(default)?
                }
                (None, None) => unreachable!("check counts the values of every call"),
            });
        }
        slots.resize(called.slots, Value::Truth(false));
        let run = self.state.runs.live_mut(id);
        if run.frames.len() >= DEEPEST_CALL {
            let problem = format!(
                "`{}` calls itself without end: {DEEPEST_CALL} calls within calls",
                called.name
            );
            return Err(problem.into());
        }
        run.frames.push(CallFrame { routine, next: 0, slots });
        Ok(StepFlow::Next)
    }

    fn do_hint(
        &mut self,
        id: RunId,
        text: &Expr,
        at: &HintPlaceExpr,
        duration: Option<&Expr>,
    ) -> StepResult {
        let text = self.ask(id, |scope| scope.shown(text))?;
        let duration = self.ask(id, |scope| scope.optional_duration(duration))?.unwrap_or(HINT);
        let place = match at {
            HintPlaceExpr::Pointer => HintPlace::Pointer,
            HintPlaceExpr::Corner(corner) => HintPlace::Corner(*corner),
            HintPlaceExpr::Point(x, y) => {
                let (x, y) = self.ask(id, |scope| Ok((scope.pixels(x)?, scope.pixels(y)?)))?;
                HintPlace::At(x, y)
            }
        };
        let rule = Some(self.state.runs.live(id).rule());
        let content = HintContent::Text(text);
        self.emit(id, EffectKind::Hint(Hint { content, place, duration, rule }));
        Ok(StepFlow::Next)
    }

    fn do_command(&mut self, id: RunId, op: &Op) -> StepResult {
        let Op::Command { kind, arguments, value, timeout, into, name } = op else {
            unreachable!("only commands come here, not {op:?}");
        };
        let mut arguments = self.ask(id, |scope| {
            arguments.iter().map(|argument| scope.shown(argument)).collect::<Result<Vec<_>, _>>()
        })?;
        let value = self.ask(id, |scope| value.as_ref().map(|v| scope.value(v)).transpose())?;
        let timeout = self.ask(id, |scope| scope.optional_duration(timeout.as_ref()))?;
        if kind.is_input() && !self.acquire_input(id)? {
            return Ok(self.retry_later(id));
        }
        if *kind == CommandKind::Paste
            && let Err(problem) = self.check_open_field()
        {
            self.release_input(id);
            return Err(problem);
        }
        if *kind == CommandKind::Play && arguments.len() > 1 {
            let choice = self.choose(id, arguments.len());
            arguments = vec![arguments.swap_remove(choice)];
        }
        let kind = match kind {
            CommandKind::End(name) => match self.state.started_programs.get(name) {
                Some(effect) => CommandKind::EndStarted(*effect),
                None => return Err(format!("nothing was started as {name} yet").into()),
            },
            other => other.clone(),
        };
        let is_sound = matches!(kind, CommandKind::Say | CommandKind::Play);
        let effect = self.execute(id, Command { kind, arguments, value, timeout });
        if is_sound {
            self.state.sounds.playing.insert(effect);
        }
        if let Some(name) = name {
            self.state.started_programs.insert(name.clone(), effect);
        }
        let run = self.state.runs.live_mut(id);
        run.state = RunState::Awaiting(effect, *into);
        run.operations = 0;
        if let Some(timeout) = timeout {
            self.out.timers.set(Timer::Timeout(id), self.world.now + timeout);
        }
        Ok(StepFlow::Wait)
    }

    /// Asks the world for something.
    pub(super) fn execute(&mut self, id: RunId, command: Command) -> lantern_model::EffectId {
        self.emit(id, EffectKind::Execute(command))
    }

    /// Asks the world for something, and waits for the outcome.
    pub(super) fn await_command(
        &mut self,
        id: RunId,
        kind: CommandKind,
        arguments: Vec<String>,
    ) -> StepFlow {
        let command = Command { kind, arguments, value: None, timeout: None };
        let effect = self.execute(id, command);
        self.state.runs.live_mut(id).state = RunState::Awaiting(effect, None);
        StepFlow::Wait
    }
}
