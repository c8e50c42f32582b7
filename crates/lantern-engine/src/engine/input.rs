//! Events of keys, gestures, voice and devices: which component takes them, and what the engine does with
//! what it returns.

use std::time::Duration;

use lantern_model::{
    App, ConnectionState, EffectKind, HeldModifiers, Hint, HintContent, HintPlace, Key, KeyGrab,
    ListenMode, Point, Rect, Refusal, ReplayKey, RuleId, Time, TriggerKind, TriggerRef, Value,
};

use super::Engine;
use crate::activation_policy::Activation;
use crate::decision_log::{DecisionKind, StopCause};
use crate::gesture_recognizer::DrawingResult;
use crate::keys::{KeyDecision, KeyPass, KeyRecognizer, Press, ReleasedWith};
use crate::payload::{record, text};
use crate::scope::{Found, Scope};
use crate::timers::Timer;
use crate::trigger_index::WindowEvent;
use crate::voice_control::Hearing;

/// How long the name of a shape is shown.
const NAME_SHOWN: Duration = Duration::from_millis(900);
/// How long the panic combination is held to resume all rules.
const RESUME_HOLD: Duration = Duration::from_secs(2);

fn escape() -> Key {
    Key::named("escape").expect("escape stands in the key table")
}

/// Keys.
impl Engine {
    /// Hands an event to the key recognizer, carries out its decisions, and requests grabs.
    pub(super) fn recognize(
        &mut self,
        now: Time,
        event: impl FnOnce(&mut KeyRecognizer, &mut KeyPass<'_>),
    ) {
        self.decide_keys(now, event);
        self.request_grabs();
    }

    /// Hands an event to the key recognizer, and carries out its decisions in their order. The caller
    /// requests grabs.
    pub(super) fn decide_keys(
        &mut self,
        now: Time,
        event: impl FnOnce(&mut KeyRecognizer, &mut KeyPass<'_>),
    ) {
        let runs = self.interpreter.runs();
        let is_running = |rule| runs.is_running(rule);
        let mut pass = KeyPass {
            now,
            rules: self.active.rules(),
            bindings: self.grabs.table(),
            context: &self.context,
            evaluator: self.interpreter.evaluator(),
            is_running: &is_running,
            timers: &mut self.out.timers,
            decisions: Vec::new(),
        };
        event(&mut self.keys, &mut pass);
        let decisions = pass.decisions;
        for decision in decisions {
            self.carry_out(now, decision);
        }
    }

    fn carry_out(&mut self, now: Time, decision: KeyDecision) {
        match decision {
            KeyDecision::Fire { trigger, press, repetition } => {
                let kind = &self.active.rules()[trigger];
                let activation = Activation::by_key(trigger.trigger, kind, press, repetition);
                self.fire(now, trigger.rule, activation);
            }
            KeyDecision::Replay(key) => self.replay(key),
            KeyDecision::Unwanted(words) => {
                self.out.record(now, None, DecisionKind::Replayed(words));
            }
            KeyDecision::Blocked { rule, problem } => {
                self.out.record(now, Some(rule), DecisionKind::Dropped(problem));
            }
            KeyDecision::StopRuns(rules) => {
                for rule in rules {
                    let runs = self.interpreter.runs().of_rule(rule);
                    self.stop_runs(now, runs, StopCause::OwnTrigger);
                }
            }
            KeyDecision::EndHeldRuns(key) => self.end_held_runs(now, key),
            KeyDecision::StrokeMayBegin(press, held) => {
                self.gestures.begin_stroke(now, press, held, &mut self.out.timers);
            }
        }
    }

    fn replay(&mut self, key: ReplayKey) {
        self.out.emit(None, EffectKind::ReplayKey(key));
    }

    /// A withheld key went down.
    pub(super) fn handle_press(&mut self, now: Time, key: Key, held: HeldModifiers) {
        let stroke = (key, held.modifiers(self.context.layout().alt_gr_is_level3));
        if self.grabs.table().is_panic(stroke) {
            self.handle_panic_key(now);
        } else if self.gestures.is_drawing() && key == escape() {
            self.keys.note_down(key);
            self.cancel_drawing(now, "escape was pressed");
        } else {
            self.recognize(now, |keys, pass| keys.press(pass, key, held));
        }
    }

    /// A key of the person's moved, withheld or not.
    pub(super) fn handle_raw_key(&mut self, now: Time, key: Key, down: bool) {
        if down {
            self.recognize(now, |keys, pass| keys.raw_press(pass, key));
        } else if self.keys.state().down().contains(&key) {
            self.handle_release(now, key);
        }
    }

    /// The panic combination went down. While everything is paused, holding it resumes.
    fn handle_panic_key(&mut self, now: Time) {
        if self.context.is_all_paused() {
            self.out.timers.set(Timer::ResumeHold, now + RESUME_HOLD);
        }
        self.panic(now, StopCause::PanicKey);
    }

    /// The panic combination was held while everything was paused.
    pub(super) fn resume_by_keyboard(&mut self, now: Time) {
        self.out.record(now, None, DecisionKind::Resumed);
        // Without a name nothing can be unknown.
        let _ = self.resume(now, None);
    }

    /// A key whose release matters went up.
    pub(super) fn handle_release(&mut self, now: Time, key: Key) {
        if self.grabs.table().is_panic_key(key) {
            self.out.timers.cancel(Timer::ResumeHold);
        }
        let with = match self.keys.note_up(key) {
            Some(press) => self.end_stroke(now, press),
            None => ReleasedWith::NoStroke,
        };
        self.recognize(now, |keys, pass| keys.release(pass, key, with));
    }

    /// Ends the `while held` runs that a key fired, and drops their queued activations.
    fn end_held_runs(&mut self, now: Time, key: Key) {
        let rules = self.active.shared();
        let is_by_key = |press: Option<Press>| press.is_some_and(|press| press.key == key);
        let ends = |rule: RuleId| rules[rule].ends_on_release;
        let runs = self.interpreter.runs();
        let ended = runs.filtered(|run| ends(run.rule()) && is_by_key(run.press()));
        self.stop_runs(now, ended, StopCause::KeyReleased);
        self.activations.drop_queued(|rule, queued| ends(rule) && is_by_key(queued.press));
    }

    /// Names the rules whose keys cannot be grabbed.
    pub(super) fn handle_refusals(&mut self, now: Time, refused: &[(KeyGrab, Refusal)]) {
        for (grab, why) in refused {
            self.grabs.note_refused(*grab, *why);
            let reason = match why {
                Refusal::HeldByOther => DecisionKind::GrabsRefused,
                Refusal::NotOnKeyboard => DecisionKind::MissingKeys,
                Refusal::NotGranted => DecisionKind::GrabsNotGranted,
            };
            for (rule, trigger) in self.triggers_of(*grab) {
                self.out.record(now, rule, reason(trigger));
            }
        }
    }
}

/// Gestures.
impl Engine {
    /// The pointer moved along this path.
    pub(super) fn handle_pointer_path(&mut self, now: Time, path: &[Point]) {
        if let Some(press) = self.gestures.extend(now, path) {
            self.keys.become_drawing(press);
        }
    }

    pub(super) fn handle_still_pointer(&mut self, now: Time, press: u64) {
        if self.gestures.is_still(now, press, &mut self.out.timers) {
            self.cancel_drawing(now, "the pointer was still");
        }
    }

    /// No further stroke came in time.
    pub(super) fn handle_last_stroke(&mut self, now: Time, press: u64) {
        if self.gestures.is_last_stroke(press) {
            self.finish_drawing(now);
            self.recognize(now, KeyRecognizer::resolve);
        }
    }

    /// Cancels the drawing. A press that was not drawn with is an ordinary one.
    pub(super) fn cancel_drawing(&mut self, now: Time, why: &str) {
        let Some(cancelled) = self.gestures.cancel(&mut self.out.timers) else { return };
        self.keys.cancel_gesture(cancelled.press, cancelled.was_drawing);
        if cancelled.was_drawing {
            let why = format!("a drawing given up: {why}");
            self.out.record(now, None, DecisionKind::NotRecognized(why));
            self.keys.take_strokes();
        } else {
            self.finish_drawing(now);
        }
        self.recognize(now, KeyRecognizer::resolve);
    }

    /// The key of a press went up with which a shape may be drawn; whether it was a stroke.
    fn end_stroke(&mut self, now: Time, press: Press) -> ReleasedWith {
        let scope = Scope { rules: self.active.rules(), context: &self.context };
        let end = self.gestures.end_stroke(now, press, scope, &mut self.out.timers);
        match end.with {
            ReleasedWith::Stroke => self.keys.end_stroke(press.number),
            ReleasedWith::NoStroke if end.is_complete => {
                self.keys.set_replayed_path(press.number, end.path);
            }
            ReleasedWith::NoStroke => {}
        }
        if end.is_complete {
            self.finish_drawing(now);
        }
        end.with
    }

    /// Fires what was drawn, now that it is done.
    fn finish_drawing(&mut self, now: Time) {
        let scope = Scope { rules: self.active.rules(), context: &self.context };
        let Some(result) = self.gestures.finish(scope) else { return };
        match result {
            DrawingResult::Shape { name, bounds, score, held } => {
                let press = self.keys.last_stroke();
                self.keys.take_strokes();
                self.show_name(&name);
                let is_drawn_with =
                    |engine: &Engine, trigger| engine.scope().is_drawn_with(trigger, held);
                self.fire_gesture(now, &name, (bounds, score), press, is_drawn_with);
            }
            DrawingResult::Taps => self.keys.free_strokes(),
            DrawingResult::NoShape(why) => {
                self.keys.take_strokes();
                self.show_name("no shape");
                self.out.record(now, None, DecisionKind::NotRecognized(why));
            }
        }
    }

    fn show_name(&mut self, name: &str) {
        if self.active.rules().settings.draws_trail {
            let content = HintContent::Drawing(name.to_owned());
            let place = HintPlace::Pointer;
            let hint = Hint { content, place, duration: NAME_SHOWN, rule: None };
            self.out.emit(None, EffectKind::Hint(hint));
        }
    }

    /// Handles a gesture that a scene reports; its bounds, and its score from 0 to 1.
    pub(super) fn handle_gesture(&mut self, now: Time, shape: &str, key: Key, drawn: (Rect, f64)) {
        let press = self.keys.take_gesture_press(key);
        if press.is_some() {
            self.gestures.forget();
            self.keys.take_strokes();
            self.decide_keys(now, KeyRecognizer::resolve);
        }
        let is_drawn_with = |engine: &Engine, trigger| match &engine.active.rules()[trigger] {
            TriggerKind::Gesture { holding, .. } => {
                let layout = engine.context.layout();
                holding.last().and_then(|key| layout.resolve(key)) == Some(key)
            }
            _ => false,
        };
        self.fire_gesture(now, shape, drawn, press, is_drawn_with);
    }

    /// Fires the rule that wants a shape and holds what was held while it was drawn.
    fn fire_gesture(
        &mut self,
        now: Time,
        shape: &str,
        (bounds, score): (Rect, f64),
        press: Option<Press>,
        is_drawn_with: impl Fn(&Engine, TriggerRef) -> bool,
    ) {
        let number = |number: i32| Value::Number(number.into());
        let bounds = record([
            ("x", number(bounds.x)),
            ("y", number(bounds.y)),
            ("width", number(bounds.width)),
            ("height", number(bounds.height)),
        ]);
        let payload = Value::Record(record([
            ("shape", text(shape)),
            ("box", Value::Record(bounds)),
            ("score", Value::Number(score)),
        ]));
        let wanted = self.gestures.triggers().of_shape(shape).iter().copied();
        let wanted = wanted.filter(|t| is_drawn_with(self, *t) && self.scope().applies(*t));
        let found = wanted.map(|trigger| {
            let activation = Activation::by(trigger.trigger, payload.clone());
            Found { looseness: 0, trigger, activation: Activation { press, ..activation } }
        });
        let found: Vec<Found> = found.collect();
        if found.is_empty() {
            let why = format!("no rule here wants {shape}");
            self.out.record(now, None, DecisionKind::NotRecognized(why));
        }
        self.fire_one(now, found);
    }
}

/// Voice.
impl Engine {
    /// Takes another listening mode.
    pub(super) fn set_listen_mode(&mut self, now: Time, mode: ListenMode) {
        self.voice.set_mode(mode, &mut self.out.timers);
        self.out.record(now, None, DecisionKind::ListenModeChanged(mode));
        self.update_listening();
    }

    /// Handles recognised words. `began` is the time since their beginning.
    pub(super) fn handle_heard(&mut self, now: Time, heard: &str, score: f64, began: Duration) {
        if self.interpreter.played_since(now.before(began)) {
            let why = "we were speaking or playing ourselves".to_owned();
            return self.out.record(now, None, DecisionKind::NotRecognized(why));
        }
        match self.voice.hear(self.scope(), heard, score) {
            Hearing::AttentionWord => {
                self.out.record(now, None, DecisionKind::AttentionWord);
                self.begin_attention(now);
            }
            Hearing::NotRecognized(why) => {
                self.out.record(now, None, DecisionKind::NotRecognized(why));
            }
            Hearing::Phrase(spoken, found) => {
                self.out.record(now, None, DecisionKind::Heard(spoken, score));
                if self.fire_one(now, found) && self.voice.is_attentive() {
                    self.begin_attention(now);
                }
            }
        }
    }

    fn begin_attention(&mut self, now: Time) {
        self.voice.begin_attention(now, self.active.rules(), &mut self.out.timers);
        self.update_listening();
    }

    /// Something was said that counts as no phrase.
    pub(super) fn handle_misheard(&mut self, now: Time, words: &str, score: f64, why: &str) {
        let why = if words.is_empty() {
            why.to_owned()
        } else {
            format!("{why}; it is most like {words:?} ({:.0} %)", score * 100.0)
        };
        self.out.record(now, None, DecisionKind::NotRecognized(why));
    }
}

/// Text, windows, devices and times.
impl Engine {
    /// The person typed a character, or moved away from what they typed.
    pub(super) fn handle_text_input(&mut self, now: Time, character: Option<char>) {
        let scope = Scope { rules: self.active.rules(), context: &self.context };
        let found = self.triggers.text_input(character, scope);
        if self.fire_one(now, found) {
            self.triggers.forget_typed_text();
        }
    }

    /// A window opened, or came to the front.
    pub(super) fn handle_window(&mut self, now: Time, app: &App, event: WindowEvent) {
        let found = self.triggers.window(app, event, self.scope());
        self.fire_all(now, found);
    }

    /// Bytes came from a device.
    pub(super) fn handle_bytes(&mut self, now: Time, device: &str, bytes: &[u8]) {
        let taken = self.triggers.bytes(device, bytes);
        for line in taken.lines {
            let found = self.triggers.line(device, &line, self.scope());
            self.fire_all(now, found);
        }
        if taken.cut {
            self.out.record(now, None, DecisionKind::CutLine(device.to_owned()));
        }
    }

    /// A device was connected or lost. What a lost one had begun to send is no line.
    pub(super) fn handle_connection_state(
        &mut self,
        now: Time,
        device: String,
        state: ConnectionState,
    ) {
        if state != ConnectionState::Open {
            self.triggers.forget_half_line(&device);
        }
        self.out.record(now, None, DecisionKind::ConnectionState(device, state));
    }

    /// The back ends are ready.
    pub(super) fn handle_started(&mut self, now: Time) {
        self.start_intervals(now);
        let found = self.triggers.started(self.scope());
        self.fire_all(now, found);
    }

    pub(super) fn handle_alarm(&mut self, now: Time, trigger: TriggerRef) {
        if self.schedule.alarm(now, trigger, self.context.clock()) {
            self.fire_timed(now, trigger);
        }
        let (rules, clock) = (self.active.rules(), self.context.clock());
        self.schedule.set_next_alarm(now, trigger, rules, clock, &mut self.out.timers);
    }
}
