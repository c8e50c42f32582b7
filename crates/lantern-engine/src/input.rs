//! Steps of input: one run at a time, piece by piece, so that letters never mix and a stop is
//! always heard.

use std::time::Duration;

use lantern_model::{CommandKind, EffectKind, InputAction, InputBatch, Key, RunId, Time, Value};

use crate::decision_log::DecisionKind;
use crate::engine::Engine;
use crate::runs::{Block, RunState};
use crate::timers::Timer;

/// Characters in one piece when no pace is asked for.
const CHARACTERS: usize = 64;
/// Taps in one piece when no pace is asked for.
const TAPS: usize = 16;

/// Presses, releases and turns of a wheel that rules may make in a second, all together, unless
/// they are `fast`: what runs away must leave the desktop to the person.
const CEILING: u32 = 4000;
/// Input that may come at once before the rate limit takes effect, as time at that rate.
const BURST: Duration = Duration::from_millis(250);

/// Why a text is not typed.
const SECRET: &str = "a password field has the keyboard";

/// What is left of a step of input.
#[derive(Debug)]
pub(crate) struct InputJob {
    pub work: InputWork,
    /// From one character or tap to the next.
    pub pace: Option<Duration>,
    /// When the next piece is due.
    pub due: Time,
    /// The window it began in, if it must stay in front.
    pub window: Option<u64>,
}

/// What a step of input does.
#[derive(Debug)]
pub(crate) enum InputWork {
    /// Tap each in turn, until `total` taps are done.
    Taps { combos: Vec<Vec<Key>>, done: usize, total: usize },
    /// Type the characters; `sure` are those before the piece that is under way.
    Text { text: Vec<char>, done: usize, sure: usize },
    /// Move the pointer evenly from one place to another.
    Glide { from: (i32, i32), to: (i32, i32), done: usize, steps: usize },
}

impl InputJob {
    fn is_done(&self) -> bool {
        match &self.work {
            InputWork::Taps { done, total, .. } => done >= total,
            InputWork::Text { text, done, .. } => *done >= text.len(),
            InputWork::Glide { done, steps, .. } => done >= steps,
        }
    }

    /// How much of a text is in the program for certain, for a person; nothing where none is.
    pub(crate) fn typed_words(&self) -> String {
        match &self.work {
            InputWork::Text { text, sure, .. } if *sure > 0 => {
                format!("; {sure} of {} characters were typed", text.len())
            }
            _ => String::new(),
        }
    }

    /// The next piece.
    fn next_acts(&mut self) -> Vec<InputAction> {
        let paced = self.pace.is_some();
        match &mut self.work {
            InputWork::Taps { combos, done, total } => {
                let count = if paced { 1 } else { TAPS }.min(*total - *done);
                let turn = combos.len();
                let acts =
                    (*done..*done + count).map(|at| InputAction::Tap(combos[at % turn].clone()));
                let acts = acts.collect();
                *done += count;
                acts
            }
            InputWork::Text { text, done, sure } => {
                *sure = *done;
                let count = if paced { 1 } else { CHARACTERS }.min(text.len() - *done);
                let piece = text[*done..*done + count].iter().collect();
                *done += count;
                vec![InputAction::Text(piece)]
            }
            InputWork::Glide { from, to, done, steps } => {
                *done += 1;
                let share = *done as f64 / *steps as f64;
                let along =
                    |from: i32, to: i32| from + (f64::from(to - from) * share).round() as i32;
                vec![InputAction::MoveTo(along(from.0, to.0), along(from.1, to.1))]
            }
        }
    }
}

impl Engine {
    /// Whether the run may make input now; if not, it is queued and asks again when it may.
    pub(crate) fn acquire_input(&mut self, now: Time, id: RunId) -> Result<bool, String> {
        self.check_input(id)?;
        Ok(!self.is_rate_limited(now, id) && self.input_arbiter.take(id))
    }

    /// Whether the rate limit makes the run wait. A timer wakes it when it may continue.
    fn is_rate_limited(&mut self, now: Time, id: RunId) -> bool {
        let rule = self.runs.live[&id].rule;
        let due = Time::START + self.rate_limited_until.since(Time::START).saturating_sub(BURST);
        if due <= now || self.rules.rules[rule].without_rate_limit {
            return false;
        }
        self.sleep_until(due, id);
        if !std::mem::replace(&mut self.runs.get_mut(id).is_rate_limited, true) {
            self.record_decision(now, Some(rule), DecisionKind::RateLimited(id));
        }
        true
    }

    /// Counts what a rule put in against the ceiling.
    fn charge_input(&mut self, now: Time, id: RunId, acts: &[InputAction]) {
        if self.rules.rules[self.runs.live[&id].rule].without_rate_limit {
            return;
        }
        let strokes = |act: &InputAction| match act {
            InputAction::Tap(keys) => 2 * keys.len() as u32,
            InputAction::Down(_) | InputAction::Up(_) => 1,
            // A text is as long as its rule says, and a movement keeps the display's pace.
            InputAction::Text(_) | InputAction::MoveBy(..) | InputAction::MoveTo(..) => 0,
        };
        let count: u32 = acts.iter().map(strokes).sum();
        self.rate_limited_until =
            self.rate_limited_until.max(now) + Duration::from_secs(1) / CEILING * count;
    }

