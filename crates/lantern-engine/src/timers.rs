//! Deadlines, in the order of their time and then of their making.

use std::collections::BTreeMap;

use lantern_model::{Key, RunId, Time};

/// What is due.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Timer {
    /// A run goes on.
    Wake(RunId),
    /// A held key repeats; the number tells one press of it from another.
    Repeat(Key, u64),
}

/// The handle of a deadline, to take it back.
pub(crate) type TimerId = (Time, u64);

#[derive(Debug, Default)]
pub(crate) struct Timers {
    due: BTreeMap<TimerId, Timer>,
    created: u64,
}

impl Timers {
    pub(crate) fn add(&mut self, time: Time, timer: Timer) -> TimerId {
        self.created += 1;
        let id = (time, self.created);
        self.due.insert(id, timer);
        id
    }

    pub(crate) fn cancel(&mut self, id: TimerId) {
        self.due.remove(&id);
    }

    pub(crate) fn next(&self) -> Option<Time> {
        self.due.keys().next().map(|(time, _)| *time)
    }

    /// Takes the first deadline that is due at `now`.
    pub(crate) fn take_due(&mut self, now: Time) -> Option<Timer> {
        let entry = self.due.first_entry()?;
        if entry.key().0 > now { None } else { Some(entry.remove()) }
    }
}
