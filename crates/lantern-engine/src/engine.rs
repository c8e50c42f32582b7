//! The engine's state and its doors: events and deadlines in, effects out.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::sync::Arc;

use lantern_model::{
    App, Armed, Effect, EffectId, Event, Key, Layout, Order, RuleSet, RunId, Time, Value,
};

use crate::eval::Scope;
use crate::firing::Waiting;
use crate::ledger::{Ledger, Owner};
use crate::reasons::{Reason, ReasonKind, Reasons};
use crate::runs::{Press, Runs, State};
use crate::timers::{Timer, Timers};
use crate::watch::{RuleIndex, Watch};

/// A press that the person has not let go, of a key whose release matters.
#[derive(Debug)]
pub(crate) struct Down {
    pub press: Press,
    /// The rule to fire, and its trigger, when it goes up.
    pub on_release: Option<(usize, usize)>,
    /// The rule that it repeats, and its trigger.
    pub repeats: Option<(usize, usize)>,
}

/// The engine.
///
/// ```
/// use lantern_engine::Engine;
/// use lantern_model::{Event, Layout, Order, RuleSet, Time};
/// let mut engine = Engine::new(RuleSet::default());
/// engine.handle_event(Time::START, Event::Layout(Layout::us()));
/// let effect = engine.poll_effect().unwrap();
/// assert!(matches!(effect.order, Order::Arm(armed) if armed.keys.len() == 1));
/// ```
#[derive(Debug)]
pub struct Engine {
    pub(crate) rules: Arc<RuleSet>,
    index: RuleIndex,
    asks_fingers: bool,
    pub(crate) globals: Vec<Value>,
    pub(crate) watch: Watch,
    armed: Option<Armed>,
    layout_known: bool,
    missing: BTreeSet<(Option<usize>, String)>,
    pub(crate) layout: Layout,
    pub(crate) app: App,
    pub(crate) fingers: BTreeSet<Key>,
    pub(crate) down: BTreeMap<Key, Down>,
    pub(crate) presses: u64,
    pub(crate) runs: Runs,
    pub(crate) waiting: BTreeMap<usize, Waiting>,
    pub(crate) ready: VecDeque<RunId>,
    pub(crate) input_owner: Option<RunId>,
    pub(crate) input_queue: VecDeque<RunId>,
    pub(crate) ledger: Ledger,
    pub(crate) timers: Timers,
    effects: VecDeque<Effect>,
    effect_count: u64,
    reasons: Reasons,
}

impl Engine {
    /// An engine with these rules. It arms nothing before it was told a layout.
    pub fn new(rules: RuleSet) -> Engine {
        let mut engine = Engine {
            index: RuleIndex::default(),
            asks_fingers: false,
            rules: Arc::new(RuleSet::default()),
            globals: Vec::new(),
            watch: Watch::default(),
            armed: None,
            layout_known: false,
            missing: BTreeSet::new(),
            layout: Layout::us(),
            app: App::default(),
            fingers: BTreeSet::new(),
            down: BTreeMap::new(),
            presses: 0,
            runs: Runs::default(),
            waiting: BTreeMap::new(),
            ready: VecDeque::new(),
            input_owner: None,
            input_queue: VecDeque::new(),
            ledger: Ledger::default(),
            timers: Timers::default(),
            effects: VecDeque::new(),
            effect_count: 0,
            reasons: Reasons::default(),
        };
        engine.set_rules(rules);
        engine
    }

    fn set_rules(&mut self, rules: RuleSet) {
        self.index = RuleIndex::new(&rules);
        self.asks_fingers = rules.asks_fingers();
        self.rules = Arc::new(rules);
        self.globals = Vec::new();
        for global in &Arc::clone(&self.rules).globals {
            let first = self.scope(&[], false).value(&global.first);
            // What cannot be worked out is false, and fails where it is used.
            self.globals.push(first.unwrap_or(Value::Truth(false)));
        }
    }

    /// Takes a new set of rules: every run ends and lets go, every key is armed anew.
    pub fn replace_rules(&mut self, now: Time, rules: RuleSet) {
        self.stop_everything(now, "the rules were read anew");
        self.set_rules(rules);
        self.missing.clear();
        self.down.clear();
        self.rearm(now);
    }

