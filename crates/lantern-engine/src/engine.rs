//! The engine's state and its doors: events and deadlines in, effects out.

use std::cell::Cell;
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::sync::Arc;

use lantern_model::{
    App, Effect, EffectId, EffectKind, Event, GrabSet, Key, KeyGrab, LayerId, Layout, Rect,
    RoutineId, RuleSet, RunId, Time, Value,
};

use crate::activation::Activation;
use crate::attention::Attention;
use crate::binding_table::{BindingTable, RuleIndex};
use crate::context::Context;
use crate::decision_log::{Decision, DecisionKind, DecisionLog, StopCause};
use crate::drawing::Drawing;
use crate::eval::EvalScope;
use crate::held_keys::{HeldKeys, Owner};
use crate::input_arbiter::InputArbiter;
use crate::key_recognizer::KeyRecognizer;
use crate::patterns::Patterns;
use crate::prepared::{PreparedRules, RuleInputs};
use crate::random::Random;
use crate::runs::Runs;
use crate::schedule::Clock;
use crate::timers::{Timer, TimerQueue};
use crate::trigger_index::TriggerIndex;

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
    pub(crate) rules: Arc<RuleSet>,
    index: RuleIndex,
    inputs: RuleInputs,
    pub(crate) globals: Vec<Value>,
    pub(crate) bindings: Arc<BindingTable>,
    /// What the back end was told to see and withhold.
    requested_grabs: Option<GrabSet>,
    /// The same as the table wants it, when no key waits to be told.
    idle_grabs: GrabSet,
    /// Whether that was made anew since the back end was told.
    grabs_changed: bool,
    pub(crate) layout_known: bool,
    pub(crate) missing_keys: BTreeSet<(Option<usize>, String)>,
    pub(crate) layout: Layout,
    pub(crate) app: App,
    pub(crate) title: String,
    pub(crate) screens: Vec<Rect>,
    pub(crate) pointer: (i32, i32),
    pub(crate) layers: Vec<LayerId>,
    pub(crate) locked: bool,
    /// The process whose password field has the keyboard.
    pub(crate) password_field: Option<u32>,
    /// Whether an input method is at work.
    pub(crate) input_method_active: bool,
    pub(crate) wall_clock: Clock,
    pub(crate) keys: KeyRecognizer,
    pub(crate) triggers: TriggerIndex,
    pub(crate) drawing: Drawing,
    pub(crate) attention: Attention,
    pub(crate) runs: Runs,
    pub(crate) queued: BTreeMap<usize, Activation>,
    pub(crate) last_fired: BTreeMap<usize, Time>,
    /// Grabs that the server refused.
    pub(crate) refused_grabs: Vec<KeyGrab>,
    /// Until when the ceiling of input is used up.
    pub(crate) rate_limited_until: Time,
    /// What a trigger that fired is called, by rule and trigger.
    pub(crate) trigger_texts: BTreeMap<(usize, usize), Arc<str>>,
    /// What fires once the rule's triggers have been quiet long enough.
    pub(crate) debounced: BTreeMap<usize, Activation>,
    pub(crate) paused: BTreeSet<String>,
    /// Whether everything is.
    pub(crate) all_paused: bool,
    pub(crate) last_choices: BTreeMap<(RoutineId, usize), usize>,
    pub(crate) started_effects: BTreeMap<String, EffectId>,
    pub(crate) ready_runs: VecDeque<RunId>,
    /// Runs that wait for an effect's outcome.
    pub(crate) runs_by_effect: BTreeMap<EffectId, RunId>,
    /// Runs that wait for something to become so; some may not wait any more.
    pub(crate) condition_waiters: BTreeSet<RunId>,
    /// Effects that play sound now. Recognition is suspended meanwhile.
    pub(crate) own_sounds: BTreeSet<EffectId>,
    /// Ready runs of paused rules.
    pub(crate) suspended_runs: Vec<RunId>,
    pub(crate) input_arbiter: InputArbiter,
    pub(crate) focus_arbiter: InputArbiter,
    pub(crate) held: HeldKeys,
    pub(crate) patterns: Patterns,
    /// Bytes that expressions have copied, joined and compared since this was taken last.
    pub(crate) charged_bytes: Cell<usize>,
    pub(crate) timers: TimerQueue<Timer>,
    pub(crate) random: Random,
    /// Whether something changed that a waiting condition may be about.
    pub(crate) conditions_dirty: bool,
    effects: VecDeque<Effect>,
    effect_count: u64,
    pub(crate) decisions: DecisionLog,
}

