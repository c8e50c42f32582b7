//! Runs of rules: each has a program counter and a small stack, and is no thread.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::time::Duration;

use lantern_model::code::{AssignTarget, Expr};
use lantern_model::{
    EffectId, Key, RoutineId, RuleId, RuleSet, RunId, SourceLocation, Time, Value,
};

use super::input_job::InputJob;
use crate::keys::Press;

/// Maximum number of runs at a time. It protects the machine from rules that fire without end and
/// never end.
pub(crate) const MOST_RUNS: usize = 20_000;
/// Maximum depth of calls within each other.
pub(super) const DEEPEST_CALL: usize = 200;

/// A block that a run is in.
#[derive(Debug)]
pub(super) enum Block {
    /// Keys held until its end.
    Hold(Vec<Key>),
    /// A loop.
    Loop {
        /// Turns that are left; for ever if missing.
        left: Option<u64>,
        /// From the start of one turn to the next.
        every: Option<Duration>,
        /// When the present turn was due; missing before the first.
        due: Option<Time>,
    },
    /// A loop over values, the next one last.
    For {
        /// Those that are left.
        values: Vec<Value>,
        /// Where each goes.
        slot: usize,
    },
    /// A program in front.
    With {
        /// Its name, in lower case.
        app: String,
        /// Its window.
        window: u64,
        /// The window that was in front before; 0 if it was this one.
        previous_window: u64,
    },
}

/// A call of a routine.
#[derive(Debug)]
pub(super) struct CallFrame {
    pub routine: RoutineId,
    pub next: usize,
    pub slots: Vec<Value>,
}

/// What a run does or waits for.
#[derive(Debug)]
pub(super) enum RunState {
    /// It continues when its turn comes.
    Ready,
    /// It waits for its timer, or for ever.
    Sleeping,
    /// It waits for its turn to make input or to bring a program to the front.
    Queued,
    /// It is making input: the rest of the step, and the effect under way if any.
    SendingInput(InputJob, Option<EffectId>),
    /// It asks whether an input method would compose what it is about to type.
    QueryingInputMethod(EffectId, InputJob),
    /// It waits for an effect's outcome, whose value goes there.
    Awaiting(EffectId, Option<AssignTarget>),
    /// It waits until a condition holds.
    AwaitingCondition(Expr),
    /// It waits until a program is in front that was not before; that one's window.
    AwaitingFocus {
        /// The program, in lower case.
        app: String,
        /// The window that is in front before.
        previous_window: u64,
        /// The effect that brings it there, until its outcome comes.
        effect: Option<EffectId>,
    },
}

/// A run of a rule.
#[derive(Debug)]
pub(crate) struct Run {
    rule: RuleId,
    /// When it began.
    began: Time,
    /// The press that fired it, if it was one.
    press: Option<Press>,
    /// Characters that the person typed to fire it.
    pub(super) typed_characters: usize,
    pub(super) frames: Vec<CallFrame>,
    pub(super) blocks: Vec<Block>,
    pub(super) state: RunState,
    /// Whether the person was told that it makes too much input.
    pub(super) is_rate_limited: bool,
    /// Operations done since it last slept.
    pub(super) operations: usize,
}

/// What a run starts with.
#[derive(Debug)]
pub(crate) struct RunStart {
    pub rule: RuleId,
    pub body: RoutineId,
    pub press: Option<Press>,
    pub typed_characters: usize,
    /// The first values of the body.
    pub slots: Vec<Value>,
}

impl Run {
    fn new(now: Time, start: RunStart) -> Run {
        Run {
            rule: start.rule,
            began: now,
            press: start.press,
            typed_characters: start.typed_characters,
            frames: vec![CallFrame { routine: start.body, next: 0, slots: start.slots }],
            blocks: Vec::new(),
            state: RunState::Ready,
            is_rate_limited: false,
            operations: 0,
        }
    }

    pub(crate) fn rule(&self) -> RuleId {
        self.rule
    }

    /// When it began.
    pub(crate) fn began(&self) -> Time {
        self.began
    }

    /// The press that fired it, if it was one.
    pub(crate) fn press(&self) -> Option<Press> {
        self.press
    }

