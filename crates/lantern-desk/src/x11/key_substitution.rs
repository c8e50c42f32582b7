//! Keys that are sent to the focused program in place of the pressed one, and modifiers that are released for
//! that, until the physical key is released.
//!
//! Replays or substitutes a grabbed press when the engine has answered. Which key stands for which is decided
//! by the engine. Called by the back end's `give_back`.

use std::collections::BTreeSet;

use lantern_model::{Event, HeldModifiers, Key, ModifierKey, ReplayKey};

use super::X11Backend;
use super::grabs::KeyOrButton;
use super::keymap::{keycode_of, side_of};
use super::pointer;
use super::pointer::{button_of, is_pointed};
use super::press_tracker::ActiveGrab;
use super::raw_events;
use crate::BackendError;

impl X11Backend {
    pub(super) fn give_key_back(&mut self, back: &ReplayKey) -> Result<(), BackendError> {
        let itself = back.output == [back.key];
        let waits = self.presses.ending.is_some_and(|ending| match (ending, button_of(back.key)) {
            (ActiveGrab::Button { button, waits }, Some(own)) => {
                waits && button == own && is_pointed(back.key)
            }
            _ => false,
        });
        self.presses.followed.remove(&back.key);
        self.report_letter(back.output.last().copied(), self.families_of(back.modifiers));
        if waits && itself && !back.is_tap {
            return self.replay_press();
        }
        let pointed = back.output.iter().any(|key| is_pointed(*key));
        if itself && pointed && !back.is_tap {
            // The server knows it as down, so that no press can be made of it before it is up.
            let place = self.presses.pressed_at.map(|(x, y)| (x.round() as i32, y.round() as i32));
            self.presses.owed.insert(back.key, place);
            self.presses.followed.insert(back.key);
            return self.end_grab();
        }
        // With nothing held when it was pressed just now, nothing has to be looked at.
        let answers = match self.presses.ending {
            Some(ActiveGrab::Key { code, .. }) => keycode_of(back.key) == Some(code),
            _ => false,
        };
        let alone = answers && back.modifiers.is_empty() && self.presses.pressed_under == Some(0);
        // Asked before the way is open: nothing of the person's may slip in.
        let (lifted, added) = if alone { Default::default() } else { self.wrong_modifiers(back)? };
        self.make_way(pointed)?;
        self.set_delays_aside()?;
        self.lift(&lifted)?;
        added.iter().try_for_each(|code| self.fake_key(*code, true))?;
        let way: &[(i32, i32)] = if pointed && back.is_tap { &back.path } else { &[] };
        way.first().map_or(Ok(()), |place| self.warp(*place))?;
        if back.is_tap && !answers {
            // The finger may have pressed the key again since. The X server drops a second press of a
            // key that is down.
            let keys = back.output.iter().filter(|key| !is_pointed(**key));
            keys.filter_map(|key| keycode_of(*key))
                .try_for_each(|code| self.fake_key(code, false))?;
        }
        self.hand_over(back.key, back.output.clone())?;
        self.move_along(way)?;
        added.into_iter().rev().try_for_each(|code| self.fake_key(code, false))?;
        if back.is_tap {
            self.end_substitution(back.key)?;
        }
        self.take_way()?;
        if back.is_tap || back.hidden_modifiers.is_empty() {
            self.put_back(lifted)?;
        } else {
            self.end_lift()?;
            self.presses.hidden.insert(back.key, lifted);
        }
        self.bring_delays_back()?;
        self.flush()
    }

    /// The modifiers that are down though the key was not pressed under them, or hides them, and
    /// those that are missing. If any is to be released, raw events of every key are selected from
    /// here on.
    fn wrong_modifiers(&mut self, back: &ReplayKey) -> Result<(Vec<u8>, Vec<u8>), BackendError> {
        let wrong = self.wrong_among(back, self.held_modifiers()?);
        if wrong.0.is_empty() {
            return Ok(wrong);
        }
        // Read again, now that later changes arrive as events.
        let shown = self.watch_fingers()?;
        Ok(self.wrong_among(back, shown))
    }

    fn wrong_among(&self, back: &ReplayKey, shown: Vec<u8>) -> (Vec<u8>, Vec<u8>) {
        let wanted = self.families_of(
            back.modifiers.iter().filter(|s| !back.hidden_modifiers.contains(*s)).collect(),
        );
        let have: HeldModifiers = shown.iter().filter_map(|code| side_of(*code)).collect();
        let have = self.families_of(have);
        let missing = wanted.iter().filter(|family| !have.contains(*family));
        let added = missing.filter_map(|family| keycode_of(family.default_key().key())).collect();
        let unwanted = |code: &u8| {
            side_of(*code).is_some_and(|side| !wanted.contains(self.keymap.layout.modifier(side)))
        };
        (shown.into_iter().filter(unwanted).collect(), added)
    }

