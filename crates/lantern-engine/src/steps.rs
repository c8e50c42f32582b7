//! Carrying out a run's operations, one after another, until it must wait.

use std::sync::Arc;
use std::time::Duration;

use lantern_model::code::{ComboExpr, Expr, Op, StopTarget};
use lantern_model::{Act, Combo, HintPlace, Key, KeyRef, Order, RoutineId, RunId, Time, Value};

use crate::engine::Engine;
use crate::input::{Job, Work};
use crate::ledger::Owner;
use crate::reasons::ReasonKind;
use crate::runs::{Block, DEEPEST_CALL, Frame, State};

/// Operations a run may do without sleeping before it steps back for the others and the person.
const TURN: usize = 256;
/// How long a run that used up its turn steps back.
const STEP_BACK: Duration = Duration::from_millis(1);
/// A loop that is this many turns late gives up the lost ones.
const TURNS_LATE: u32 = 8;
/// How long a hint stays when nothing is said.
const HINT: Duration = Duration::from_secs(2);

/// Whether a run goes on at once.
enum Flow {
    Next,
    Wait,
    End,
}

type Done = Result<Flow, String>;

impl Engine {
    /// Lets every run that can go on do so.
    pub(crate) fn run_ready(&mut self, now: Time) {
        while let Some(id) = self.ready.pop_front() {
            if matches!(self.runs.live.get(&id).map(|run| &run.state), Some(State::Ready)) {
                self.take_turn(now, id);
            }
        }
    }

    /// A run's timer is due.
    pub(crate) fn wake_run(&mut self, now: Time, id: RunId) {
        let Some(run) = self.runs.live.get_mut(&id) else {
            return;
        };
        run.timer = None;
        match run.state {
            State::Inputting(..) => self.advance_job(now, id),
            _ => {
                run.state = State::Ready;
                self.ready.push_back(id);
            }
        }
    }

    fn take_turn(&mut self, now: Time, id: RunId) {
        let rules = Arc::clone(&self.rules);
        loop {
            let run = self.runs.get_mut(id);
            if run.spent >= TURN {
                run.state = State::Sleeping;
                self.sleep_until(now + STEP_BACK, id);
                return;
            }
            run.spent += 1;
            let Some(frame) = run.frames.last_mut() else {
                self.end_run(now, id, ReasonKind::Ended(id));
                return;
            };
            let Some(op) = rules.routine(frame.routine).ops.get(frame.next) else {
                run.frames.pop();
                continue;
            };
            frame.next += 1;
            match self.do_op(now, id, op) {
                Ok(Flow::Next) => {}
                Ok(Flow::Wait) | Ok(Flow::End) => return,
                Err(message) => {
                    self.fail_run(now, id, message);
                    return;
                }
            }
        }
    }