    /// Whether input by the run would go where it is meant to.
    fn check_input(&self, id: RunId) -> Result<(), String> {
        let run = &self.runs.live[&id];
        if self.locked && !self.rules.rules[run.rule].allowed_when_locked {
            return Err("the screen is locked".to_owned());
        }
        let front = run.blocks.iter().rev().find_map(|block| match block {
            Block::With { app, .. } => Some(app),
            _ => None,
        });
        match front.filter(|app| !self.app.is_named(app)) {
            Some(app) => {
                Err(format!("{} came to the front, {app} is not any more", self.app.name()))
            }
            None => Ok(()),
        }
    }

    /// Whether the keyboard goes to a password field.
    pub(crate) fn is_secret(&self) -> bool {
        self.password_field.is_some() && self.password_field == self.app.process
    }

    /// Texts do not go into password fields by accident.
    pub(crate) fn check_open_field(&self) -> Result<(), String> {
        if self.is_secret() { Err(SECRET.to_owned()) } else { Ok(()) }
    }

    /// Lets the next run make input.
    pub(crate) fn release_input(&mut self, id: RunId) {
        if let Some(next) = self.input_arbiter.release(id) {
            self.make_ready(next);
        }
    }

    /// Begins a step of input; the run has the turn already.
    pub(crate) fn begin_job(&mut self, now: Time, id: RunId, job: InputJob) {
        self.runs.get_mut(id).state = RunState::SendingInput(job, None);
        self.advance_job(now, id);
    }

    /// Types what a run was about to type, now that it is known which input method would compose it. One
    /// that would is gone past by the clipboard, if the person allows that.
    pub(crate) fn type_unless_composed(&mut self, now: Time, id: RunId, by: Option<Value>) {
        let state = std::mem::replace(&mut self.runs.get_mut(id).state, RunState::Sleeping);
        let RunState::QueryingInputMethod(_, job) = state else { return };
        let (Some(method), InputWork::Text { text, .. }) = (by, &job.work) else {
            return self.begin_job(now, id, job);
        };
        if self.may_paste(job.pace, false) {
            let text = text.iter().collect();
            self.await_command(id, CommandKind::Paste, text);
            return;
        }
        let message = format!(
            "the input method {method} would make something else of it (`paste` goes past it, `type` as well \
             with `clipboard = true` in settings; `anyway` types into it)"
        );
        self.fail_waiting(now, id, message);
    }

    /// Does the next piece of the run's step when it is due, or ends the step.
    pub(crate) fn advance_job(&mut self, now: Time, id: RunId) {
        let (window, secret) = (self.app.window, self.is_secret());
        let run = self.runs.get_mut(id);
        let RunState::SendingInput(job, under_way) = &mut run.state else {
            return;
        };
        if under_way.is_some() {
            return;
        }
        if job.is_done() {
            self.release_input(id);
            self.make_ready(id);
            return;
        }
        if let (Some(first), InputWork::Text { text, done, .. }) = (job.window, &job.work)
            && first != window
        {
            let message = format!(
                "another program came to the front; {done} of {} characters were typed \
                 (say `anyway` to type on)",
                text.len()
            );
            self.fail_waiting(now, id, message);
            return;
        }
        if let (Some(_), InputWork::Text { text, done, .. }) = (job.window, &job.work)
            && secret
        {
            let typed = match done {
                0 => String::new(),
                done => format!("; {done} of {} characters were typed", text.len()),
            };
            self.fail_waiting(now, id, format!("{SECRET}{typed} (say `anyway` to type there)"));
            return;
        }
        if job.due > now {
            let due = job.due;
            self.sleep_until(due, id);
            return;
        }
        if let Err(message) = self.check_input(id) {
            self.fail_waiting(now, id, message);
            return;
        }
        if self.is_rate_limited(now, id) {
            return;
        }
        let RunState::SendingInput(job, _) = &mut self.runs.get_mut(id).state else {
            return;
        };
        let acts = job.next_acts();
        if let Some(pace) = job.pace {
            job.due = now.max(job.due + pace);
            if job.due == now && !pace.is_zero() {
                job.due = now + pace;
            }
        }
        let effect = self.emit_input(now, id, acts, true);
        let RunState::SendingInput(_, under_way) = &mut self.runs.get_mut(id).state else {
            return;
        };
        *under_way = Some(effect);
    }

    /// Orders a step for a run; what it holds itself stays down.
    pub(crate) fn emit_input(
        &mut self,
        now: Time,
        id: RunId,
        acts: Vec<InputAction>,
        lift: bool,
    ) -> lantern_model::EffectId {
        self.charge_input(now, id, &acts);
        // What is typed now stands left of the cursor instead of what the person typed.
        self.triggers.forget_typed_text();
        let step = InputBatch {
            actions: acts,
            suspend_modifiers: lift,
            keep: self.held.held_by(id),
            park: if lift { self.held.held_by_others(id) } else { Vec::new() },
        };
        self.emit(Some(id), EffectKind::Input(step))
    }

    /// Releases keys at once, also while another run sends input.
    pub(crate) fn emit_releases(&mut self, run: Option<RunId>, keys: Vec<Key>) {
        if !keys.is_empty() {
            let acts = keys.into_iter().rev().map(InputAction::Up).collect();
            self.emit(
                run,
                EffectKind::Input(InputBatch { actions: acts, ..InputBatch::default() }),
            );
        }
    }

    /// Wakes the run at `time`.
    pub(crate) fn sleep_until(&mut self, time: Time, id: RunId) {
        self.timers.set(Timer::Wake(id), time);
        self.runs.get_mut(id).operations = 0;
    }
}