impl Engine {
    /// An engine with these rules and this seed for all chance. It arms nothing before it was told
    /// a layout.
    pub fn new(rules: impl Into<PreparedRules>, seed: u64) -> Engine {
        let mut engine = Engine {
            index: RuleIndex::default(),
            inputs: RuleInputs::default(),
            rules: Arc::new(RuleSet::default()),
            globals: Vec::new(),
            bindings: Arc::default(),
            requested_grabs: None,
            idle_grabs: GrabSet::default(),
            grabs_changed: false,
            layout_known: false,
            missing_keys: BTreeSet::new(),
            layout: Layout::us(),
            app: App::default(),
            title: String::new(),
            screens: Vec::new(),
            pointer: (0, 0),
            layers: Vec::new(),
            locked: false,
            password_field: None,
            input_method_active: false,
            wall_clock: Clock::default(),
            keys: KeyRecognizer::default(),
            drawing: Drawing::default(),
            triggers: TriggerIndex::default(),
            attention: Attention::default(),
            runs: Runs::default(),
            queued: BTreeMap::new(),
            last_fired: BTreeMap::new(),
            refused_grabs: Vec::new(),
            rate_limited_until: Time::START,
            trigger_texts: BTreeMap::new(),
            debounced: BTreeMap::new(),
            paused: BTreeSet::new(),
            all_paused: false,
            last_choices: BTreeMap::new(),
            started_effects: BTreeMap::new(),
            ready_runs: VecDeque::new(),
            runs_by_effect: BTreeMap::new(),
            condition_waiters: BTreeSet::new(),
            own_sounds: BTreeSet::new(),
            suspended_runs: Vec::new(),
            input_arbiter: InputArbiter::default(),
            focus_arbiter: InputArbiter::default(),
            held: HeldKeys::default(),
            patterns: Patterns::default(),
            charged_bytes: Cell::new(0),
            timers: TimerQueue::default(),
            random: Random::new(seed),
            conditions_dirty: false,
            effects: VecDeque::new(),
            effect_count: 0,
            decisions: DecisionLog::default(),
        };
        engine.set_rules(rules.into());
        engine
    }

    pub(crate) fn set_rules(&mut self, prepared: PreparedRules) {
        let PreparedRules { rules, index, triggers: ears, inputs: asks } = prepared;
        self.index = index;
        self.triggers = ears;
        self.drawing = Drawing::default();
        self.attention.renew();
        self.inputs = asks;
        self.rules = Arc::new(rules);
        self.trigger_texts.clear();
        self.globals = Vec::new();
        for global in &Arc::clone(&self.rules).globals {
            let first = self.scope(Time::START, &[], false).value(&global.initial);
            // What cannot be worked out is false, and fails where it is used.
            self.globals.push(first.unwrap_or(Value::Truth(false)));
        }
    }

    /// Takes in what a back end, an ear or a device saw. Deadlines that are due come first.
    pub fn handle_event(&mut self, now: Time, event: Event) {
        self.fire_due(now);
        let outcome = matches!(event, Event::Outcome { .. });
        self.apply(now, event);
        self.conditions_dirty |= !outcome;
        self.advance_runs(now);
    }

