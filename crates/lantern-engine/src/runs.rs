//! A run of a rule: a program counter and a small stack, never a thread.

use std::collections::BTreeMap;
use std::time::Duration;

use lantern_model::code::{AssignTarget, Expr};
use lantern_model::{EffectId, Key, RoutineId, RunId, Time, Value};

use crate::activation::Press;
use crate::input::InputJob;

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
pub(crate) struct CallFrame {
    pub routine: RoutineId,
    pub next: usize,
    pub slots: Vec<Value>,
}

/// What a run is about.
#[derive(Debug)]
pub(crate) enum RunState {
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

#[derive(Debug)]
pub(crate) struct Run {
    pub rule: usize,
    /// When it began.
    pub began: Time,
    /// The press that fired it, if it was one.
    pub press: Option<Press>,
    /// Characters that the person typed to fire it.
    pub typed_characters: usize,
    pub frames: Vec<CallFrame>,
    pub blocks: Vec<Block>,
    pub state: RunState,
    /// Whether it was told that it makes too much input.
    pub is_rate_limited: bool,
    /// Operations done since it last slept.
    pub operations: usize,
}

/// Every live run, in the order of their start.
#[derive(Debug, Default)]
pub(crate) struct Runs {
    pub live: BTreeMap<RunId, Box<Run>>,
    /// In the order of their start as well.
    by_rule: BTreeMap<usize, Vec<RunId>>,
    started: u64,
}

impl Runs {
    pub(crate) fn next_id(&mut self) -> RunId {
        self.started += 1;
        RunId(self.started)
    }

    pub(crate) fn add(&mut self, id: RunId, run: Run) {
        self.by_rule.entry(run.rule).or_default().push(id);
        self.live.insert(id, Box::new(run));
    }

    pub(crate) fn remove(&mut self, id: RunId) -> Option<Box<Run>> {
        let run = self.live.remove(&id)?;
        if let Some(of_rule) = self.by_rule.get_mut(&run.rule) {
            of_rule.retain(|run| *run != id);
            if of_rule.is_empty() {
                self.by_rule.remove(&run.rule);
            }
        }
        Some(run)
    }

    /// Changes what runs are of, as `change` says.
    pub(crate) fn remap_ids(&mut self, mut change: impl FnMut(&mut Run)) {
        self.by_rule.clear();
        for (id, run) in &mut self.live {
            change(run);
            self.by_rule.entry(run.rule).or_default().push(*id);
        }
    }

    /// The live runs of a rule.
    pub(crate) fn of_rule(&self, rule: usize) -> Vec<RunId> {
        self.by_rule.get(&rule).into_iter().flatten().copied().collect()
    }

    /// The rules with live runs, each once, in order.
    pub(crate) fn rules(&self) -> impl Iterator<Item = usize> {
        self.by_rule.keys().copied()
    }

    pub(crate) fn get_mut(&mut self, id: RunId) -> &mut Run {
        self.live.get_mut(&id).expect("the run lives while it is worked on")
    }
}
