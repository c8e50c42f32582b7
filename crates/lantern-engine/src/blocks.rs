//! Blocks of steps: loops, choices, keys held and programs in front; and waiting for conditions.

use std::time::Duration;

use lantern_model::code::Expr;
use lantern_model::{Command, CommandKind, EffectKind, RunId, Time, Value};

use crate::engine::Engine;
use crate::eval::unexpected;
use crate::held_keys::Owner;
use crate::runs::{Block, RunState};
use crate::steps::{StepFlow, StepResult};
use crate::timers::Timer;

/// A loop that is this many iterations late skips the missed ones.
const TURNS_LATE: u32 = 8;
/// How often conditions on the clock are looked at.
const LOOK: Duration = Duration::from_secs(1);
/// How long a program may take to come to the front.
const TO_FRONT: Duration = Duration::from_secs(5);

impl Engine {
    pub(crate) fn do_repeat(
        &mut self,
        now: Time,
        id: RunId,
        times: Option<&Expr>,
        every: Option<&Expr>,
    ) -> StepResult {
        let left = self.ask(now, id, |scope| times.map(|n| scope.count(n)).transpose())?;
        let every = self.ask(now, id, |scope| scope.optional_duration(every))?;
        self.runs.get_mut(id).blocks.push(Block::Loop { left, every, due: None });
        Ok(StepFlow::Next)
    }

    pub(crate) fn do_for(&mut self, now: Time, id: RunId, list: &Expr, slot: usize) -> StepResult {
        let mut values = match self.ask(now, id, |scope| scope.value(list))? {
            Value::List(values) => values,
            other => {
                return Err(unexpected("a list", &other));
            }
        };
        values.reverse();
        self.runs.get_mut(id).blocks.push(Block::For { values, slot });
        Ok(StepFlow::Next)
    }

    pub(crate) fn do_next_iteration(&mut self, now: Time, id: RunId, end: usize) -> StepFlow {
        let run = self.runs.get_mut(id);
        let (left, every, due) = match run.blocks.last_mut() {
            Some(Block::Loop { left, every, due }) => (left, *every, due),
            Some(Block::For { values, slot }) => {
                let Some(value) = values.pop() else { return self.jump(id, end) };
                let frame = run.frames.last_mut().expect("an operation is done in a call");
                frame.slots[*slot] = value;
                return StepFlow::Next;
            }
            _ => unreachable!("a turn belongs to a loop"),
        };
        if *left == Some(0) {
            return self.jump(id, end);
        }
        *left = left.map(|left| left - 1);
        let Some(pace) = every else {
            return StepFlow::Next;
        };
        let mut next = due.map_or(now, |due| due + pace);
        if next + pace.saturating_mul(TURNS_LATE) < now {
            next = now;
        }
        *due = Some(next);
        if next <= now {
            return StepFlow::Next;
        }
        run.state = RunState::Sleeping;
        self.sleep_until(next, id);
        StepFlow::Wait
    }

    /// Jumps to one of the targets at random, never to the same one twice in a row.
    pub(crate) fn do_any_of(&mut self, id: RunId, targets: &[usize]) -> StepFlow {
        let choice = self.choose(id, targets.len());
        self.jump(id, targets[choice])
    }

    /// A choice of `count` at the run's present operation that is not the last one made there.
    pub(crate) fn choose(&mut self, id: RunId, count: usize) -> usize {
        let frame = self.runs.live[&id].frames.last().expect("an operation is done in a call");
        let site = (frame.routine, frame.next);
        let choice = self.random.choice(count, self.last_choices.get(&site).copied());
        self.last_choices.insert(site, choice);
        choice
    }

    pub(crate) fn do_end_block(&mut self, id: RunId) -> StepFlow {
        let run = self.runs.get_mut(id);
        match run.blocks.pop() {
            Some(Block::Hold(keys)) => {
                let owner = Owner::Block(id, run.blocks.len());
                let freed = keys.into_iter().filter(|key| self.held.release(*key, owner));
                let freed = freed.collect();
                self.emit_releases(Some(id), freed);
                StepFlow::Next
            }
            Some(Block::With { window: came, previous_window: back, .. }) => {
                let still = self.app.window == came;
                let outermost =
                    !self.runs.live[&id].blocks.iter().any(|b| matches!(b, Block::With { .. }));
                let flow = if still && back != 0 {
                    let effect = self.raise(id, back);
                    self.runs.get_mut(id).state = RunState::Awaiting(effect, None);
                    StepFlow::Wait
                } else {
                    StepFlow::Next
                };
                if outermost {
                    self.release_front(id);
                }
                flow
            }
            _ => StepFlow::Next,
        }
    }

