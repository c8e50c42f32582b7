//! Putting input in: presses and releases through XTEST, the person's modifiers out of the way for
//! a step and put back after it, every press marked in the list of held keys before it is sent.

use lantern_model::{InputAction, InputBatch, Key, ModifierKey, ShiftLevel, Time};
use x11rb::CURRENT_TIME;
use x11rb::connection::Connection;
use x11rb::protocol::xkb::{ConnectionExt as _, Group, ID};
use x11rb::protocol::xproto::{self, ConnectionExt as _};
use x11rb::protocol::xtest::ConnectionExt as _;

use super::grabs::KeyOrButton;
use super::key_substitution::modifier_codes;
use super::keymap::{key_of, keycode_of};
use super::pointer::{button_of, is_pointed};
use super::{LOCK, X11Backend};
use crate::BackendError;

/// The keycode of the left control key, tapped where no spare keycode is free.
const LEFT_CTRL: u8 = 37;

impl X11Backend {
    /// Presses or lets go a keycode.
    pub(super) fn fake_key(&mut self, code: u8, down: bool) -> Result<(), BackendError> {
        if down {
            self.held.mark_key(code, true);
            // It was let go only for a step, and is down again before that was sent.
            self.ups.retain(|up| *up != code);
        } else {
            self.ups.push(code);
        }
        let kind = if down { xproto::KEY_PRESS_EVENT } else { xproto::KEY_RELEASE_EVENT };
        self.fake(kind, code)
    }

    /// Presses or lets go what counts as this button.
    fn fake_button(&mut self, meaning: u8, down: bool) -> Result<(), BackendError> {
        let button = self.buttons.physical(meaning);
        if down {
            self.held.mark_button(button, true);
            self.button_ups.retain(|up| *up != button);
        } else {
            self.button_ups.push(button);
        }
        let kind = if down { xproto::BUTTON_PRESS_EVENT } else { xproto::BUTTON_RELEASE_EVENT };
        self.fake(kind, button)
    }

    fn fake(&self, kind: u8, detail: u8) -> Result<(), BackendError> {
        Ok(self.link.fake(kind, detail)?)
    }

    /// Presses or lets go a key or button of the board.
    pub(super) fn fake_board(&mut self, key: Key, down: bool) -> Result<(), BackendError> {
        if let Some(button) = button_of(key) {
            return self.fake_button(button, down);
        }
        match keycode_of(key) {
            Some(code) => self.fake_key(code, down),
            None => Ok(()),
        }
    }

    /// Sends what was put together; only then are releases taken from the list of held keys.
    pub(super) fn flush(&mut self) -> Result<(), BackendError> {
        self.link.conn.flush()?;
        for code in self.ups.drain(..) {
            self.held.mark_key(code, false);
        }
        for button in self.button_ups.drain(..) {
            self.held.mark_button(button, false);
        }
        Ok(())
    }

    /// Does a whole step whose text the keyboard can give.
    pub(super) fn perform_batch(
        &mut self,
        now: Time,
        step: &InputBatch,
    ) -> Result<(), BackendError> {
        let is_given =
            |act: &&InputAction| matches!(act, InputAction::Text(_) | InputAction::Tap(_));
        for act in step.actions.iter().filter(is_given) {
            self.unread = true;
            // Clicks go past input methods.
            if !matches!(act, InputAction::Tap(keys) if keys.iter().copied().all(is_pointed)) {
                self.methods.note_typed(now);
            }
        }
        let mut lifted = self.begin_step(step)?;
        for act in &step.actions {
            self.perform_action(act)?;
        }
        // A finger on a modifier that a rule let go lost its press with it, and gets it back like one
        // that was out of the way.
        lifted.extend(modifier_codes(step.actions.iter().filter_map(|act| match act {
            InputAction::Up(key) => Some(key),
            _ => None,
        })));
        self.presses.pointer_moved |= step
            .actions
            .iter()
            .any(|act| matches!(act, InputAction::MoveBy(..) | InputAction::MoveTo(..)));
        self.end_step(step, lifted)
    }

    /// Takes out of the way what must not be down; gives the person's modifiers among it.
    pub(super) fn begin_step(&mut self, step: &InputBatch) -> Result<Vec<u8>, BackendError> {
        let keys = || step.actions.iter().flat_map(act_keys).copied();
        let moves =
            |act: &InputAction| matches!(act, InputAction::MoveBy(..) | InputAction::MoveTo(..));
        let at_pointer = keys().any(is_pointed) || step.actions.iter().any(moves);
        let nothing_is_down = self.answers_button_alone();
        let mut lifted = Vec::new();
        if step.suspend_modifiers {
            let keep: Vec<u8> = step.keep.iter().filter_map(|key| keycode_of(*key)).collect();
            lifted = match self.presses.pressed_under.take() {
                // The press that led here said which modifiers were down; both sides of each are
                // let go, since a release of a key that is up is nothing.
                Some(mask) => self.keymap.modifier_codes(mask).collect(),
                None => self.lift_held()?,
            };
            lifted.retain(|code| !keep.contains(code));
        }
        self.make_way(at_pointer)?;
        for detail in keys().filter_map(KeyOrButton::of) {
            if self.is_in_our_way(detail) && !self.suspended.contains(&detail) {
                self.grabs.suspend(&self.link, detail)?;
                self.suspended.push(detail);
            }
        }
        self.set_helps_aside()?;
        self.lift(&lifted)?;
        for key in &step.park {
            self.fake_board(*key, false)?;
        }
        if !nothing_is_down {
            self.free_keys(step)?;
        }
        Ok(lifted)
    }