    fn apply(&mut self, now: Time, event: Event) {
        match event {
            Event::Pressed { key, modifiers } => self.handle_press(now, key, modifiers),
            Event::Released { key } => self.handle_release(now, key),
            Event::RawKey { key, down } => self.handle_raw_key(now, key, down),
            Event::PasswordField(process) => {
                self.password_field = process;
                if process.is_some() {
                    self.triggers.forget_typed_text();
                }
                self.record_decision(now, None, DecisionKind::PasswordField(process.is_some()));
            }
            Event::InputMethod(at_work) => self.input_method_active = at_work,
            Event::ActiveDevice(name) => self.keys.input_device = name.to_lowercase(),
            Event::TextInput(letter) => self.handle_text_input(now, letter),
            Event::Pointer(x, y) => self.pointer = (x, y),
            Event::Screens(screens) => self.screens = screens,
            Event::Focus(app) => self.handle_focus(now, app),
            Event::WindowOpened(app) => self.handle_window(now, &app, true),
            Event::Layout(layout) => self.handle_layout(now, layout),
            Event::Locked(locked) => self.handle_lock(now, locked),
            Event::WallClock(wall) => self.handle_clock(now, wall),
            Event::Started => self.handle_started(now),
            Event::Heard { words, score, began } => self.handle_heard(now, &words, score, began),
            Event::Misheard { words, score, why } => {
                self.handle_misheard(now, &words, score, &why);
            }
            Event::MicrophoneState(ear) => {
                self.record_decision(now, None, DecisionKind::MicrophoneState(ear))
            }
            Event::PointerPath(spots) => self.handle_pointer_path(now, &spots),
            Event::Gesture { shape, key, bounds: frame, score } => {
                self.handle_gesture(now, &shape, key, frame, score);
            }
            Event::Bytes { device, bytes } => self.handle_bytes(now, &device, &bytes),
            Event::Message { device, topic, text } => {
                self.handle_message(now, &device, &topic, &text);
            }
            Event::Call { device, caller, path, text, .. } => {
                let brought = [("caller", caller), ("path", path), ("text", text)];
                self.handle_call(now, &device, brought);
            }
            Event::ConnectionState { device, state } => {
                self.handle_connection_state(now, device, state)
            }
            Event::GrabsRefused(keys) => self.handle_refusals(now, &keys),
            Event::GrabsFreed(keys) => self.refused_grabs.retain(|armed| !keys.contains(armed)),
            Event::Outcome { effect, result } => self.handle_outcome(now, effect, result),
        }
    }

    /// The screen was locked, or the person came back. What a lock finds running ends and lets go,
    /// but for rules that are for it as well.
    fn handle_lock(&mut self, now: Time, locked: bool) {
        if self.locked != locked {
            self.locked = locked;
            self.record_decision(now, None, DecisionKind::Locked(locked));
        }
        if locked {
            self.cancel_drawing(now, "the screen was locked");
            self.replay_all(now);
            let ends = |rule: usize| !self.rules.rules[rule].allowed_when_locked;
            let runs = self.runs.live.iter().filter(|(_, run)| ends(run.rule));
            let runs: Vec<RunId> = runs.map(|(id, _)| *id).collect();
            for run in runs {
                self.end_run(now, run, DecisionKind::Stopped(run, StopCause::Locked));
            }
            let toggled = self.held.release_all(|owner| owner == Owner::Toggle);
            self.emit_releases(None, toggled);
        }
        self.update_bindings(now);
    }

    fn handle_focus(&mut self, now: Time, app: App) {
        let new_window = self.app.window != app.window;
        self.title = app.title.to_lowercase();
        self.app = app;
        self.update_bindings(now);
        if new_window {
            self.triggers.forget_typed_text();
            let app = self.app.clone();
            self.handle_window(now, &app, false);
        }
    }

    fn handle_layout(&mut self, now: Time, layout: Layout) {
        let first = !self.layout_known;
        self.layout_known = true;
        if first || self.layout != layout {
            self.layout = layout;
            self.update_bindings(now);
        }
        if !first {
            self.record_decision(now, None, DecisionKind::LayoutChanged);
        }
    }