    /// Brings a program to the front for a block.
    pub(crate) fn do_with(&mut self, now: Time, id: RunId, app: &Expr) -> StepResult {
        let name = self.ask(now, id, |scope| scope.shown(app))?;
        if !self.focus_arbiter.take(id) {
            return Ok(self.continue_now(id));
        }
        let app = name.to_lowercase();
        if self.app.is_named(&app) {
            let came = self.app.window;
            self.runs.get_mut(id).blocks.push(Block::With {
                app,
                window: came,
                previous_window: 0,
            });
            return Ok(StepFlow::Next);
        }
        let deed =
            Command { kind: CommandKind::Focus, arguments: vec![name], value: None, timeout: None };
        let effect = Some(self.emit(Some(id), EffectKind::Execute(deed)));
        let back = self.app.window;
        self.runs.get_mut(id).state =
            RunState::AwaitingFocus { app, previous_window: back, effect };
        self.condition_waiters.insert(id);
        self.timers.set(Timer::Timeout(id), now + TO_FRONT);
        Ok(StepFlow::Wait)
    }

    /// The window that is brought back to the front when a block is over.
    pub(crate) fn bring_back(&mut self, id: RunId, back: u64) {
        if back != 0 {
            self.raise(id, back);
        }
    }

    fn raise(&mut self, id: RunId, window: u64) -> lantern_model::EffectId {
        let verb = CommandKind::FocusWindow(window);
        let deed = Command { kind: verb, arguments: Vec::new(), value: None, timeout: None };
        self.emit(Some(id), EffectKind::Execute(deed))
    }

    /// Lets the next run bring a program to the front.
    pub(crate) fn release_front(&mut self, id: RunId) {
        if let Some(next) = self.focus_arbiter.release(id) {
            self.make_ready(next);
        }
    }

    pub(crate) fn do_wait_until(
        &mut self,
        now: Time,
        id: RunId,
        condition: &Expr,
        limit: Option<&Expr>,
    ) -> StepResult {
        if self.ask(now, id, |scope| scope.truth(condition))? {
            return Ok(StepFlow::Next);
        }
        let limit = self.ask(now, id, |scope| scope.optional_duration(limit))?;
        self.runs.get_mut(id).state = RunState::AwaitingCondition(condition.clone());
        self.condition_waiters.insert(id);
        self.runs.get_mut(id).operations = 0;
        if let Some(limit) = limit {
            self.timers.set(Timer::Timeout(id), now + limit);
        }
        if condition.reads(&|asked| asked.is_time()) {
            self.timers.set(Timer::EvaluateConditions, now + LOOK);
        }
        Ok(StepFlow::Wait)
    }

    /// Resumes runs whose condition holds now.
    pub(crate) fn evaluate_conditions(&mut self, now: Time) {
        let waits = |state: &RunState| {
            matches!(state, RunState::AwaitingCondition(_) | RunState::AwaitingFocus { .. })
        };
        let live = &self.runs.live;
        self.condition_waiters.retain(|id| live.get(id).is_some_and(|run| waits(&run.state)));
        let mut on_clock = false;
        for id in self.condition_waiters.clone() {
            if !self.runs.live.contains_key(&id) {
                continue;
            }
            match &self.runs.live[&id].state {
                RunState::AwaitingCondition(condition) => {
                    let condition = condition.clone();
                    match self.ask(now, id, |scope| scope.truth(&condition)) {
                        Ok(true) => self.make_ready(id),
                        Ok(false) => on_clock |= condition.reads(&|asked| asked.is_time()),
                        Err(message) => self.fail_waiting(now, id, message),
                    }
                }
                RunState::AwaitingFocus { app, previous_window: back, effect: None }
                    if self.app.is_named(app) =>
                {
                    let (app, back) = (app.clone(), *back);
                    let came = self.app.window;
                    self.runs.get_mut(id).blocks.push(Block::With {
                        app,
                        window: came,
                        previous_window: back,
                    });
                    self.make_ready(id);
                }
                _ => {}
            }
        }
        if on_clock {
            self.timers.set(Timer::EvaluateConditions, now + LOOK);
        }
    }

    /// What a run waits for took too long.
    pub(crate) fn on_timeout(&mut self, now: Time, id: RunId) {
        let Some(run) = self.runs.live.get(&id) else { return };
        let message = match &run.state {
            RunState::AwaitingCondition(_) => "what it waits for did not come in time".to_owned(),
            RunState::AwaitingFocus { app, .. } => format!("{app} did not come to the front"),
            RunState::Awaiting(..) => "it took too long".to_owned(),
            _ => return,
        };
        let state = std::mem::replace(&mut self.runs.get_mut(id).state, RunState::Sleeping);
        self.cancel(now, id, &state);
        if matches!(state, RunState::AwaitingFocus { .. }) {
            self.release_front_unless_within(id);
        }
        self.fail_waiting(now, id, message);
    }

    /// Releases the turn to bring programs to the front, unless an outer block still needs it.
    pub(crate) fn release_front_unless_within(&mut self, id: RunId) {
        let within = self.runs.live[&id].blocks.iter().any(|b| matches!(b, Block::With { .. }));
        if !within {
            self.release_front(id);
        }
    }
}
