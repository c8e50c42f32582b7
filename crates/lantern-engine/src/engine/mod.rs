//! The engine: events and deadlines in, effects out.
//!
//! [`Engine`] owns the components and is the only one that calls several. It hands each event to the
//! components it concerns, and carries out what they return. A component never calls another.

mod control;
mod input;
mod runs;

use lantern_model::{
    App, Effect, EffectKind, Event, Key, Layout, RuleId, RuleSet, RunId, Time, WallTime,
};

use crate::activation_policy::ActivationPolicy;
use crate::active_rules::ActiveRules;
use crate::context::{Context, LayoutChange};
use crate::decision_log::{Decision, DecisionKind, StopCause};
use crate::eval::Surroundings;
use crate::gesture_recognizer::GestureRecognizer;
use crate::grab_planner::{GrabPlanner, MomentaryNeeds};
use crate::interpreter::{Interpreter, Owner};
use crate::keys::KeyRecognizer;
use crate::outbox::Outbox;
use crate::prepared::PreparedRules;
use crate::schedule::Schedule;
use crate::scope::Scope;
use crate::timers::Timer;
use crate::trigger_index::{Call, TriggerIndex, WindowEvent};
use crate::voice_control::VoiceControl;

pub use control::{ControlError, RunStatus};

/// Maximum number of deadlines that one call handles.
const DUE_AT_ONCE: usize = 1024;

/// The engine.
///
/// ```
/// use lantern_engine::Engine;
/// use lantern_model::{Event, Layout, EffectKind, RuleSet, Time};
/// let mut engine = Engine::new(RuleSet::default(), 7);
/// engine.handle_event(Time::START, Event::Layout(Layout::us()));
/// let effect = engine.poll_effect().unwrap();
/// assert!(matches!(effect.kind, EffectKind::SetGrabs(grabs) if grabs.keys.len() == 1));
/// ```
#[derive(Debug)]
pub struct Engine {
    active: ActiveRules,
    context: Context,
    grabs: GrabPlanner,
    keys: KeyRecognizer,
    gestures: GestureRecognizer,
    voice: VoiceControl,
    triggers: TriggerIndex,
    schedule: Schedule,
    activations: ActivationPolicy,
    interpreter: Interpreter,
    out: Outbox,
}

impl Engine {
    /// An engine with these rules, and with this seed for all randomness. It requests no grabs before
    /// the first [`Event::Layout`].
    pub fn new(rules: impl Into<PreparedRules>, seed: u64) -> Engine {
        let mut engine = Engine {
            active: ActiveRules::default(),
            context: Context::default(),
            grabs: GrabPlanner::default(),
            keys: KeyRecognizer::default(),
            gestures: GestureRecognizer::default(),
            voice: VoiceControl::default(),
            triggers: TriggerIndex::default(),
            schedule: Schedule::default(),
            activations: ActivationPolicy::default(),
            interpreter: Interpreter::new(seed),
            out: Outbox::default(),
        };
        engine.set_rules(rules.into());
        engine
    }

    fn set_rules(&mut self, prepared: PreparedRules) {
        let PreparedRules { rules, index, triggers, phrases, shapes, inputs } = prepared;
        self.triggers = triggers;
        self.voice.set_phrases(phrases);
        self.gestures = GestureRecognizer::new(shapes);
        self.active = ActiveRules::new(rules, index, inputs);
        let globals = &self.active.rules().globals;
        let keys = self.keys.state();
        self.interpreter.reset_globals(Time::START, &self.context, keys, globals);
    }

    /// Takes in what a back end, the recogniser or a device reports. Deadlines that are due come first.
    pub fn handle_event(&mut self, now: Time, event: Event) {
        self.handle_due(now);
        let is_outcome = matches!(event, Event::Outcome { .. });
        self.apply(now, event);
        if !is_outcome {
            self.interpreter.mark_conditions_dirty();
        }
        self.advance_runs(now);
    }