    /// Does what is due by `now`.
    pub fn handle_deadline(&mut self, now: Time) {
        self.fire_due(now);
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

    /// Lets time pass from `now` to `end`: meets every deadline at its time, and has effects carried
    /// out after each.
    pub fn advance(&mut self, now: Time, end: Time, mut carry_out: impl FnMut(&mut Engine, Time)) {
        let mut now = now;
        while let Some(due) = self.handle_next_deadline(now, end) {
            now = due;
            carry_out(self, now);
        }
    }

    /// Handles due timers, the oldest first, at most [`DUE_AT_ONCE`] of them.
    fn fire_due(&mut self, now: Time) {
        for _ in 0..DUE_AT_ONCE {
            let Some(timer) = self.timers.take_due(now) else { return };
            match timer {
                Timer::Wake(run) => self.wake_run(now, run),
                Timer::Timeout(run) => self.on_timeout(now, run),
                Timer::Repeat(key) => self.handle_repeat(now, key),
                Timer::PendingKind(press, hope) => self.end_pending_kind(now, press, hope),
                Timer::PointerStill(press) => self.on_pointer_still(now, press),
                Timer::NextStroke(press) => self.end_strokes(now, press),
                Timer::Sequence => self.end_sequence(now),
                Timer::Debounce(rule) => self.on_debounce_end(now, rule),
                Timer::Every(rule, trigger) => self.on_interval(now, rule, trigger),
                Timer::Alarm(rule, trigger) => self.on_alarm(now, rule, trigger),
                Timer::AttentionTimeout => {
                    self.close_attention();
                    self.listen();
                }
                Timer::EvaluateConditions => self.conditions_dirty = true,
            }
            self.advance_runs(now);
        }
    }

    /// Executes ready runs and evaluates the conditions that runs wait for, until nothing changes.
    pub(crate) fn advance_runs(&mut self, now: Time) {
        self.run_ready(now);
        // A run that changes what another waits for may be changed by that one in turn; each round
        // costs a turn of theirs, so the rounds end.
        while std::mem::take(&mut self.conditions_dirty) {
            self.evaluate_conditions(now);
            self.run_ready(now);
        }
    }

    /// Whether the back end has been asked to report releases of this key.
    pub(crate) fn reports_release(&self, key: Key) -> bool {
        let reports = |grabs: &GrabSet| {
            let of_key = |grab: &KeyGrab| grab.key == key && grab.report_release;
            grabs.raw_keys || grabs.keys.iter().any(of_key)
        };
        self.requested_grabs.as_ref().is_some_and(reports)
    }

    /// The next effect to carry out.
    pub fn poll_effect(&mut self) -> Option<Effect> {
        self.effects.pop_front()
    }

    /// When [`Engine::handle_deadline`] must be called, if ever.
    pub fn next_deadline(&self) -> Option<Time> {
        self.timers.next()
    }

    /// The reasons given since the one with that number; 0 for all that are kept.
    pub fn decisions_after(&self, number: u64) -> impl Iterator<Item = &Decision> {
        self.decisions.after(number)
    }

    /// The number of the last reason given so far.
    pub fn last_decision(&self) -> u64 {
        self.decisions.last()
    }

    /// Every key that is down by our doing, with its owners.
    pub fn held_keys(&self) -> impl Iterator<Item = (Key, &[Owner])> {
        self.held.all()
    }

    /// How many runs live.
    pub fn live_runs(&self) -> usize {
        self.runs.live.len()
    }

    /// The rules in force.
    pub fn rules(&self) -> &RuleSet {
        &self.rules
    }

    /// The number of a run's rule, as long as the run lives.
    pub fn rule_of(&self, run: RunId) -> Option<usize> {
        self.runs.live.get(&run).map(|run| run.rule)
    }

    /// Ends every run, lets every key go, and gives their numbers.
    pub fn stop_everything(&mut self, now: Time, why: StopCause) -> (usize, usize) {
        self.drop_pending_activations(|_| true);
        let runs: Vec<RunId> = self.runs.live.keys().copied().collect();
        let keys = self.held.release_all(|_| true);
        let counts = (runs.len(), keys.len());
        self.emit_releases(None, keys);
        for run in runs {
            self.end_run(now, run, DecisionKind::Stopped(run, why));
        }
        counts
    }

    /// Ends every run, and pauses everything: whatever ran away must not be set off again at once.
    pub(crate) fn panic(&mut self, now: Time, why: StopCause) {
        let (runs, keys) = self.stop_everything(now, why);
        self.record_decision(now, None, DecisionKind::Panic { runs, keys });
        self.pause_all(now);
    }

    /// Has nothing fire until the person resumes. Presses that wait to be told are given back.
    pub(crate) fn pause_all(&mut self, now: Time) {
        self.cancel_drawing(now, "everything is paused");
        self.replay_all(now);
        self.all_paused = true;
        self.update_bindings(now);
    }

    pub(crate) fn emit(&mut self, run: Option<RunId>, order: EffectKind) -> EffectId {
        self.effect_count += 1;
        let id = EffectId(self.effect_count);
        if let (Some(run), EffectKind::Input(_) | EffectKind::Execute(_)) = (run, &order) {
            self.runs_by_effect.insert(id, run);
        }
        self.effects.push_back(Effect { id, run, kind: order });
        id
    }

    pub(crate) fn record_decision(&mut self, now: Time, rule: Option<usize>, kind: DecisionKind) {
        self.decisions.add(now, rule, kind);
    }

    pub(crate) fn scope<'a>(&'a self, now: Time, slots: &'a [Value], held: bool) -> EvalScope<'a> {
        EvalScope { engine: self, now, slots, held, work: Cell::new(0) }
    }

    pub(crate) fn context(&self) -> Context<'_> {
        Context {
            app: &self.app,
            title: &self.title,
            layers: &self.layers,
            locked: self.locked,
            paused: self.all_paused,
        }
    }

