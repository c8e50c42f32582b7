//! Deadlines, in the order of their time and then of their making.

use std::collections::BTreeMap;

use lantern_model::{Key, RunId, Time};

/// What is due.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Timer {
    /// A run goes on.
    Wake(RunId),
    /// What a run waits for took too long.
    Limit(RunId),
    /// A held key repeats; the number tells one press of it from another.
    Repeat(Key, u64),
    /// A press that is not decided has waited long enough for something.
    Hope(u64, Hope),
    /// The pointer lies still while a shape may be drawn with that press.
    Still(u64),
    /// No further stroke came after the one of that press.
    NextStroke(u64),
    /// The next key of a sequence did not come; the number tells one wait from another.
    Sequence(u64),
    /// A rule's triggers have been quiet; the number tells one wait from another.
    Quiet(usize, u64),
    /// A rule's time comes round.
    Every(usize, usize),
    /// A rule's time of day is there; the number tells one setting of the clock from another.
    Alarm(usize, usize, u64),
    /// Phrases count without the attention word no longer.
    Asleep,
    /// Conditions on the clock are looked at again.
    Look,
}

/// What a press that is not decided may still become.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Hope {
    /// Part of keys together.
    Chord,
    /// A tap.
    Tap,
    /// The first of two.
    Twice,
    /// Held long enough, for this trigger of this rule.
    Held(usize, usize),
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

    /// Takes every deadline of that sort back.
    pub(crate) fn cancel_all(&mut self, unwanted: impl Fn(&Timer) -> bool) {
        self.due.retain(|_, timer| !unwanted(timer));
    }

    pub(crate) fn all(&self) -> impl Iterator<Item = Timer> {
        self.due.values().copied()
    }

    /// Changes every deadline as `change` says; takes those back for which it says nothing.
    pub(crate) fn translate(&mut self, mut change: impl FnMut(Timer) -> Option<Timer>) {
        let due = std::mem::take(&mut self.due).into_iter();
        self.due = due.filter_map(|(id, timer)| Some((id, change(timer)?))).collect();
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
