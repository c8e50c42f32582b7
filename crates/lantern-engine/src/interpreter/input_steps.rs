//! Steps that send input: taps, text, held keys, pointer movement. One run sends input at a time, piece
//! by piece.

use std::time::Duration;

use lantern_model::code::{Expr, KeyCombinationExpr, MoveTarget};
use lantern_model::{
    Command, CommandKind, EffectId, EffectKind, InputAction, InputBatch, Key, KeyCombination,
    KeySpec, Rect, RunId, Value,
};

use super::input_job::{InputJob, InputWork};
use super::runs::{Block, RunState};
use super::{Execution, Owner, StepFlow, StepResult};
use crate::context::Context;
use crate::decision_log::DecisionKind;
use crate::eval::EvalScope;
use crate::step_error::Evaluated;

/// Why a text is not typed.
const SECRET: &str = "a password field has the keyboard";
/// Number of characters above which a text is better pasted.
const LONG_TEXT: usize = 300;
/// Time from one place of a slow movement to the next.
const GLIDE_PACE: Duration = Duration::from_millis(8);
/// Maximum number of characters that are typed in place of taps.
const MOST_CHARACTERS: usize = 1 << 20;

/// Modifiers that the person holds while a batch of input is sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum PersonsModifiers {
    /// They are released meanwhile, and so are the keys that other runs hold.
    Suspended,
    /// They stay down.
    Kept,
}