    fn do_op(&mut self, now: Time, id: RunId, op: &Op) -> Done {
        match op {
            Op::Tap { combos, times, pace } => {
                self.do_tap(now, id, combos, times.as_ref(), pace.as_ref())
            }
            Op::Type { text, pace, anyway } => self.do_type(now, id, text, pace.as_ref(), *anyway),
            Op::Press(combo) => {
                self.do_hold(id, combo, |id, _| Owner::Run(id)).map(|(flow, _)| flow)
            }
            Op::Hold(combo) => {
                let (flow, keys) = self.do_hold(id, combo, Owner::Block)?;
                if let Some(keys) = keys {
                    self.runs.get_mut(id).blocks.push(Block::Hold(keys));
                }
                Ok(flow)
            }
            Op::Release(combo) => self.do_release(id, combo),
            Op::Toggle(combo) => self.do_toggle(id, combo),
            Op::EndBlock => Ok(self.do_end_block(id)),
            Op::MoveTo(x, y) => self.do_move(id, x, y, Act::MoveTo),
            Op::MoveBy(x, y) => self.do_move(id, x, y, Act::MoveBy),
            Op::Launch(program) => {
                let program = self.ask(id, |scope| scope.shown(program))?;
                Ok(self.await_effect(id, Order::Launch(program)))
            }
            Op::Run { words, limit } => {
                let words = self.ask(id, |scope| {
                    words.iter().map(|word| scope.shown(word)).collect::<Result<Vec<_>, _>>()
                })?;
                let limit = self.ask(id, |scope| scope.optional_duration(limit.as_ref()))?;
                Ok(self.await_effect(id, Order::Run { words, limit }))
            }
            Op::Wait(span) => {
                let span = self.ask(id, |scope| scope.optional_duration(span.as_ref()))?;
                self.runs.get_mut(id).state = State::Sleeping;
                if let Some(span) = span {
                    self.sleep_until(now + span, id);
                }
                Ok(Flow::Wait)
            }
            Op::Repeat { times, every } => {
                let left =
                    self.ask(id, |scope| times.as_ref().map(|n| scope.count(n)).transpose())?;
                let every = self.ask(id, |scope| scope.optional_duration(every.as_ref()))?;
                self.runs.get_mut(id).blocks.push(Block::Loop { left, every, due: None });
                Ok(Flow::Next)
            }
            Op::NextTurn(end) => Ok(self.do_next_turn(now, id, *end)),
            Op::Jump(target) => Ok(self.jump(id, *target)),
            Op::JumpUnless(test, target) => {
                let holds = self.ask(id, |scope| scope.truth(test))?;
                Ok(if holds { Flow::Next } else { self.jump(id, *target) })
            }
            Op::SetLocal(slot, value) => {
                let value = self.ask(id, |scope| scope.value(value))?;
                let frame = self.runs.get_mut(id).frames.last_mut();
                frame.expect("an operation is done in a call").slots[*slot] = value;
                Ok(Flow::Next)
            }
            Op::SetGlobal(index, value) => {
                self.globals[*index] = self.ask(id, |scope| scope.value(value))?;
                Ok(Flow::Next)
            }
            Op::Call(routine, arguments) => self.do_call(id, *routine, arguments),
            Op::Log(text) => {
                let text = self.ask(id, |scope| scope.shown(text))?;
                self.emit(Some(id), Order::Log(text));
                Ok(Flow::Next)
            }
            Op::Hint { text, at, span } => self.do_hint(id, text, at.as_ref(), span.as_ref()),
            Op::Stop(target) => Ok(self.do_stop(now, id, target)),
        }
    }