    fn apply(&mut self, now: Time, event: Event) {
        match event {
            Event::Pressed { key, modifiers } => self.handle_press(now, key, modifiers),
            Event::Released { key } => self.handle_release(now, key),
            Event::RawKey { key, down } => self.handle_raw_key(now, key, down),
            Event::PasswordField(process) => self.handle_password_field(now, process),
            Event::InputMethod(is_active) => self.context.set_input_method_active(is_active),
            Event::ActiveDevice(name) => self.keys.set_input_device(&name),
            Event::TextInput(character) => self.handle_text_input(now, character),
            Event::Pointer(x, y) => self.context.set_pointer(x, y),
            Event::Screens(screens) => self.context.set_screens(screens),
            Event::Focus(app) => self.handle_focus(now, app),
            Event::WindowOpened(app) => self.handle_window(now, &app, WindowEvent::Opened),
            Event::Layout(layout) => self.handle_layout(now, layout),
            Event::Locked(locked) => self.handle_lock(now, locked),
            Event::WallClock(wall) => self.handle_clock(now, wall),
            Event::Started => self.handle_started(now),
            Event::Heard { words, score, began } => self.handle_heard(now, &words, score, began),
            Event::Misheard { words, score, why } => {
                self.handle_misheard(now, &words, score, &why);
            }
            Event::MicrophoneState(state) => {
                self.out.record(now, None, DecisionKind::MicrophoneState(state));
            }
            Event::PointerPath(path) => self.handle_pointer_path(now, &path),
            Event::Gesture { shape, key, bounds, score } => {
                self.handle_gesture(now, &shape, key, (bounds, score));
            }
            Event::Bytes { device, bytes } => self.handle_bytes(now, &device, &bytes),
            Event::Message { device, topic, text } => {
                let found = self.triggers.message(&device, &topic, &text, self.scope());
                self.fire_all(now, found);
            }
            Event::Call { device, caller, path, text, .. } => {
                let call = Call { caller: &caller, path: &path, text: &text };
                let found = self.triggers.call(&device, call, self.scope());
                self.fire_all(now, found);
            }
            Event::ConnectionState { device, state } => {
                self.handle_connection_state(now, device, state);
            }
            Event::GrabsRefused(grabs) => self.handle_refusals(now, &grabs),
            Event::GrabsFreed(grabs) => self.grabs.note_freed(&grabs),
            Event::Outcome { effect, result } => {
                self.execute(now, |execution| execution.take_outcome(effect, result));
            }
        }
    }

    /// The screen was locked or unlocked. A lock ends runs and releases keys, except those of rules that
    /// are for the locked screen as well.
    fn handle_lock(&mut self, now: Time, locked: bool) {
        if self.context.set_locked(locked) {
            self.out.record(now, None, DecisionKind::Locked(locked));
        }
        if locked {
            self.cancel_drawing(now, "the screen was locked");
            self.decide_keys(now, KeyRecognizer::replay_all);
            let rules = self.active.shared();
            let ends = |rule: RuleId| !rules[rule].allowed_when_locked;
            let runs = self.interpreter.runs().filtered(|run| ends(run.rule()));
            self.stop_runs(now, runs, StopCause::Locked);
            self.execute(now, |execution| execution.release_toggled_keys());
        }
        self.update_bindings(now);
    }

    fn handle_focus(&mut self, now: Time, app: App) {
        let is_new_window = self.context.set_app(app);
        self.update_bindings(now);
        if is_new_window {
            self.triggers.forget_typed_text();
            let app = self.context.app().clone();
            self.handle_window(now, &app, WindowEvent::Focused);
        }
    }

    fn handle_layout(&mut self, now: Time, layout: Layout) {
        let change = self.context.set_layout(layout);
        if change != LayoutChange::Unchanged {
            self.update_bindings(now);
        }
        if change != LayoutChange::First {
            self.out.record(now, None, DecisionKind::LayoutChanged);
        }
    }

    fn handle_password_field(&mut self, now: Time, process: Option<u32>) {
        self.context.set_password_field(process);
        if process.is_some() {
            self.triggers.forget_typed_text();
        }
        self.out.record(now, None, DecisionKind::PasswordField(process.is_some()));
    }

    /// The wall clock was reported, for the first time or as it was set.
    fn handle_clock(&mut self, now: Time, wall: WallTime) {
        let before = self.context.clock().wall(now);
        self.context.set_clock(now, wall);
        for trigger in self.schedule.skipped_alarms(before, wall, self.active.rules()) {
            self.fire_timed(now, trigger);
        }
        self.set_alarms(now);
    }

    fn set_alarms(&mut self, now: Time) {
        let (rules, clock) = (self.active.rules(), self.context.clock());
        self.schedule.set_alarms(now, rules, clock, &mut self.out.timers);
    }

    fn start_intervals(&mut self, now: Time) {
        self.schedule.start_intervals(now, self.active.rules(), &mut self.out.timers);
    }

    /// Handles the deadlines that are due by `now`.
    pub fn handle_deadline(&mut self, now: Time) {
        self.handle_due(now);
        self.advance_runs(now);
    }

    /// Handles the next deadline that is due by `end`, but not before `now`. Returns its time, or nothing
    /// if none is due. A caller with simulated time (a scene, a test) repeats the call until it returns
    /// nothing, and performs effects in between.
    pub fn handle_next_deadline(&mut self, now: Time, end: Time) -> Option<Time> {
        let due = self.next_deadline().filter(|due| *due <= end)?.max(now);
        self.handle_deadline(due);
        Some(due)
    }

    /// Lets time pass from `now` to `end`: handles every deadline at its time, and has effects carried
    /// out after each.
    pub fn advance(&mut self, now: Time, end: Time, mut carry_out: impl FnMut(&mut Engine, Time)) {
        let mut now = now;
        while let Some(due) = self.handle_next_deadline(now, end) {
            now = due;
            carry_out(self, now);
        }
    }

