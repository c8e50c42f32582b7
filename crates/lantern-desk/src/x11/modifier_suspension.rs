//! What the person presses while their modifiers are out of the way for a step.
//!
//! No grab sees such a key under its modifiers, and yet a loop that clicks must be stopped by it at
//! once. So the server is asked to tell of every key in that time. It writes into all that it tells
//! how many of our requests it had done by then, which says whether the modifiers were away.
//!
//! A grab may see such a key all the same, without its modifiers or with them, and much later if the
//! server waits for an answer of ours. It is known by its time, the same in both.

use std::collections::{BTreeMap, VecDeque};

use lantern_model::{HeldModifiers, Key, ModifierKey};
use x11rb::connection::SequenceNumber;

use super::X11Backend;
use super::keymap::side_of;
use super::pointer::is_pointed;
use crate::BackendError;

/// Times in which modifiers were away, the oldest first.
#[derive(Debug, Default)]
pub(super) struct ModifierSuspensions {
    times: VecDeque<Suspension>,
    /// The last request that the server had executed when it sent the event that is examined.
    now: SequenceNumber,
    /// Keys that fingers pressed meanwhile, with the server's time.
    pressed: BTreeMap<Key, (u32, SuspendedPress)>,
}

/// A key that a finger pressed while modifiers were away.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum SuspendedPress {
    /// The rule it belongs to was told.
    Reported,
    /// It belongs to none under the modifiers that fingers were on.
    Unbound,
}

#[derive(Debug)]
struct Suspension {
    from: SequenceNumber,
    /// None as long as they are away.
    until: Option<SequenceNumber>,
    /// Modifiers under the fingers.
    held: HeldModifiers,
}

impl ModifierSuspensions {
    /// Events from here on were sent after request `now`.
    pub(super) fn look_at(&mut self, now: SequenceNumber) {
        self.now = now;
        while self.times.front().is_some_and(|lift| lift.until.is_some_and(|until| until <= now)) {
            self.times.pop_front();
        }
    }

    /// The modifiers under the fingers, if they were away by then.
    fn held(&mut self) -> Option<&mut HeldModifiers> {
        let now = self.now;
        self.times.front_mut().filter(|lift| lift.from <= now).map(|lift| &mut lift.held)
    }

    /// What came of a key or button that a grab saw, if it was pressed while modifiers were away.
    pub(super) fn take_bare(&mut self, key: Key, time: u32) -> Option<SuspendedPress> {
        // Buttons are not watched meanwhile: of them the number of the request has to tell.
        if is_pointed(key) {
            return self.held().map(|_| SuspendedPress::Unbound);
        }
        let bare = self.pressed.remove(&key);
        bare.filter(|(pressed, _)| *pressed == time).map(|(_, bare)| bare)
    }

    /// Whether they are away now.
    pub(super) fn are_away(&self) -> bool {
        self.times.back().is_some_and(|lift| lift.until.is_none())
    }
}

impl X11Backend {
    /// Modifiers are about to go out of the way, if any is under the fingers: gives their keycodes.
    pub(super) fn lift_held(&mut self) -> Result<Vec<u8>, BackendError> {
        // Read again, now that later changes arrive as events.
        if self.held_modifiers()?.is_empty() { Ok(Vec::new()) } else { self.watch_fingers() }
    }

    /// Selects raw events of every key. Returns the keycodes of the modifiers that the person
    /// holds.
    pub(super) fn watch_fingers(&mut self) -> Result<Vec<u8>, BackendError> {
        self.end_lift()?;
        let from = self.select_raw(true)?;
        let codes = self.held_modifiers()?;
        let held = codes.iter().filter_map(|code| side_of(*code)).collect();
        self.suspensions.times.push_back(Suspension { from, until: None, held });
        Ok(codes)
    }

    /// The keycodes of the modifiers under the fingers.
    pub(super) fn held_modifiers(&self) -> Result<Vec<u8>, BackendError> {
        let down = self.shown_keycodes()?;
        Ok(self.keymap.all_modifier_codes().filter(|code| down.contains(code)).collect())
    }

    /// The modifiers are back.
    pub(super) fn end_lift(&mut self) -> Result<(), BackendError> {
        if self.suspensions.are_away() {
            let until = self.select_raw(false)?;
            if let Some(lift) = self.suspensions.times.back_mut() {
                lift.until = Some(until);
            }
        }
        Ok(())
    }

    /// A finger moved while modifiers may be away.
    pub(super) fn follow_lift(&mut self, time: u32, key: Key, down: bool) {
        let Some(held) = self.suspensions.held() else { return };
        let side = ModifierKey::of(key);
        if let Some(side) = side {
            *held = if down { held.with(side) } else { held.without(side) };
        }
        if down {
            let modifiers = *held;
            let told = side.is_none() && self.report_missed(key, modifiers);
            let bare = if told { SuspendedPress::Reported } else { SuspendedPress::Unbound };
            self.suspensions.pressed.insert(key, (time, bare));
        }
    }
}