    pub(super) fn families_of(&self, modifiers: HeldModifiers) -> lantern_model::ModifierSet {
        modifiers.modifiers(self.keymap.layout.alt_gr_is_level3)
    }

    /// Presses keys in the place of one, until the finger leaves it.
    pub(super) fn hand_over(&mut self, key: Key, becomes: Vec<Key>) -> Result<(), BackendError> {
        for key in &becomes {
            if let Some(detail) = KeyOrButton::of(*key)
                && self.is_in_our_way(detail)
            {
                self.grabs.suspend(&self.link, detail)?;
                self.open.insert(detail);
            }
            self.fake_board(*key, true)?;
        }
        self.presses.substitutions.insert(key, becomes);
        self.presses.look_again = true;
        Ok(())
    }

    /// A modifier that was let go for a step is down again through us as long as the finger stays.
    pub(super) fn stand_for_itself(&mut self, key: Key) -> Result<(), BackendError> {
        let stood_for = self.presses.substitutions.values().flatten().any(|other| *other == key);
        if !stood_for {
            self.presses.substitutions.insert(key, vec![key]);
            self.presses.look_again = true;
            self.select_raw_events()?;
        }
        Ok(())
    }

    fn end_substitution(&mut self, key: Key) -> Result<(), BackendError> {
        for other in self.presses.substitutions.remove(&key).unwrap_or_default().into_iter().rev() {
            self.fake_board(other, false)?;
            if let Some(detail) = KeyOrButton::of(other)
                && self.open.remove(&detail)
            {
                self.grabs.resume(&self.link, detail)?;
            }
        }
        match self.presses.hidden.remove(&key) {
            Some(lifted) => self.put_back(lifted),
            None => Ok(()),
        }
    }

    /// A finger left a key that we follow or gave back.
    pub(super) fn let_go(&mut self, key: Key) -> Result<(), BackendError> {
        let owed = self.presses.owed.remove(&key);
        if self.presses.followed.remove(&key) && owed.is_none() {
            self.queue_way();
            self.events.push_back(Event::Released { key });
        }
        if let Some(place) = owed {
            // It is pressed where it was, and what came of it in between is a drag.
            let now = pointer::place(&self.link)?;
            let moved = place.filter(|place| *place != now);
            moved.map_or(Ok(()), |place| self.warp(place))?;
            self.hand_over(key, vec![key])?;
            moved.map_or(Ok(()), |_| self.warp(now))?;
        }
        if let Some(others) = self.presses.substitutions.get(&key) {
            let modifiers = modifier_codes(others);
            // Only a modifier is looked for once more: what is pressed beside it depends on it.
            match ModifierKey::of(key) {
                Some(_) => self.let_modifier_go(key)?,
                None => {
                    self.end_substitution(key)?;
                    // The finger on a modifier that it stood for lost its press with it.
                    if modifiers.is_empty() {
                        self.flush()?;
                    } else {
                        self.put_back(modifiers)?;
                    }
                }
            }
        }
        self.select_raw_events()
    }

    /// The person has released a modifier, and may have pressed it again by now. From the query
    /// until the substitute's state is right, keys are reported as raw events.
    fn let_modifier_go(&mut self, key: Key) -> Result<(), BackendError> {
        let already = self.suspensions.are_away();
        if !already {
            self.watch_fingers()?;
        }
        let down = raw_events::real_keycodes(&self.link)?;
        if !self.is_back(key, &down) {
            self.end_substitution(key)?;
            self.welcome_back(key)?;
        }
        if already { Ok(()) } else { self.end_lift() }
    }

    /// A modifier that we held for a finger was let go. Should the finger have come back between the
    /// look before and our release, which took its press away, it is pressed again.
    pub(super) fn welcome_back(&mut self, key: Key) -> Result<(), BackendError> {
        let down = raw_events::real_keycodes(&self.link)?;
        if !self.is_back(key, &down) {
            return Ok(());
        }
        self.set_delays_aside()?;
        self.fake_board(key, true)?;
        self.bring_delays_back()?;
        self.stand_for_itself(key)?;
        self.flush()
    }

    /// Whether a modifier that stands for itself is under the finger again.
    fn is_back(&self, key: Key, down: &BTreeSet<u8>) -> bool {
        let itself = self.presses.substitutions.get(&key).is_none_or(|keys| *keys == [key]);
        itself
            && ModifierKey::of(key).is_some()
            && keycode_of(key).is_some_and(|code| down.contains(&code))
    }
}

/// The keycodes of the modifiers among keys.
pub(super) fn modifier_codes<'k>(keys: impl IntoIterator<Item = &'k Key>) -> Vec<u8> {
    let modifiers = keys.into_iter().filter(|key| ModifierKey::of(**key).is_some());
    modifiers.filter_map(|key| keycode_of(*key)).collect()
}