impl Execution<'_> {
    pub(super) fn do_tap(
        &mut self,
        id: RunId,
        combos: &[KeyCombinationExpr],
        times: Option<&Expr>,
        pace: Option<&Expr>,
    ) -> StepResult {
        let mut keys = Vec::with_capacity(combos.len());
        let mut lone_character = None;
        for combo in combos {
            let combo = self.ask(id, |scope| scope.combo(combo))?;
            match (combo.0.as_slice(), self.press_order(&combo)) {
                (_, Ok(order)) => keys.push(order),
                ([KeySpec::Character(character)], Err(_)) if combos.len() == 1 => {
                    lone_character = Some(*character);
                }
                (_, Err(problem)) => return Err(problem),
            }
        }
        let times = self.ask(id, |scope| times.map_or(Ok(1), |times| scope.count(times)))?;
        let pace = self.ask(id, |scope| scope.optional_duration(pace))?;
        if !self.acquire_input(id)? {
            return Ok(self.retry_later(id));
        }
        let times = usize::try_from(times).unwrap_or(usize::MAX);
        let work = match lone_character {
            // A character without a key is typed, as often as it would be tapped.
            Some(character) => {
                let text = vec![character; times.min(MOST_CHARACTERS)];
                InputWork::Text { text, done: 0, sure: 0 }
            }
            None => {
                let total = times.saturating_mul(keys.len());
                InputWork::Taps { combos: keys, done: 0, total }
            }
        };
        self.begin_job(id, InputJob { work, pace, due: self.world.now, window: None });
        Ok(StepFlow::Wait)
    }

    pub(super) fn do_type(
        &mut self,
        id: RunId,
        text: &Expr,
        pace: Option<&Expr>,
        despite_focus_change: bool,
    ) -> StepResult {
        let text = self.ask(id, |scope| scope.shown(text))?;
        let pace = self.ask(id, |scope| scope.optional_duration(pace))?;
        if !self.acquire_input(id)? {
            return Ok(self.retry_later(id));
        }
        let is_open = despite_focus_change || self.check_open_field().is_ok();
        if is_open && self.may_paste_at(pace) && is_better_pasted(self.world.context, &text) {
            return Ok(self.await_command(id, CommandKind::Paste, vec![text]));
        }
        let window = (!despite_focus_change).then_some(self.world.context.app().window);
        let work = InputWork::text(&text);
        let job = InputJob { work, pace, due: self.world.now, window };
        if self.world.context.is_input_method_active() && !despite_focus_change {
            let command = Command {
                kind: CommandKind::QueryInputMethod,
                arguments: Vec::new(),
                value: None,
                timeout: None,
            };
            let effect = self.execute(id, command);
            self.state.runs.live_mut(id).state = RunState::QueryingInputMethod(effect, job);
        } else {
            self.begin_job(id, job);
        }
        Ok(StepFlow::Wait)
    }

    /// Whether the person lets a text that is typed at this pace come by the clipboard.
    fn may_paste_at(&self, pace: Option<Duration>) -> bool {
        self.world.rules.settings.may_paste && pace.is_none()
    }

    /// Types what a run was about to type, now that it is known which input method would compose it. Past
    /// that one the text goes by the clipboard, if the person allows that.
    pub(super) fn type_unless_composed(&mut self, id: RunId, method: Option<Value>) {
        let run = self.state.runs.live_mut(id);
        let state = std::mem::replace(&mut run.state, RunState::Sleeping);
        let RunState::QueryingInputMethod(_, job) = state else { return };
        let (Some(method), InputWork::Text { text, .. }) = (method, &job.work) else {
            return self.begin_job(id, job);
        };
        if self.check_open_field().is_ok() && self.may_paste_at(job.pace) {
            let text = text.iter().collect();
            self.await_command(id, CommandKind::Paste, vec![text]);
            return;
        }
        let message = format!(
            "the input method {method} would make something else of it (`paste` goes past it, `type` as well \
             with `clipboard = true` in settings; `anyway` types into it)"
        );
        self.fail_waiting(id, message.into());
    }

    /// Presses keys for an owner; no keys if the run must wait for its turn.
    pub(super) fn do_hold(
        &mut self,
        id: RunId,
        combo: &KeyCombinationExpr,
        owner: impl Fn(RunId, usize) -> Owner,
    ) -> Evaluated<(StepFlow, Option<Vec<Key>>)> {
        let keys = self.keys_of(id, combo)?;
        if !self.acquire_input(id)? {
            return Ok((self.retry_later(id), None));
        }
        let owner = owner(id, self.state.runs.live(id).blocks.len());
        let held = &mut self.state.arbiter.held;
        let pressed = keys.iter().copied().filter(|key| held.press(*key, owner));
        let actions: Vec<InputAction> = pressed.map(InputAction::Down).collect();
        Ok((self.await_input(id, actions), Some(keys)))
    }

    /// Presses keys until the end of a block.
    pub(super) fn do_hold_block(&mut self, id: RunId, combo: &KeyCombinationExpr) -> StepResult {
        let (flow, keys) = self.do_hold(id, combo, Owner::Block)?;
        if let Some(keys) = keys {
            self.state.runs.live_mut(id).blocks.push(Block::Hold(keys));
        }
        Ok(flow)
    }

    pub(super) fn do_release(&mut self, id: RunId, combo: &KeyCombinationExpr) -> StepResult {
        let keys = self.keys_of(id, combo)?;
        if !self.acquire_input(id)? {
            return Ok(self.retry_later(id));
        }
        let owner = Owner::Run(id);
        let held = &mut self.state.arbiter.held;
        let freed = keys.into_iter().rev().filter(|key| held.release(*key, owner));
        let actions = freed.map(InputAction::Up).collect();
        Ok(self.await_input(id, actions))
    }

    pub(super) fn do_toggle(&mut self, id: RunId, combo: &KeyCombinationExpr) -> StepResult {
        let keys = self.keys_of(id, combo)?;
        if !self.acquire_input(id)? {
            return Ok(self.retry_later(id));
        }
        let held = &mut self.state.arbiter.held;
        let mut actions = Vec::new();
        let is_on = keys.iter().all(|key| held.holds(*key, Owner::Toggle));
        for key in keys {
            if is_on && held.release(key, Owner::Toggle) {
                actions.insert(0, InputAction::Up(key));
            } else if !is_on && !held.holds(key, Owner::Toggle) && held.press(key, Owner::Toggle) {
                actions.push(InputAction::Down(key));
            }
        }
        Ok(self.await_input(id, actions))
    }

    /// Removes what the person typed to fire the run.
    pub(super) fn do_erase(&mut self, id: RunId) -> StepResult {
        let total = self.state.runs.live(id).typed_characters;
        if total == 0 {
            return Ok(StepFlow::Next);
        }
        if !self.acquire_input(id)? {
            return Ok(self.retry_later(id));
        }
        let backspace = Key::named("backspace").expect("backspace is in the key table");
        let work = InputWork::Taps { combos: vec![vec![backspace]], done: 0, total };
        self.begin_job(id, InputJob { work, pace: None, due: self.world.now, window: None });
        Ok(StepFlow::Wait)
    }

    /// Moves the pointer, at once or over a time.
    pub(super) fn do_move(
        &mut self,
        id: RunId,
        to: &MoveTarget,
        over: Option<&Expr>,
    ) -> StepResult {
        let over = self.ask(id, |scope| scope.optional_duration(over))?;
        let context = self.world.context;
        let action = self.ask(id, |scope| move_action(context, scope, to))?;
        if !self.acquire_input(id)? {
            return Ok(self.retry_later(id));
        }
        let Some(over) = over.filter(|over| *over > GLIDE_PACE) else {
            return Ok(self.await_input(id, vec![action]));
        };
        let from = context.pointer();
        let to = match action {
            InputAction::MoveBy(x, y) => (from.0.saturating_add(x), from.1.saturating_add(y)),
            InputAction::MoveTo(x, y) => (x, y),
            _ => unreachable!("the pointer is moved to or by"),
        };
        let steps = (over.as_micros() / GLIDE_PACE.as_micros()).max(1) as usize;
        let pace = over / steps as u32;
        let work = InputWork::Glide { from, to, done: 0, steps };
        let due = self.world.now + pace;
        self.begin_job(id, InputJob { work, pace: Some(pace), due, window: None });
        Ok(StepFlow::Wait)
    }

    /// The keys of the keyboard for a combination.
    fn keys_of(&self, id: RunId, combo: &KeyCombinationExpr) -> Evaluated<Vec<Key>> {
        let combo = self.ask(id, |scope| scope.combo(combo))?;
        self.press_order(&combo)
    }

    fn press_order(&self, combo: &KeyCombination) -> Evaluated<Vec<Key>> {
        let order = self.world.context.layout().press_order(combo);
        order.map_err(|key| {
            format!("this keyboard has no key {key}, so {combo} cannot be pressed").into()
        })
    }

    /// Whether the run may send input now; if not, it is queued and asks again when it may.
    pub(super) fn acquire_input(&mut self, id: RunId) -> Evaluated<bool> {
        self.check_input(id)?;
        Ok(!self.is_rate_limited(id) && self.state.arbiter.input.acquire(id))
    }

    /// Lets the next run send input.
    pub(super) fn release_input(&mut self, id: RunId) {
        if let Some(next) = self.state.arbiter.input.release(id) {
            self.make_ready(next);
        }
    }

    /// Whether the rate limit makes the run wait. A timer wakes it when it may continue.
    fn is_rate_limited(&mut self, id: RunId) -> bool {
        let rule = self.state.runs.live(id).rule();
        if self.world.rules[rule].without_rate_limit {
            return false;
        }
        let Some(due) = self.state.arbiter.limited_until(self.world.now) else { return false };
        self.sleep_until(due, id);
        let was_limited =
            std::mem::replace(&mut self.state.runs.live_mut(id).is_rate_limited, true);
        if !was_limited {
            self.out.record(self.world.now, Some(rule), DecisionKind::RateLimited(id));
        }
        true
    }

    /// Whether input by the run would go where it is meant to.
    fn check_input(&self, id: RunId) -> Evaluated<()> {
        let run = self.state.runs.live(id);
        let context = self.world.context;
        if context.is_locked() && !self.world.rules[run.rule()].allowed_when_locked {
            return Err("the screen is locked".into());
        }
        let front = run.blocks.iter().rev().find_map(|block| match block {
            Block::With { app, .. } => Some(app),
            _ => None,
        });
        match front.filter(|app| !context.app().is_named(app)) {
            Some(app) => {
                let name = context.app().name();
                Err(format!("{name} came to the front, {app} is not any more").into())
            }
            None => Ok(()),
        }
    }

    /// Texts do not go into password fields by accident.
    pub(super) fn check_open_field(&self) -> Evaluated<()> {
        if self.world.context.is_password_field_focused() { Err(SECRET.into()) } else { Ok(()) }
    }

    /// Begins a step of input; the run has the turn already.
    fn begin_job(&mut self, id: RunId, job: InputJob) {
        self.state.runs.live_mut(id).state = RunState::SendingInput(job, None);
        self.advance_job(id);
    }

    /// Sends the next piece of the run's step when it is due, or ends the step.
    pub(super) fn advance_job(&mut self, id: RunId) {
        let now = self.world.now;
        let RunState::SendingInput(job, None) = &self.state.runs.live(id).state else { return };
        if job.is_done() {
            self.release_input(id);
            self.make_ready(id);
            return;
        }
        if let Some(message) = self.focus_problem(job) {
            return self.fail_waiting(id, message.into());
        }
        if job.due > now {
            let due = job.due;
            return self.sleep_until(due, id);
        }
        if let Err(problem) = self.check_input(id) {
            return self.fail_waiting(id, problem);
        }
        if self.is_rate_limited(id) {
            return;
        }
        let RunState::SendingInput(job, _) = &mut self.state.runs.live_mut(id).state else {
            return;
        };
        let actions = job.next_actions();
        job.set_next_due(now);
        let effect = self.emit_input(id, actions, PersonsModifiers::Suspended);
        if let RunState::SendingInput(_, under_way) = &mut self.state.runs.live_mut(id).state {
            *under_way = Some(effect);
        }
    }

    /// Why a text must not be typed any further; nothing if it may.
    fn focus_problem(&self, job: &InputJob) -> Option<String> {
        let (Some(window), InputWork::Text { text, done, .. }) = (job.window, &job.work) else {
            return None;
        };
        let typed = format!("{done} of {} characters were typed", text.len());
        if window != self.world.context.app().window {
            return Some(format!(
                "another program came to the front; {typed} (say `anyway` to type on)"
            ));
        }
        if self.world.context.is_password_field_focused() {
            let typed = if *done == 0 { String::new() } else { format!("; {typed}") };
            return Some(format!("{SECRET}{typed} (say `anyway` to type there)"));
        }
        None
    }

    /// Sends input at once, and waits for the outcome.
    fn await_input(&mut self, id: RunId, actions: Vec<InputAction>) -> StepFlow {
        if actions.is_empty() {
            self.release_input(id);
            return StepFlow::Next;
        }
        let effect = self.emit_input(id, actions, PersonsModifiers::Kept);
        self.state.runs.live_mut(id).state = RunState::Awaiting(effect, None);
        StepFlow::Wait
    }

    /// Sends input for a run; what it holds itself stays down.
    fn emit_input(
        &mut self,
        id: RunId,
        actions: Vec<InputAction>,
        modifiers: PersonsModifiers,
    ) -> EffectId {
        if !self.world.rules[self.state.runs.live(id).rule()].without_rate_limit {
            self.state.arbiter.charge(self.world.now, &actions);
        }
        // What is typed now stands left of the cursor instead of what the person typed.
        self.state.has_typed = true;
        let held = &self.state.arbiter.held;
        let suspend_modifiers = modifiers == PersonsModifiers::Suspended;
        let batch = InputBatch {
            actions,
            suspend_modifiers,
            keep: held.held_by(id),
            park: if suspend_modifiers { held.held_by_others(id) } else { Vec::new() },
        };
        self.emit(id, EffectKind::Input(batch))
    }
}