    /// The present call.
    ///
    /// # Panics
    /// If the run is at its end; an operation is always done in a call.
    pub(super) fn frame(&self) -> &CallFrame {
        self.frames.last().expect("an operation is done in a call")
    }

    /// The present call, to be changed. Panics like [`Run::frame`].
    pub(super) fn frame_mut(&mut self) -> &mut CallFrame {
        self.frames.last_mut().expect("an operation is done in a call")
    }

    /// Whether it is in a block that brought a program to the front.
    pub(super) fn is_in_front_block(&self) -> bool {
        self.blocks.iter().any(|block| matches!(block, Block::With { .. }))
    }

    /// The step that it is at.
    pub(crate) fn place(&self, rules: &RuleSet) -> Option<SourceLocation> {
        let frame = self.frames.last()?;
        let places = &rules.routine(frame.routine).places;
        places.get(frame.next.saturating_sub(1)).copied()
    }

    /// What it does, in words. `is_paused` says whether its rule is.
    pub(crate) fn activity(&self, is_paused: bool) -> &'static str {
        match &self.state {
            _ if is_paused => "is paused",
            RunState::Ready => "is about to continue",
            RunState::Sleeping => "waits",
            RunState::Queued => "waits for its turn",
            RunState::SendingInput(..) | RunState::QueryingInputMethod(..) => "sends input",
            RunState::Awaiting(..) => "waits for an outcome",
            RunState::AwaitingCondition(_) => "waits for a condition",
            RunState::AwaitingFocus { .. } => "waits for a window",
        }
    }

    /// Whether it waits to write to a name that another set of rules may give another place.
    pub(crate) fn depends_on_names(&self) -> bool {
        matches!(self.state, RunState::AwaitingCondition(_) | RunState::Awaiting(_, Some(_)))
    }

    /// The routines that it is in.
    pub(crate) fn routines(&self) -> impl Iterator<Item = RoutineId> {
        self.frames.iter().map(|frame| frame.routine)
    }

    /// Whether it waits for the outcome of an effect.
    pub(super) fn awaits(&self, effect: EffectId) -> bool {
        match &self.state {
            RunState::Awaiting(awaited, _) | RunState::QueryingInputMethod(awaited, _) => {
                *awaited == effect
            }
            RunState::SendingInput(_, under_way) => *under_way == Some(effect),
            RunState::AwaitingFocus { effect: awaited, .. } => *awaited == Some(effect),
            _ => false,
        }
    }

    /// Whether it waits until something holds.
    pub(super) fn awaits_condition(&self) -> bool {
        matches!(self.state, RunState::AwaitingCondition(_) | RunState::AwaitingFocus { .. })
    }
}

/// Every live run, in the order of their start, and the queues that they stand in.
#[derive(Debug, Default)]
pub(crate) struct Runs {
    live: BTreeMap<RunId, Box<Run>>,
    /// In the order of their start as well.
    by_rule: BTreeMap<RuleId, Vec<RunId>>,
    started: u64,
    ready: VecDeque<RunId>,
    /// Ready runs of paused rules.
    suspended: Vec<RunId>,
    /// Runs that wait for an effect's outcome.
    by_effect: BTreeMap<EffectId, RunId>,
    /// Runs that wait for something to become so; some may not wait any more.
    condition_waiters: BTreeSet<RunId>,
}

impl Runs {
    /// Starts a run, which is ready.
    pub(super) fn start(&mut self, now: Time, start: RunStart) -> RunId {
        self.started += 1;
        let id = RunId(self.started);
        self.by_rule.entry(start.rule).or_default().push(id);
        self.live.insert(id, Box::new(Run::new(now, start)));
        self.ready.push_back(id);
        id
    }

    pub(super) fn remove(&mut self, id: RunId) -> Option<Box<Run>> {
        let run = self.live.remove(&id)?;
        if let Some(of_rule) = self.by_rule.get_mut(&run.rule) {
            of_rule.retain(|run| *run != id);
            if of_rule.is_empty() {
                self.by_rule.remove(&run.rule);
            }
        }
        Some(run)
    }

