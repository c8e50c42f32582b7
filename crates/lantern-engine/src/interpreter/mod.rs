//! Executes the bodies of rules: one operation after another, until a run must wait.
//!
//! [`Interpreter`] owns the runs, the top-level values, the keys that runs hold and their turns to send
//! input. [`Execution`] is the interpreter at work: it reads the [`World`] and writes to the outbox. What
//! a step asks of other components of the engine is an [`EngineRequest`], and a run that ended is left for
//! the engine to take.

mod blocks;
mod execution;
mod held_keys;
mod input_arbiter;
mod input_job;
mod input_steps;
mod runs;
mod steps;

use std::collections::{BTreeMap, BTreeSet};

use lantern_model::code::StopTarget;
use lantern_model::{
    EffectId, Global, Key, LayerId, ListenMode, RoutineId, RuleId, RuleSet, RunId, Time, Value,
};

use crate::context::Context;
use crate::eval::{Evaluator, Surroundings};
use crate::key_state::KeyState;
use crate::keys::KeyRecognizer;
use crate::step_error::Evaluated;

pub(crate) use execution::Execution;
pub use held_keys::Owner;
use input_arbiter::InputArbiter;
pub(crate) use runs::{MOST_RUNS, Run, RunStart, Runs};

/// What a step asks of the engine.
#[derive(Debug)]
pub(crate) enum EngineRequest {
    /// `stop`.
    Stop(StopTarget),
    /// `pause NAME`.
    Pause(String),
    /// `resume NAME`.
    Resume(String),
    /// `listen`.
    Listen(ListenMode),
    /// `enter` or `leave` a layer.
    Layer(LayerId, bool),
}

/// How a run continues after a step.
#[derive(Debug)]
enum StepFlow {
    Next,
    Wait,
    Request(EngineRequest),
}

type StepResult = Evaluated<StepFlow>;

/// Why a turn of a run is over.
#[derive(Debug)]
pub(crate) enum TurnEnd {
    /// The run waits or has ended.
    Done,
    /// The engine has something to do; then the turn continues if the run lives.
    Request(EngineRequest),
}

/// How a run ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum RunEnd {
    /// By its last step, a failure or its own `stop`.
    Itself,
    /// From outside.
    Stopped,
}

/// A run that has ended.
#[derive(Debug)]
pub(crate) struct EndedRun {
    pub rule: RuleId,
    pub end: RunEnd,
}

/// What steps and expressions may look at.
#[derive(Debug, Clone, Copy)]
pub(crate) struct World<'a> {
    pub now: Time,
    pub rules: &'a RuleSet,
    pub context: &'a Context,
    pub keys: &'a KeyRecognizer,
}

impl<'a> World<'a> {
    fn around(&self) -> Surroundings<'a> {
        Surroundings { now: self.now, context: self.context, keys: self.keys.state() }
    }
}

/// The sounds that the program plays. Recognition is suspended meanwhile.
#[derive(Debug, Default)]
struct OwnSounds {
    playing: BTreeSet<EffectId>,
    /// When the last one ended.
    ended: Option<Time>,
}

impl OwnSounds {
    fn end(&mut self, now: Time, effect: EffectId) {
        if self.playing.remove(&effect) {
            self.ended = Some(now);
        }
    }
}

/// The live runs and what they share.
#[derive(Debug)]
pub(crate) struct Interpreter {
    runs: Runs,
    evaluator: Evaluator,
    arbiter: InputArbiter,
    /// The choice made last by each operation that chooses at random.
    last_choices: BTreeMap<(RoutineId, usize), usize>,
    /// The effects that started programs under a name.
    started_programs: BTreeMap<String, EffectId>,
    sounds: OwnSounds,
    /// Whether something changed that a waiting condition may be about.
    conditions_dirty: bool,
    /// Runs that ended since [`Interpreter::take_ended`] was called last.
    ended: Vec<EndedRun>,
    /// Whether text was typed since [`Interpreter::take_typed`] was called last.
    has_typed: bool,
}