/// Whether a text is better off in the clipboard than typed.
fn is_better_pasted(context: &Context, text: &str) -> bool {
    let group = context.layout().group();
    let is_missing = |c: char| !c.is_control() && group.key_for(c).is_none();
    text.chars().count() > LONG_TEXT || text.chars().any(is_missing)
}

/// The movement to a target, with coordinates evaluated in `scope`.
fn move_action(
    context: &Context,
    scope: &EvalScope<'_>,
    to: &MoveTarget,
) -> Evaluated<InputAction> {
    let [x, y] = to.coordinates();
    Ok(match to {
        MoveTarget::At(..) => {
            let (x, y) = (scope.pixels(x)?, scope.pixels(y)?);
            let screens = context.screens();
            if !screens.is_empty() && !screens.iter().any(|screen| screen.contains((x, y))) {
                let screens: Vec<String> = screens.iter().map(screen_words).collect();
                let problem = format!("{x}, {y} is on no screen; there is {}", screens.join(", "));
                return Err(problem.into());
            }
            InputAction::MoveTo(x, y)
        }
        MoveTarget::By(..) => InputAction::MoveBy(scope.pixels(x)?, scope.pixels(y)?),
        MoveTarget::OfWindow(..) => {
            let bounds = context.app().bounds;
            let bounds = bounds.ok_or("the back end does not report where the window is")?;
            share_of(scope, bounds, x, y)?
        }
        MoveTarget::OfScreen(..) => {
            let screens = context.screens();
            let here = screens.iter().find(|screen| screen.contains(context.pointer()));
            let bounds = here.or(screens.first());
            let bounds = bounds.ok_or("the back end does not report the size of the screen")?;
            share_of(scope, *bounds, x, y)?
        }
    })
}

/// The movement to shares of a rectangle.
fn share_of(scope: &EvalScope<'_>, bounds: Rect, x: &Expr, y: &Expr) -> Evaluated<InputAction> {
    let (x, y) = (scope.share(x)?, scope.share(y)?);
    // The far edge is the last pixel that belongs to it.
    let along = |start: i32, length: i32, share: f64| {
        start + (f64::from(length - 1) * share).round() as i32
    };
    Ok(InputAction::MoveTo(along(bounds.x, bounds.width, x), along(bounds.y, bounds.height, y)))
}

fn screen_words(bounds: &Rect) -> String {
    let Rect { x, y, width, height } = bounds;
    format!("{width} x {height} at {x}, {y}")
}