    /// Gives every run the rule and the routines that `rule` and `routine` say.
    pub(super) fn remap_ids(
        &mut self,
        rule: impl Fn(RuleId) -> RuleId,
        routine: impl Fn(RoutineId) -> RoutineId,
    ) {
        self.by_rule.clear();
        for (id, run) in &mut self.live {
            run.rule = rule(run.rule);
            for frame in &mut run.frames {
                frame.routine = routine(frame.routine);
            }
            self.by_rule.entry(run.rule).or_default().push(*id);
        }
    }

    /// How many runs live.
    pub(crate) fn count(&self) -> usize {
        self.live.len()
    }

    /// Whether no more runs may begin.
    pub(crate) fn is_at_limit(&self) -> bool {
        self.count() >= MOST_RUNS
    }

    /// Every live run, the oldest first.
    pub(crate) fn all(&self) -> impl Iterator<Item = (RunId, &Run)> {
        self.live.iter().map(|(id, run)| (*id, &**run))
    }

    /// The live runs for which `wanted` holds, the oldest first.
    pub(crate) fn filtered(&self, wanted: impl Fn(&Run) -> bool) -> Vec<RunId> {
        self.all().filter(|(_, run)| wanted(run)).map(|(id, _)| id).collect()
    }

    /// The live runs of a rule.
    pub(crate) fn of_rule(&self, rule: RuleId) -> Vec<RunId> {
        self.by_rule.get(&rule).into_iter().flatten().copied().collect()
    }

    /// Whether a rule has live runs.
    pub(crate) fn is_running(&self, rule: RuleId) -> bool {
        self.by_rule.contains_key(&rule)
    }

    /// The rules with live runs, each once, in order.
    pub(crate) fn rules(&self) -> impl Iterator<Item = RuleId> {
        self.by_rule.keys().copied()
    }

    pub(crate) fn get(&self, id: RunId) -> Option<&Run> {
        self.live.get(&id).map(|run| &**run)
    }

    /// A run that lives for certain, as it is worked on.
    pub(super) fn live_mut(&mut self, id: RunId) -> &mut Run {
        self.live.get_mut(&id).expect("the run lives while it is worked on")
    }

    /// The same, not to be changed.
    pub(super) fn live(&self, id: RunId) -> &Run {
        self.get(id).expect("the run lives while it is worked on")
    }

    /// Queues a run to continue.
    pub(super) fn push_ready(&mut self, id: RunId) {
        self.ready.push_back(id);
    }

    /// Takes the next run that is ready.
    pub(super) fn pop_ready(&mut self) -> Option<RunId> {
        while let Some(id) = self.ready.pop_front() {
            if self.get(id).is_some_and(|run| matches!(run.state, RunState::Ready)) {
                return Some(id);
            }
        }
        None
    }

    /// Keeps a ready run of a paused rule until [`Runs::resume_suspended`].
    pub(super) fn suspend(&mut self, id: RunId) {
        self.suspended.push(id);
    }

    /// Queues all suspended runs again.
    pub(super) fn resume_suspended(&mut self) {
        self.ready.extend(std::mem::take(&mut self.suspended));
    }

    /// Takes that a run waits for an effect's outcome.
    pub(super) fn note_effect(&mut self, effect: EffectId, run: RunId) {
        self.by_effect.insert(effect, run);
    }

    /// Takes the run that still waits for an effect's outcome.
    pub(super) fn take_waiter(&mut self, effect: EffectId) -> Option<RunId> {
        let run = self.by_effect.remove(&effect)?;
        self.get(run).is_some_and(|waiter| waiter.awaits(effect)).then_some(run)
    }

    /// Takes that a run waits until something holds.
    pub(super) fn note_condition_waiter(&mut self, run: RunId) {
        self.condition_waiters.insert(run);
    }

    /// The runs that wait until something holds.
    pub(super) fn condition_waiters(&mut self) -> Vec<RunId> {
        let live = &self.live;
        let waits = |id: &RunId| live.get(id).is_some_and(|run| run.awaits_condition());
        self.condition_waiters.retain(waits);
        self.condition_waiters.iter().copied().collect()
    }
}