    /// Makes the table anew, and tells the back end if what it must withhold has changed.
    pub(crate) fn update_bindings(&mut self, now: Time) {
        if !self.layout_known {
            return;
        }
        let rules = Arc::clone(&self.rules);
        let running = self.self_stopping_rules();
        let mut watch =
            BindingTable::new(&rules, &self.index, &self.context(), &self.layout, &running);
        let missing = std::mem::take(&mut watch.missing_keys);
        self.bindings = Arc::new(watch);
        for entry in missing {
            if self.missing_keys.insert(entry.clone()) {
                self.record_decision(now, entry.0, DecisionKind::MissingKeys(entry.1));
            }
        }
        self.idle_grabs = GrabSet {
            pointer_position: self.inputs.pointer,
            source_devices: self.inputs.source_devices,
            text_input: self.inputs.text_input && !self.locked,
            ..self.bindings.required_grabs(&self.rules)
        };
        self.idle_grabs.raw_keys |= self.inputs.raw_keys;
        self.grabs_changed = true;
        self.request_grabs();
        self.listen();
    }

    /// Tells the back end what it must see and withhold, if that has changed.
    pub(crate) fn request_grabs(&mut self) {
        let everything = self.keys.withholds_all();
        let traces = self.keys.traces().then_some(self.rules.settings.draws_trail);
        let same =
            |armed: &GrabSet| armed.whole_keyboard == everything && armed.pointer_path == traces;
        let same = self.requested_grabs.as_ref().is_some_and(same);
        if !self.layout_known || same && !std::mem::take(&mut self.grabs_changed) {
            return;
        }
        let armed =
            GrabSet { whole_keyboard: everything, pointer_path: traces, ..self.idle_grabs.clone() };
        if self.requested_grabs.as_ref() != Some(&armed) {
            self.requested_grabs = Some(armed.clone());
            self.emit(None, EffectKind::SetGrabs(armed));
        }
    }
}
