//! A run of a rule: a program counter and a small stack, never a thread.

use std::collections::BTreeMap;
use std::time::Duration;

use lantern_model::{EffectId, Key, RoutineId, RunId, Time, Value};

use crate::input::Job;
use crate::timers::TimerId;

/// Calls within calls, at the most.
pub(crate) const DEEPEST_CALL: usize = 200;

/// A block that a run is in.
#[derive(Debug)]
pub(crate) enum Block {
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
}

/// A call of a routine.
#[derive(Debug)]
pub(crate) struct Frame {
    pub routine: RoutineId,
    pub next: usize,
    pub slots: Vec<Value>,
}

/// What a run is about.
#[derive(Debug)]
pub(crate) enum State {
    /// It goes on when its turn comes.
    Ready,
    /// It waits for its timer, or for ever.
    Sleeping,
    /// It waits for its turn to make input.
    Queued,
    /// It is making input: the rest of the step, and the effect under way if any.
    Inputting(Job, Option<EffectId>),
    /// It waits for an effect's outcome.
    Awaiting(EffectId),
}

/// The press that fired a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Press {
    pub key: Key,
    pub number: u64,
}

#[derive(Debug)]
pub(crate) struct Run {
    pub rule: usize,
    pub press: Press,
    pub frames: Vec<Frame>,
    pub blocks: Vec<Block>,
    pub state: State,
    /// Operations done since it last slept.
    pub spent: usize,
    pub timer: Option<TimerId>,
}

/// Every live run, in the order of their start.
#[derive(Debug, Default)]
pub(crate) struct Runs {
    pub live: BTreeMap<RunId, Run>,
    started: u64,
}

impl Runs {
    pub(crate) fn next_id(&mut self) -> RunId {
        self.started += 1;
        RunId(self.started)
    }

    /// The live runs of a rule.
    pub(crate) fn of_rule(&self, rule: usize) -> Vec<RunId> {
        self.live.iter().filter(|(_, run)| run.rule == rule).map(|(id, _)| *id).collect()
    }

    pub(crate) fn get_mut(&mut self, id: RunId) -> &mut Run {
        self.live.get_mut(&id).expect("the run lives while it is worked on")
    }
}