    /// Lets go of the keys that a step types or taps, as a finger may be on one of them still: a key that is
    /// down cannot be pressed. A release of a key that is up is nothing.
    fn free_keys(&mut self, step: &InputBatch) -> Result<(), BackendError> {
        let mut codes = Vec::new();
        for act in &step.actions {
            match act {
                InputAction::Text(text) => {
                    codes.extend(text.chars().filter_map(|letter| Some(self.spell(letter)?.0)));
                }
                // Modifiers are out of the way already.
                InputAction::Tap(keys) => {
                    let plain = keys.iter().filter(|key| ModifierKey::of(**key).is_none());
                    codes.extend(plain.filter_map(|key| keycode_of(*key)));
                }
                _ => {}
            }
        }
        codes.sort_unstable();
        codes.dedup();
        let is_kept = |code| step.keep.iter().any(|key| keycode_of(*key) == Some(code));
        for code in codes {
            // Of a key that we take its own release ends the taking: that is seen to elsewhere.
            if !is_kept(code) && !self.grabs.has(KeyOrButton::Code(code)) {
                self.fake_key(code, false)?;
            }
        }
        Ok(())
    }

    pub(super) fn lift(&mut self, codes: &[u8]) -> Result<(), BackendError> {
        for code in codes {
            if self.keymap.opens_menu(*code) {
                self.press_nothing()?;
            }
            self.fake_key(*code, false)?;
        }
        Ok(())
    }

    /// Taps a key that means nothing, so that a modifier was not pressed alone.
    fn press_nothing(&mut self) -> Result<(), BackendError> {
        let code = self.keymap.meaningless.unwrap_or(LEFT_CTRL);
        self.fake_key(code, true)?;
        self.fake_key(code, false)
    }

    /// Restores what the batch released, if the person still holds it.
    pub(super) fn end_step(
        &mut self,
        step: &InputBatch,
        lifted: Vec<u8>,
    ) -> Result<(), BackendError> {
        for key in &step.park {
            self.fake_board(*key, true)?;
        }
        self.resume_grabs(step)?;
        self.put_back(lifted)?;
        self.bring_helps_back()?;
        self.take_way()?;
        self.bound_queue(step)
    }

    /// Whether injecting the key would start a grab of our own.
    pub(super) fn is_in_our_way(&self, detail: KeyOrButton) -> bool {
        self.grabs.has(detail) && !self.open.contains(&detail)
    }

    /// Takes the grabs again that were let go for a step, but for keys that stay down: what the
    /// server repeats of them would come to us instead of the program.
    fn resume_grabs(&mut self, step: &InputBatch) -> Result<(), BackendError> {
        while let Some(detail) = self.suspended.pop() {
            let goes_down = |act: &InputAction| matches!(act, InputAction::Down(key) if KeyOrButton::of(*key) == Some(detail));
            if step.actions.iter().any(goes_down) {
                self.open.insert(detail);
            } else {
                self.grabs.resume(&self.link, detail)?;
            }
        }
        for act in &step.actions {
            if let InputAction::Up(key) = act
                && let Some(detail) = KeyOrButton::of(*key)
                && self.open.remove(&detail)
            {
                self.grabs.resume(&self.link, detail)?;
            }
        }
        Ok(())
    }

    pub(super) fn put_back(&mut self, lifted: Vec<u8>) -> Result<(), BackendError> {
        if lifted.is_empty() {
            self.end_lift()?;
            return self.flush();
        }
        // After a press that was answered the fingers are watched only now, behind its key and in one
        // breath with it: the server hands a key on before it does the next request.
        let real = if self.suspensions.are_away() {
            self.held_modifiers()?
        } else {
            self.watch_fingers()?
        };
        let again: Vec<u8> = lifted.into_iter().filter(|code| real.contains(code)).collect();
        for code in &again {
            self.fake_key(*code, true)?;
            if self.keymap.opens_menu(*code) {
                self.press_nothing()?;
            }
        }
        self.flush()?;
        // A finger may have left between the look and the press. From here on their release lets
        // it go, and with it what we pressed for it.
        let real = self.shown_keycodes()?;
        for code in again {
            let Some(key) = key_of(code) else { continue };
            if real.contains(&code) {
                self.stand_for_itself(key)?;
            } else {
                self.fake_key(code, false)?;
                self.welcome_back(key)?;
            }
        }
        self.end_lift()?;
        self.flush()
    }