impl Interpreter {
    /// An interpreter without runs, with this seed for all randomness.
    pub(crate) fn new(seed: u64) -> Interpreter {
        Interpreter {
            runs: Runs::default(),
            evaluator: Evaluator::new(seed),
            arbiter: InputArbiter::default(),
            last_choices: BTreeMap::new(),
            started_programs: BTreeMap::new(),
            sounds: OwnSounds::default(),
            conditions_dirty: false,
            ended: Vec::new(),
            has_typed: false,
        }
    }

    pub(crate) fn runs(&self) -> &Runs {
        &self.runs
    }

    pub(crate) fn evaluator(&self) -> &Evaluator {
        &self.evaluator
    }

    /// Starts a run, which is ready.
    pub(crate) fn start(&mut self, now: Time, start: RunStart) -> RunId {
        self.runs.start(now, start)
    }

    /// Takes the next run that is ready.
    pub(crate) fn pop_ready(&mut self) -> Option<RunId> {
        self.runs.pop_ready()
    }

    /// Keeps a ready run of a paused rule until [`Interpreter::resume_suspended`].
    pub(crate) fn suspend(&mut self, run: RunId) {
        self.runs.suspend(run);
    }

    /// Queues all suspended runs again.
    pub(crate) fn resume_suspended(&mut self) {
        self.runs.resume_suspended();
    }

    /// Takes that something changed that a waiting condition may be about.
    pub(crate) fn mark_conditions_dirty(&mut self) {
        self.conditions_dirty = true;
    }

    /// Takes whether something changed that a waiting condition may be about.
    pub(crate) fn take_conditions_dirty(&mut self) -> bool {
        std::mem::take(&mut self.conditions_dirty)
    }

    /// The runs that wait until something holds.
    pub(crate) fn condition_waiters(&mut self) -> Vec<RunId> {
        self.runs.condition_waiters()
    }

    /// Takes the runs that have ended.
    pub(crate) fn take_ended(&mut self) -> Vec<EndedRun> {
        std::mem::take(&mut self.ended)
    }

    /// Takes whether text was typed, so that what the person typed no longer stands left of the cursor.
    pub(crate) fn take_typed(&mut self) -> bool {
        std::mem::take(&mut self.has_typed)
    }

    /// Every key that is down by our doing, with its owners.
    pub(crate) fn held_keys(&self) -> impl Iterator<Item = (Key, &[Owner])> {
        self.arbiter.held.all()
    }

    /// The names under which programs were started, with the effects that did.
    pub(crate) fn started_programs(&self) -> impl Iterator<Item = (&str, EffectId)> {
        self.started_programs.iter().map(|(name, effect)| (name.as_str(), *effect))
    }

    /// Whether the program played a sound since then.
    pub(crate) fn played_since(&self, began: Time) -> bool {
        !self.sounds.playing.is_empty() || self.sounds.ended.is_some_and(|end| end > began)
    }

    /// Takes that an effect is done, or failed, before its outcome is handled.
    pub(crate) fn end_sound(&mut self, now: Time, effect: EffectId) {
        self.sounds.end(now, effect);
    }

    /// Gives every top-level value what it starts as.
    pub(crate) fn reset_globals(
        &mut self,
        now: Time,
        context: &Context,
        keys: &KeyState,
        globals: &[Global],
    ) {
        self.evaluator.reset_globals(Surroundings { now, context, keys }, globals);
    }

    /// Takes all top-level values.
    pub(crate) fn take_globals(&mut self) -> Vec<Value> {
        self.evaluator.take_globals()
    }

    /// Gives a top-level value another content.
    pub(crate) fn set_global(&mut self, index: usize, value: Value) {
        self.evaluator.set_global(index, value);
    }

    /// Gives runs and choices the rules and routines of another set. Runs of rules or routines without a
    /// new number must have ended.
    pub(crate) fn remap_ids(
        &mut self,
        rule: impl Fn(RuleId) -> RuleId,
        routine: impl Fn(RoutineId) -> Option<RoutineId>,
    ) {
        self.runs.remap_ids(rule, |old| routine(old).expect("runs of other routines have ended"));
        let choices = std::mem::take(&mut self.last_choices).into_iter();
        self.last_choices =
            choices.filter_map(|((id, at), last)| Some(((routine(id)?, at), last))).collect();
    }
}
