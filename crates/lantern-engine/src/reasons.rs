//! Why something happened or did not, kept for whoever asks.

use std::collections::VecDeque;
use std::sync::Arc;

use lantern_model::{Ear, Heed, Link, Place, RunId, Time};

/// How many reasons are kept.
const KEPT: usize = 1000;

/// One decision.
#[derive(Debug, Clone, PartialEq)]
pub struct Reason {
    /// Its number, counted from 1.
    pub number: u64,
    /// When.
    pub time: Time,
    /// The rule it is about, by its number in the set.
    pub rule: Option<usize>,
    /// What was decided.
    pub kind: ReasonKind,
}

/// What was decided.
#[derive(Debug, Clone, PartialEq)]
pub enum ReasonKind {
    /// The rule fired, as this run.
    Fired {
        /// What fired it, as the rule writes it.
        by: Arc<str>,
        /// The run.
        run: RunId,
    },
    /// A run came to its end.
    Ended(RunId),
    /// A run was ended from outside, by this.
    Stopped(RunId, String),
    /// A run failed at a place of the file.
    Failed {
        /// The run.
        run: RunId,
        /// Where.
        place: Place,
        /// Why.
        message: String,
    },
    /// The rule would have fired, but did not.
    Dropped(String),
    /// What the person is listened to for from now on.
    Heeds(Heed),
    /// A phrase that counts was said, so sure from 0 to 1.
    Heard(String, f64),
    /// The attention word was said alone.
    Called,
    /// A device, by its name, is there from now on or went away.
    Link(String, Link),
    /// A device sent a line that is too long; its end was left out.
    CutLine(String),
    /// Whether the person can be heard from now on.
    Ear(Ear),
    /// Something was heard or drawn that no rule wants here.
    NotUnderstood(String),
    /// No rule wanted the key after all; the program got it.
    GivenBack(String),
    /// Keys that this board does not have.
    NotOnBoard(String),
    /// Whether the keyboard goes to a password field now.
    SecretField(bool),
    /// Whether the screen is locked now, or the person away otherwise.
    Locked(bool),
    /// A run makes more input than the ceiling lets through, and is held to it.
    Braked(RunId),
    /// Keys that somebody else holds.
    Refused(String),
    /// The keyboard's layout is another one now; every key was armed anew.
    NewLayout,
    /// The panic combination stopped everything.
    Panic {
        /// Runs that were ended.
        runs: usize,
        /// Keys that were let go.
        keys: usize,
    },
}

#[derive(Debug, Default)]
pub(crate) struct Reasons {
    ring: VecDeque<Reason>,
    count: u64,
}

impl Reasons {
    pub(crate) fn add(&mut self, time: Time, rule: Option<usize>, kind: ReasonKind) {
        self.count += 1;
        if self.ring.len() == KEPT {
            self.ring.pop_front();
        }
        self.ring.push_back(Reason { number: self.count, time, rule, kind });
    }

    /// Changes what rules reasons are about, as `change` says.
    pub(crate) fn translate(&mut self, change: impl Fn(usize) -> Option<usize>) {
        for reason in &mut self.ring {
            reason.rule = reason.rule.and_then(&change);
        }
    }

    pub(crate) fn last(&self) -> u64 {
        self.count
    }

    pub(crate) fn after(&self, number: u64) -> impl Iterator<Item = &Reason> {
        let skip = self.ring.partition_point(|reason| reason.number <= number);
        self.ring.range(skip..)
    }
}