    /// Waits until the server has caught up: after a text, since it takes its clients in the order it
    /// likes, and a key that the person presses now must not fall into the text; and every few other
    /// steps, so that what a fast loop sends never piles up in front of the key that stops it.
    fn bound_queue(&mut self, step: &InputBatch) -> Result<(), BackendError> {
        const STEPS_AHEAD: u32 = 32;
        self.steps_ahead += 1;
        let writes = step.actions.iter().any(|act| matches!(act, InputAction::Text(_)));
        if writes || self.steps_ahead >= STEPS_AHEAD {
            self.steps_ahead = 0;
            self.link.conn.get_input_focus()?.reply()?;
        }
        Ok(())
    }

    pub(super) fn perform_action(&mut self, act: &InputAction) -> Result<(), BackendError> {
        match act {
            InputAction::Tap(keys) => {
                for key in keys {
                    self.fake_board(*key, true)?;
                }
                for key in keys.iter().rev() {
                    self.fake_board(*key, false)?;
                }
            }
            InputAction::Down(key) => self.fake_board(*key, true)?,
            InputAction::Up(key) => self.fake_board(*key, false)?,
            InputAction::Text(text) => self.type_text(text)?,
            InputAction::MoveBy(x, y) => {
                let (x, y) = (pixels(*x), pixels(*y));
                self.link.conn.warp_pointer(x11rb::NONE, x11rb::NONE, 0, 0, 0, 0, x, y)?;
            }
            InputAction::MoveTo(x, y) => self.warp((*x, *y))?,
        }
        Ok(())
    }

    /// Moves the pointer to a place.
    pub(super) fn warp(&self, (x, y): (i32, i32)) -> Result<(), BackendError> {
        let kind = xproto::MOTION_NOTIFY_EVENT;
        let (root, x, y) = (self.link.root, pixels(x), pixels(y));
        self.link.conn.xtest_fake_input(kind, 0, CURRENT_TIME, root, x, y, 0)?;
        Ok(())
    }

    /// Types characters that the layout has, or that a spare keycode was lent to.
    pub(super) fn type_text(&mut self, text: &str) -> Result<(), BackendError> {
        let caps = self.locked & LOCK != 0;
        if caps {
            self.set_locks(LOCK, 0)?;
        }
        let mut level = ShiftLevel::Plain;
        for character in text.chars() {
            let Some((code, wanted)) = self.spell(character) else {
                continue;
            };
            self.change_level(level, wanted)?;
            level = wanted;
            let detail = KeyOrButton::Code(code);
            let grabbed = self.is_in_our_way(detail);
            if grabbed {
                self.grabs.suspend(&self.link, detail)?;
            }
            self.fake_key(code, true)?;
            self.fake_key(code, false)?;
            if grabbed {
                self.grabs.resume(&self.link, detail)?;
            }
        }
        self.change_level(level, ShiftLevel::Plain)?;
        if caps {
            self.set_locks(LOCK, LOCK)?;
        }
        Ok(())
    }

    /// Sets those of the locks in `mask` that are in `on`, and clears the others of it.
    pub(super) fn set_locks(&self, mask: u16, on: u16) -> Result<(), BackendError> {
        let none = xproto::ModMask::from(0u16);
        let (mask, on) = (xproto::ModMask::from(mask), xproto::ModMask::from(mask & on));
        let keyboard = ID::USE_CORE_KBD.into();
        let conn = &self.link.conn;
        conn.xkb_latch_lock_state(keyboard, mask, on, false, Group::M1, none, false, 0)?;
        Ok(())
    }

    /// Changes what is held from one level to another.
    fn change_level(&mut self, from: ShiftLevel, to: ShiftLevel) -> Result<(), BackendError> {
        let shift = |level| matches!(level, ShiftLevel::Shift | ShiftLevel::ShiftThird);
        let third = |level| matches!(level, ShiftLevel::Third | ShiftLevel::ShiftThird);
        if shift(from) != shift(to)
            && let Some(code) = keycode_of(lantern_model::ModifierKey::LeftShift.key())
        {
            self.fake_key(code, shift(to))?;
        }
        if third(from) != third(to)
            && let Some(code) = self.keymap.level3
        {
            self.fake_key(code, third(to))?;
        }
        Ok(())
    }

    /// The keycode and level that give a character now.
    pub(super) fn spell(&self, character: char) -> Option<(u8, ShiftLevel)> {
        if let Some((key, level)) = self.keymap.layout.group().key_for(character) {
            return keycode_of(key).map(|code| (code, level));
        }
        self.lent.get(&character).copied()
    }
}

fn act_keys(act: &InputAction) -> &[Key] {
    match act {
        InputAction::Tap(keys) => keys,
        InputAction::Down(key) | InputAction::Up(key) => std::slice::from_ref(key),
        InputAction::Text(_) | InputAction::MoveBy(..) | InputAction::MoveTo(..) => &[],
    }
}

fn pixels(number: i32) -> i16 {
    i16::try_from(number).unwrap_or(if number < 0 { i16::MIN } else { i16::MAX })
}
