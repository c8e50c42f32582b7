//! Keys that the person presses while their modifiers are suspended for a batch of input.
//!
//! No grab matches such a key under its modifiers, and yet it must stop a loop that clicks at once. So raw
//! events of every key are selected in that time. Each event carries the number of our last request that
//! the server had executed, which says whether the modifiers were suspended.
//!
//! A grab may match such a key all the same, without its modifiers or with them, and much later if the
//! server waits for an answer of ours. The server's time, which is the same in both events, identifies it.

use std::collections::{BTreeMap, VecDeque};

use lantern_model::{HeldModifiers, Key, ModifierKey};
use x11rb::connection::SequenceNumber;

use super::pointer::is_pointed;

/// Intervals in which modifiers were suspended, the oldest first.
#[derive(Debug, Default)]
pub(super) struct ModifierSuspensions {
    intervals: VecDeque<Suspension>,
    /// The last request that the server had executed when it sent the event that is examined.
    now: SequenceNumber,
    /// Keys that were pressed meanwhile, with the server's time.
    pressed: BTreeMap<Key, (u32, SuspendedPress)>,
}

/// A key that was pressed while modifiers were suspended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum SuspendedPress {
    /// It was reported to the engine.
    Reported,
    /// No rule wants it under the modifiers that were pressed.
    Unbound,
}

#[derive(Debug)]
struct Suspension {
    from: SequenceNumber,
    /// None as long as they are suspended.
    until: Option<SequenceNumber>,
    /// Modifiers that the person holds.
    held: HeldModifiers,
}

impl ModifierSuspensions {
    /// Takes the number of the last request that the server had executed when it sent the next event.
    pub(super) fn look_at(&mut self, now: SequenceNumber) {
        self.now = now;
        while self
            .intervals
            .front()
            .is_some_and(|suspension| suspension.until.is_some_and(|until| until <= now))
        {
            self.intervals.pop_front();
        }
    }

    /// The modifiers that the person holds, if they were suspended when the event was sent.
    fn held(&mut self) -> Option<&mut HeldModifiers> {
        let now = self.now;
        self.intervals
            .front_mut()
            .filter(|suspension| suspension.from <= now)
            .map(|suspension| &mut suspension.held)
    }

    /// What came of a key or button that a grab reports, if it was pressed while modifiers were
    /// suspended.
    pub(super) fn take_pressed(&mut self, key: Key, time: u32) -> Option<SuspendedPress> {
        // Raw events of buttons are not selected meanwhile: the number of the request decides.
        if is_pointed(key) {
            return self.held().map(|_| SuspendedPress::Unbound);
        }
        let pressed = self.pressed.remove(&key);
        pressed.filter(|(at, _)| *at == time).map(|(_, what)| what)
    }

    /// Whether modifiers are suspended now.
    pub(super) fn is_active(&self) -> bool {
        self.intervals.back().is_some_and(|suspension| suspension.until.is_none())
    }

    /// Begins an interval with the request of that number, while the person holds these modifiers.
    pub(super) fn begin(&mut self, from: SequenceNumber, held: HeldModifiers) {
        self.intervals.push_back(Suspension { from, until: None, held });
    }

    /// Ends the interval with the request of that number.
    pub(super) fn end(&mut self, until: SequenceNumber) {
        if let Some(interval) = self.intervals.back_mut() {
            interval.until = Some(until);
        }
    }

    /// Takes that a key moved. Gives the modifiers that the person holds, if it was in an interval.
    pub(super) fn note_motion(&mut self, key: Key, down: bool) -> Option<HeldModifiers> {
        let held = self.held()?;
        if let Some(modifier) = ModifierKey::of(key) {
            *held = if down { held.with(modifier) } else { held.without(modifier) };
        }
        Some(*held)
    }

    /// Takes what came of a key that was pressed in an interval.
    pub(super) fn note_pressed(&mut self, key: Key, time: u32, what: SuspendedPress) {
        self.pressed.insert(key, (time, what));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key(name: &str) -> Key {
        Key::named(name).expect("the key is in the table")
    }

    #[test]
    fn a_press_counts_only_between_the_two_requests() {
        let ctrl: HeldModifiers = [ModifierKey::LeftCtrl].into_iter().collect();
        let mut suspensions = ModifierSuspensions::default();
        suspensions.begin(10, ctrl);
        assert!(suspensions.is_active());
        suspensions.look_at(9);
        assert_eq!(suspensions.note_motion(key("a"), true), None);
        suspensions.look_at(10);
        assert_eq!(suspensions.note_motion(key("a"), true), Some(ctrl));
        let none = suspensions.note_motion(key("left-ctrl"), false);
        assert_eq!(none, Some(HeldModifiers::NONE));
        suspensions.end(20);
        assert!(!suspensions.is_active());
        suspensions.look_at(19);
        assert!(suspensions.note_motion(key("b"), true).is_some());
        suspensions.look_at(20);
        assert_eq!(suspensions.note_motion(key("b"), true), None);
    }

    #[test]
    fn a_press_that_a_grab_reports_later_is_known_by_its_time() {
        let mut suspensions = ModifierSuspensions::default();
        suspensions.note_pressed(key("a"), 500, SuspendedPress::Reported);
        assert_eq!(suspensions.take_pressed(key("a"), 501), None, "it is another press");
        suspensions.note_pressed(key("a"), 500, SuspendedPress::Reported);
        assert_eq!(suspensions.take_pressed(key("a"), 500), Some(SuspendedPress::Reported));
        assert_eq!(suspensions.take_pressed(key("a"), 500), None);
    }

    #[test]
    fn a_button_counts_by_the_request_alone() {
        let mut suspensions = ModifierSuspensions::default();
        suspensions.begin(1, HeldModifiers::NONE);
        suspensions.look_at(1);
        let button = key("left-button");
        assert_eq!(suspensions.take_pressed(button, 7), Some(SuspendedPress::Unbound));
    }
}