    /// Handles due timers, the oldest first, at most [`DUE_AT_ONCE`] of them.
    fn handle_due(&mut self, now: Time) {
        for _ in 0..DUE_AT_ONCE {
            let Some(timer) = self.out.timers.take_due(now) else { return };
            self.handle_timer(now, timer);
            self.advance_runs(now);
        }
    }

    fn handle_timer(&mut self, now: Time, timer: Timer) {
        match timer {
            Timer::Wake(run) => self.execute(now, |execution| execution.wake(run)),
            Timer::Timeout(run) => self.execute(now, |execution| execution.time_out(run)),
            Timer::Repeat(key) => self.recognize(now, |keys, pass| keys.repeat(pass, key)),
            Timer::PendingKind(press, kind) => {
                self.recognize(now, |keys, pass| keys.end_pending_kind(pass, press, kind));
            }
            Timer::PointerStill(press) => self.handle_still_pointer(now, press),
            Timer::NextStroke(press) => self.handle_last_stroke(now, press),
            Timer::Sequence => self.recognize(now, KeyRecognizer::end_sequence),
            Timer::Debounce(rule) => self.end_debounce(now, rule),
            Timer::Every(trigger) => {
                let (rules, timers) = (self.active.rules(), &mut self.out.timers);
                self.schedule.next_interval(now, trigger, rules, timers);
                self.fire_timed(now, trigger);
            }
            Timer::Alarm(trigger) => self.handle_alarm(now, trigger),
            Timer::AttentionTimeout => {
                self.voice.end_attention(&mut self.out.timers);
                self.update_listening();
            }
            Timer::ResumeHold => self.resume_by_keyboard(now),
            Timer::EvaluateConditions => self.interpreter.mark_conditions_dirty(),
        }
    }

    /// Takes the next effect to carry out.
    pub fn poll_effect(&mut self) -> Option<Effect> {
        self.out.poll()
    }

    /// When [`Engine::handle_deadline`] must be called, if ever.
    pub fn next_deadline(&self) -> Option<Time> {
        self.out.timers.next()
    }

    /// The decisions made since the one with that number; 0 for all that are kept.
    pub fn decisions_after(&self, number: u64) -> impl Iterator<Item = &Decision> {
        self.out.decisions.after(number)
    }

    /// The number of the last decision made so far.
    pub fn last_decision(&self) -> u64 {
        self.out.decisions.last()
    }

    /// Every key that is down by our doing, with its owners.
    pub fn held_keys(&self) -> impl Iterator<Item = (Key, &[Owner])> {
        self.interpreter.held_keys()
    }

    /// How many runs live.
    pub fn live_runs(&self) -> usize {
        self.interpreter.runs().count()
    }

    /// The rules in force.
    pub fn rules(&self) -> &RuleSet {
        self.active.rules()
    }

    /// The rule of a live run.
    pub fn rule_of(&self, run: RunId) -> Option<RuleId> {
        self.interpreter.runs().get(run).map(|run| run.rule())
    }

    /// Makes the binding table anew, and asks the back end for grabs if they have changed.
    fn update_bindings(&mut self, now: Time) {
        if !self.context.has_layout() {
            return;
        }
        let table = self.active.binding_table(&self.context, &self.self_stopping_rules());
        let (rules, inputs) = (self.active.rules(), self.active.inputs());
        for missing in self.grabs.set_table(table, rules, inputs, &self.context) {
            self.out.record(now, missing.rule, DecisionKind::MissingKeys(missing.words));
        }
        self.request_grabs();
        self.update_listening();
    }

    /// Asks the back end for grabs, if they have changed.
    fn request_grabs(&mut self) {
        if !self.context.has_layout() {
            return;
        }
        let leaves_trail = self.active.rules().settings.draws_trail;
        let needs = MomentaryNeeds {
            whole_keyboard: self.keys.withholds_all(),
            pointer_path: self.keys.needs_pointer_path().then_some(leaves_trail),
        };
        if let Some(grabs) = self.grabs.next_request(needs) {
            self.out.emit(None, EffectKind::SetGrabs(grabs));
        }
    }

    /// Sends the recogniser what it is to listen for, if that has changed.
    fn update_listening(&mut self) {
        let scope = Scope { rules: self.active.rules(), context: &self.context };
        if let Some(listening) = self.voice.update(scope) {
            self.out.emit(None, EffectKind::Listen(listening));
        }
    }

    /// The rules and the context in which triggers are looked for.
    fn scope(&self) -> Scope<'_> {
        Scope { rules: self.active.rules(), context: &self.context }
    }

    /// What expressions of conditions may look at.
    fn around(&self, now: Time) -> Surroundings<'_> {
        Surroundings { now, context: &self.context, keys: self.keys.state() }
    }
}
