//! Blocks of steps: loops, choices, keys held and programs in front; and waiting for conditions.

use std::time::Duration;

use lantern_model::code::Expr;
use lantern_model::{Command, CommandKind, EffectId, RunId, Value};

use super::runs::{Block, RunState};
use super::{Execution, Owner, StepFlow, StepResult};
use crate::eval::unexpected;
use crate::timers::Timer;

/// A loop that is this many iterations late skips the missed ones.
const ITERATIONS_LATE: u32 = 8;
/// Maximum time for a program to come to the front.
const TO_FRONT: Duration = Duration::from_secs(5);

impl Execution<'_> {
    pub(super) fn do_repeat(
        &mut self,
        id: RunId,
        times: Option<&Expr>,
        every: Option<&Expr>,
    ) -> StepResult {
        let left = self.ask(id, |scope| times.map(|n| scope.count(n)).transpose())?;
        let every = self.ask(id, |scope| scope.optional_duration(every))?;
        self.state.runs.live_mut(id).blocks.push(Block::Loop { left, every, due: None });
        Ok(StepFlow::Next)
    }

    pub(super) fn do_for(&mut self, id: RunId, list: &Expr, slot: usize) -> StepResult {
        let mut values = match self.ask(id, |scope| scope.value(list))? {
            Value::List(values) => values,
            other => return Err(unexpected("a list", &other)),
        };
        values.reverse();
        self.state.runs.live_mut(id).blocks.push(Block::For { values, slot });
        Ok(StepFlow::Next)
    }

    pub(super) fn do_next_iteration(&mut self, id: RunId, end: usize) -> StepFlow {
        let now = self.world.now;
        let run = self.state.runs.live_mut(id);
        let (left, every, due) = match run.blocks.last_mut() {
            Some(Block::Loop { left, every, due }) => (left, *every, due),
            Some(Block::For { values, slot }) => {
                let Some(value) = values.pop() else { return self.jump(id, end) };
                let slot = *slot;
                run.frame_mut().slots[slot] = value;
                return StepFlow::Next;
            }
            _ => unreachable!("an iteration belongs to a loop"),
        };
        if *left == Some(0) {
            return self.jump(id, end);
        }
        *left = left.map(|left| left - 1);
        let Some(pace) = every else {
            return StepFlow::Next;
        };
        let mut next = due.map_or(now, |due| due + pace);
        if next + pace.saturating_mul(ITERATIONS_LATE) < now {
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
    pub(super) fn do_any_of(&mut self, id: RunId, targets: &[usize]) -> StepFlow {
        let choice = self.choose(id, targets.len());
        self.jump(id, targets[choice])
    }

    pub(super) fn do_end_block(&mut self, id: RunId) -> StepFlow {
        let run = self.state.runs.live_mut(id);
        match run.blocks.pop() {
            Some(Block::Hold(keys)) => {
                let owner = Owner::Block(id, run.blocks.len());
                let held = &mut self.state.arbiter.held;
                let freed = keys.into_iter().filter(|key| held.release(*key, owner)).collect();
                self.emit_releases(Some(id), freed);
                StepFlow::Next
            }
            Some(Block::With { window, previous_window, .. }) => {
                let is_outermost = !run.is_in_front_block();
                let is_in_front = self.world.context.app().window == window;
                let flow = if is_in_front && previous_window != 0 {
                    let effect = self.raise(id, previous_window);
                    self.state.runs.live_mut(id).state = RunState::Awaiting(effect, None);
                    StepFlow::Wait
                } else {
                    StepFlow::Next
                };
                if is_outermost {
                    self.release_focus(id);
                }
                flow
            }
            _ => StepFlow::Next,
        }
    }

    /// Brings a program to the front for a block.
    pub(super) fn do_with(&mut self, id: RunId, app: &Expr) -> StepResult {
        let name = self.ask(id, |scope| scope.shown(app))?;
        if !self.state.arbiter.focus.acquire(id) {
            return Ok(self.retry_later(id));
        }
        let app = name.to_lowercase();
        let front = self.world.context.app();
        if front.is_named(&app) {
            let block = Block::With { app, window: front.window, previous_window: 0 };
            self.state.runs.live_mut(id).blocks.push(block);
            return Ok(StepFlow::Next);
        }
        let kind = CommandKind::Focus;
        let command = Command { kind, arguments: vec![name], value: None, timeout: None };
        let effect = Some(self.execute(id, command));
        let previous_window = front.window;
        self.state.runs.live_mut(id).state =
            RunState::AwaitingFocus { app, previous_window, effect };
        self.state.runs.note_condition_waiter(id);
        self.out.timers.set(Timer::Timeout(id), self.world.now + TO_FRONT);
        Ok(StepFlow::Wait)
    }

    /// Brings a window to the front.
    pub(super) fn raise(&mut self, id: RunId, window: u64) -> EffectId {
        let kind = CommandKind::FocusWindow(window);
        self.execute(id, Command { kind, arguments: Vec::new(), value: None, timeout: None })
    }

    /// Lets the next run bring a program to the front.
    pub(super) fn release_focus(&mut self, id: RunId) {
        if let Some(next) = self.state.arbiter.focus.release(id) {
            self.make_ready(next);
        }
    }

    /// The same, unless an outer block still needs the turn.
    pub(super) fn release_focus_outside_blocks(&mut self, id: RunId) {
        if !self.state.runs.live(id).is_in_front_block() {
            self.release_focus(id);
        }
    }

    pub(super) fn do_wait_until(
        &mut self,
        id: RunId,
        condition: &Expr,
        timeout: Option<&Expr>,
    ) -> StepResult {
        if self.ask(id, |scope| scope.truth(condition))? {
            return Ok(StepFlow::Next);
        }
        let timeout = self.ask(id, |scope| scope.optional_duration(timeout))?;
        let run = self.state.runs.live_mut(id);
        run.state = RunState::AwaitingCondition(condition.clone());
        run.operations = 0;
        self.state.runs.note_condition_waiter(id);
        if let Some(timeout) = timeout {
            self.out.timers.set(Timer::Timeout(id), self.world.now + timeout);
        }
        if condition.reads(&|query| query.is_time()) {
            self.set_clock_timer();
        }
        Ok(StepFlow::Wait)
    }
}