    /// Works something out with the run's values.
    fn ask<T>(
        &self,
        id: RunId,
        question: impl FnOnce(&crate::eval::Scope<'_>) -> Result<T, String>,
    ) -> Result<T, String> {
        let run = &self.runs.live[&id];
        let frame = run.frames.last().expect("an operation is done in a call");
        let held = self.down.get(&run.press.key).is_some_and(|down| down.press == run.press);
        question(&self.scope(&frame.slots, held))
    }

    /// The keys of the board for a combination.
    fn board_keys(&self, id: RunId, combo: &ComboExpr) -> Result<Vec<Key>, String> {
        let combo = self.ask(id, |scope| scope.combo(combo))?;
        self.press_order(&combo)
    }

    fn press_order(&self, combo: &Combo) -> Result<Vec<Key>, String> {
        self.layout
            .press_order(combo)
            .map_err(|key| format!("this keyboard has no key {key}, so {combo} cannot be pressed"))
    }

    fn jump(&mut self, id: RunId, target: usize) -> Flow {
        let frame = self.runs.get_mut(id).frames.last_mut();
        frame.expect("an operation is done in a call").next = target;
        Flow::Next
    }

    /// Does the operation again when the run has its turn.
    fn again(&mut self, id: RunId) -> Flow {
        let frame = self.runs.get_mut(id).frames.last_mut();
        frame.expect("an operation is done in a call").next -= 1;
        Flow::Wait
    }

    fn await_effect(&mut self, id: RunId, order: Order) -> Flow {
        let effect = self.emit(Some(id), order);
        self.runs.get_mut(id).state = State::Awaiting(effect);
        Flow::Wait
    }

    fn await_acts(&mut self, id: RunId, acts: Vec<Act>) -> Flow {
        if acts.is_empty() {
            self.release_input(id);
            return Flow::Next;
        }
        let effect = self.emit_input(id, acts, false);
        self.runs.get_mut(id).state = State::Awaiting(effect);
        Flow::Wait
    }

    fn do_tap(
        &mut self,
        now: Time,
        id: RunId,
        combos: &[ComboExpr],
        times: Option<&Expr>,
        pace: Option<&Expr>,
    ) -> Done {
        let mut keys = Vec::with_capacity(combos.len());
        let mut lone_character = None;
        for combo in combos {
            let combo = self.ask(id, |scope| scope.combo(combo))?;
            match (combo.0.as_slice(), self.press_order(&combo)) {
                (_, Ok(order)) => keys.push(order),
                ([KeyRef::Character(character)], Err(_)) if combos.len() == 1 => {
                    lone_character = Some(*character);
                }
                (_, Err(message)) => return Err(message),
            }
        }
        let times = self.ask(id, |scope| times.map_or(Ok(1), |times| scope.count(times)))?;
        let pace = self.ask(id, |scope| scope.optional_duration(pace))?;
        if !self.acquire_input(id) {
            return Ok(self.again(id));
        }
        let times = usize::try_from(times).unwrap_or(usize::MAX);
        let work = match lone_character {
            // A character without a key is typed, as often as it would be tapped.
            Some(character) => Work::Text { text: vec![character; times.min(1 << 20)], done: 0 },
            None => {
                let total = times.saturating_mul(keys.len());
                Work::Taps { combos: keys, done: 0, total }
            }
        };
        self.begin_job(now, id, Job { work, pace, due: now, window: None });
        Ok(Flow::Wait)
    }

    fn do_type(
        &mut self,
        now: Time,
        id: RunId,
        text: &Expr,
        pace: Option<&Expr>,
        anyway: bool,
    ) -> Done {
        let text = self.ask(id, |scope| scope.shown(text))?;
        let pace = self.ask(id, |scope| scope.optional_duration(pace))?;
        if !self.acquire_input(id) {
            return Ok(self.again(id));
        }
        let work = Work::Text { text: text.chars().collect(), done: 0 };
        let window = if anyway { None } else { Some(self.app.window) };
        self.begin_job(now, id, Job { work, pace, due: now, window });
        Ok(Flow::Wait)
    }

    /// Presses keys for an owner; nothing if the run must wait for its turn.
    fn do_hold(
        &mut self,
        id: RunId,
        combo: &ComboExpr,
        owner: impl Fn(RunId, usize) -> Owner,
    ) -> Result<(Flow, Option<Vec<Key>>), String> {
        let keys = self.board_keys(id, combo)?;
        if !self.acquire_input(id) {
            return Ok((self.again(id), None));
        }
        let owner = owner(id, self.runs.live[&id].blocks.len());
        let pressed = keys.iter().copied().filter(|key| self.ledger.press(*key, owner));
        let acts: Vec<Act> = pressed.map(Act::Down).collect();
        Ok((self.await_acts(id, acts), Some(keys)))
    }

    fn do_release(&mut self, id: RunId, combo: &ComboExpr) -> Done {
        let keys = self.board_keys(id, combo)?;
        if !self.acquire_input(id) {
            return Ok(self.again(id));
        }
        let owner = Owner::Run(id);
        let freed = keys.into_iter().rev().filter(|key| self.ledger.release(*key, owner));
        let acts = freed.map(Act::Up).collect();
        Ok(self.await_acts(id, acts))
    }

    fn do_toggle(&mut self, id: RunId, combo: &ComboExpr) -> Done {
        let keys = self.board_keys(id, combo)?;
        if !self.acquire_input(id) {
            return Ok(self.again(id));
        }
        let mut acts = Vec::new();
        let is_on = keys.iter().all(|key| self.ledger.holds(*key, Owner::Toggle));
        for key in keys {
            if is_on && self.ledger.release(key, Owner::Toggle) {
                acts.insert(0, Act::Up(key));
            } else if !is_on
                && !self.ledger.holds(key, Owner::Toggle)
                && self.ledger.press(key, Owner::Toggle)
            {
                acts.push(Act::Down(key));
            }
        }
        Ok(self.await_acts(id, acts))
    }

    fn do_end_block(&mut self, id: RunId) -> Flow {
        let run = self.runs.get_mut(id);
        let Some(Block::Hold(keys)) = run.blocks.pop() else {
            return Flow::Next;
        };
        let owner = Owner::Block(id, run.blocks.len());
        let freed: Vec<Key> =
            keys.into_iter().filter(|key| self.ledger.release(*key, owner)).collect();
        self.emit_releases(Some(id), freed);
        Flow::Next
    }

    fn do_move(&mut self, id: RunId, x: &Expr, y: &Expr, act: fn(i32, i32) -> Act) -> Done {
        let (x, y) = self.ask(id, |scope| Ok((scope.pixels(x)?, scope.pixels(y)?)))?;
        if !self.acquire_input(id) {
            return Ok(self.again(id));
        }
        Ok(self.await_acts(id, vec![act(x, y)]))
    }

    fn do_next_turn(&mut self, now: Time, id: RunId, end: usize) -> Flow {
        let run = self.runs.get_mut(id);
        let Some(Block::Loop { left, every, due }) = run.blocks.last_mut() else {
            unreachable!("a turn belongs to a loop");
        };
        if *left == Some(0) {
            return self.jump(id, end);
        }
        *left = left.map(|left| left - 1);
        let Some(pace) = *every else {
            return Flow::Next;
        };
        let mut next = due.map_or(now, |due| due + pace);
        if next + pace * TURNS_LATE < now {
            next = now;
        }
        *due = Some(next);
        if next <= now {
            return Flow::Next;
        }
        run.state = State::Sleeping;
        self.sleep_until(next, id);
        Flow::Wait
    }

    fn do_call(&mut self, id: RunId, routine: RoutineId, arguments: &[Option<Expr>]) -> Done {
        let rules = Arc::clone(&self.rules);
        let called = rules.routine(routine);
        let mut slots = Vec::with_capacity(called.slots);
        for (argument, parameter) in arguments.iter().zip(&called.parameters) {
            slots.push(match (argument, &parameter.default) {
                (Some(argument), _) => self.ask(id, |scope| scope.value(argument))?,
                (None, Some(default)) => self.scope(&[], false).value(default)?,
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
        run.frames.push(Frame { routine, next: 0, slots });
        Ok(Flow::Next)
    }

    fn do_hint(
        &mut self,
        id: RunId,
        text: &Expr,
        at: Option<&(Expr, Expr)>,
        span: Option<&Expr>,
    ) -> Done {
        let text = self.ask(id, |scope| scope.shown(text))?;
        let span = self.ask(id, |scope| scope.optional_duration(span))?.unwrap_or(HINT);
        let place = match at {
            Some((x, y)) => {
                let (x, y) = self.ask(id, |scope| Ok((scope.pixels(x)?, scope.pixels(y)?)))?;
                HintPlace::At(x, y)
            }
            None => HintPlace::Pointer,
        };
        self.emit(Some(id), Order::Hint { text, place, span });
        Ok(Flow::Next)
    }

    fn do_stop(&mut self, now: Time, id: RunId, target: &StopTarget) -> Flow {
        let rules = Arc::clone(&self.rules);
        let named = |rule: usize, name: &str| rules.rules[rule].name.as_deref() == Some(name);
        let stopped: Vec<RunId> = match target {
            StopTarget::ThisRun => {
                let rule = self.runs.live[&id].rule;
                self.waiting.remove(&rule);
                vec![id]
            }
            StopTarget::All => self.runs.live.keys().copied().collect(),
            StopTarget::Named(name) => {
                self.waiting.retain(|rule, _| !named(*rule, name));
                let runs = self.runs.live.iter().filter(|(_, run)| named(run.rule, name));
                runs.map(|(id, _)| *id).collect()
            }
        };
        if *target == StopTarget::All {
            self.waiting.clear();
        }
        let ends_itself = stopped.contains(&id);
        for run in stopped {
            let kind = if run == id {
                ReasonKind::Ended(run)
            } else {
                ReasonKind::Stopped(run, "a `stop` step".to_owned())
            };
            self.end_run(now, run, kind);
        }
        if ends_itself { Flow::End } else { Flow::Next }
    }
}