    /// Takes in what a desk saw. Deadlines that are due come first.
    pub fn handle_event(&mut self, now: Time, event: Event) {
        self.fire_due(now);
        match event {
            Event::Pressed { key, modifiers } => self.handle_press(now, key, modifiers),
            Event::LetGo { key } => self.handle_release(now, key),
            Event::Finger { key, down } => self.handle_finger(now, key, down),
            Event::Focus(app) => {
                self.app = app;
                self.rearm(now);
            }
            Event::Layout(layout) => {
                let first = !self.layout_known;
                self.layout_known = true;
                if first || self.layout != layout {
                    self.layout = layout;
                    self.rearm(now);
                }
                if !first {
                    self.give_reason(now, None, ReasonKind::NewLayout);
                }
            }
            Event::Refused(keys) => self.handle_refusals(now, &keys),
            Event::Outcome { effect, result } => self.handle_outcome(now, effect, result),
        }
        self.run_ready(now);
    }

    /// Does what is due by `now`.
    pub fn handle_deadline(&mut self, now: Time) {
        self.fire_due(now);
        self.run_ready(now);
    }

    fn fire_due(&mut self, now: Time) {
        while let Some(timer) = self.timers.take_due(now) {
            match timer {
                Timer::Wake(run) => self.wake_run(now, run),
                Timer::Repeat(key, press) => self.handle_repeat(now, Press { key, number: press }),
            }
            self.run_ready(now);
        }
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
    pub fn reasons_after(&self, number: u64) -> impl Iterator<Item = &Reason> {
        self.reasons.after(number)
    }

    /// Every key that is down by our doing, with its owners.
    pub fn held_keys(&self) -> impl Iterator<Item = (Key, &[Owner])> {
        self.ledger.all()
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
    pub fn stop_everything(&mut self, now: Time, why: &str) -> (usize, usize) {
        self.waiting.clear();
        self.input_queue.clear();
        let runs: Vec<RunId> = self.runs.live.keys().copied().collect();
        let keys = self.ledger.release_all(|_| true);
        let counts = (runs.len(), keys.len());
        self.emit_releases(None, keys);
        for run in runs {
            self.end_run(now, run, ReasonKind::Stopped(run, why.to_owned()));
        }
        counts
    }

    pub(crate) fn emit(&mut self, run: Option<RunId>, order: Order) -> EffectId {
        self.effect_count += 1;
        let id = EffectId(self.effect_count);
        self.effects.push_back(Effect { id, run, order });
        id
    }

    pub(crate) fn give_reason(&mut self, now: Time, rule: Option<usize>, kind: ReasonKind) {
        self.reasons.add(now, rule, kind);
    }

    pub(crate) fn scope<'a>(&'a self, slots: &'a [Value], held: bool) -> Scope<'a> {
        Scope { slots, globals: &self.globals, held, fingers: &self.fingers, layout: &self.layout }
    }

    /// Makes the table anew, and tells the desk if what it must withhold has changed.
    pub(crate) fn rearm(&mut self, now: Time) {
        if !self.layout_known {
            return;
        }
        let rules = Arc::clone(&self.rules);
        let running = self.self_stopping_rules();
        let (watch, missing) = Watch::new(&rules, &self.index, &self.app, &self.layout, &running);
        self.watch = watch;
        for entry in missing {
            if self.missing.insert(entry.clone()) {
                self.give_reason(now, entry.0, ReasonKind::NotOnBoard(entry.1));
            }
        }
        let armed = self.watch.armed(&rules, self.asks_fingers);
        if self.armed.as_ref() != Some(&armed) {
            self.armed = Some(armed.clone());
            self.emit(None, Order::Arm(armed));
        }
    }

    fn handle_outcome(&mut self, now: Time, effect: EffectId, result: Result<(), String>) {
        let waits = |state: &State| match state {
            State::Awaiting(awaited) => *awaited == effect,
            State::Inputting(_, under_way) => *under_way == Some(effect),
            _ => false,
        };
        let found = self.runs.live.iter().find(|(_, run)| waits(&run.state)).map(|(id, _)| *id);
        let Some(id) = found else { return };
        if let Err(message) = result {
            self.fail_run(now, id, message);
            return;
        }
        match &mut self.runs.get_mut(id).state {
            State::Inputting(_, under_way) => {
                *under_way = None;
                self.advance_job(now, id);
            }
            state => {
                *state = State::Ready;
                self.release_input(id);
                self.ready.push_back(id);
            }
        }
    }
}
