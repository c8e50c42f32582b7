//! What the person presses while their modifiers are out of the way for a step.
//!
//! No grab sees such a key under its modifiers, and yet a loop that clicks must be stopped by it at
//! once. So the server is asked to tell of every key in that time. It writes into all that it tells
//! how many of our requests it had done by then, which says whether the modifiers were away.

use std::collections::VecDeque;

use lantern_model::{Key, Modifiers, Side};
use x11rb::connection::SequenceNumber;

use super::X11Desk;
use super::keymap::key_of;
use crate::DeskError;

/// Times in which modifiers were away, the oldest first.
#[derive(Debug, Default)]
pub(super) struct Lifts {
    times: VecDeque<Lift>,
    /// The request that the server had done last when it told what is looked at now.
    now: SequenceNumber,
}

#[derive(Debug)]
struct Lift {
    from: SequenceNumber,
    /// None as long as they are away.
    until: Option<SequenceNumber>,
    /// Modifiers under the fingers.
    held: Modifiers,
}

impl Lifts {
    /// What is looked at from here on was told after request `now`.
    pub(super) fn look_at(&mut self, now: SequenceNumber) {
        self.now = now;
        while self.times.front().is_some_and(|lift| lift.until.is_some_and(|until| until <= now)) {
            self.times.pop_front();
        }
    }

    /// The modifiers under the fingers, if they were away by then.
    fn held(&mut self) -> Option<&mut Modifiers> {
        let now = self.now;
        self.times.front_mut().filter(|lift| lift.from <= now).map(|lift| &mut lift.held)
    }

    /// Whether modifiers were away by then.
    pub(super) fn were_away(&mut self) -> bool {
        self.held().is_some()
    }

    /// Whether they are away now.
    pub(super) fn are_away(&self) -> bool {
        self.times.back().is_some_and(|lift| lift.until.is_none())
    }
}

impl X11Desk {
    /// Modifiers are about to go out of the way, if any is under the fingers: gives their keycodes.
    pub(super) fn lift_held(&mut self) -> Result<Vec<u8>, DeskError> {
        // Looked at again, now that all that comes after the look is told.
        if self.held_modifiers()?.is_empty() { Ok(Vec::new()) } else { self.watch_fingers() }
    }

    /// Every key is told from here on: gives the keycodes of the modifiers under the fingers.
    pub(super) fn watch_fingers(&mut self) -> Result<Vec<u8>, DeskError> {
        self.end_lift()?;
        let from = self.select_raw(true)?;
        let codes = self.held_modifiers()?;
        let held = codes.iter().filter_map(|code| key_of(*code)).filter_map(Side::of).collect();
        self.lifts.times.push_back(Lift { from, until: None, held });
        Ok(codes)
    }

    /// The keycodes of the modifiers under the fingers.
    pub(super) fn held_modifiers(&self) -> Result<Vec<u8>, DeskError> {
        let down = self.shown_keycodes()?;
        Ok(self.keymap.all_modifier_codes().filter(|code| down.contains(code)).collect())
    }

    /// The modifiers are back.
    pub(super) fn end_lift(&mut self) -> Result<(), DeskError> {
        if self.lifts.are_away() {
            let until = self.select_raw(false)?;
            if let Some(lift) = self.lifts.times.back_mut() {
                lift.until = Some(until);
            }
        }
        Ok(())
    }

    /// A finger moved while modifiers may be away.
    pub(super) fn follow_lift(&mut self, time: u32, key: Key, down: bool) {
        let Some(held) = self.lifts.held() else { return };
        match Side::of(key) {
            Some(side) => *held = if down { held.with(side) } else { held.without(side) },
            None if down => {
                let modifiers = *held;
                self.report_missed(time, key, modifiers);
            }
            None => {}
        }
    }
}
