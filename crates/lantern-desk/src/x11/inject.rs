//! Putting input in: presses and releases through XTEST, the person's modifiers out of the way for
//! a step and put back after it, every press marked in the list of held keys before it is sent.

use std::collections::BTreeSet;

use lantern_model::{Act, InputStep, Key, Level};
use x11rb::CURRENT_TIME;
use x11rb::connection::Connection;
use x11rb::protocol::xkb::{ConnectionExt as _, Group, ID};
use x11rb::protocol::xproto::{self, ConnectionExt as _};
use x11rb::protocol::xtest::ConnectionExt as _;

use super::keymap::keycode_of;
use super::{X11Desk, fingers};
use crate::DeskError;

/// The core modifier mask of caps lock.
const LOCK: u16 = 2;
/// The keycode of the left control key, tapped where no spare keycode is free.
const LEFT_CTRL: u8 = 37;

impl X11Desk {
    /// Presses or lets go a keycode.
    pub(super) fn fake_key(&mut self, code: u8, down: bool) -> Result<(), DeskError> {
        if down {
            self.held.mark_key(code, true);
        } else {
            self.ups.push(code);
        }
        let kind = if down { xproto::KEY_PRESS_EVENT } else { xproto::KEY_RELEASE_EVENT };
        self.fake(kind, code)
    }

    fn fake_button(&mut self, button: u8, down: bool) -> Result<(), DeskError> {
        if down {
            self.held.mark_button(button, true);
        } else {
            self.button_ups.push(button);
        }
        let kind = if down { xproto::BUTTON_PRESS_EVENT } else { xproto::BUTTON_RELEASE_EVENT };
        self.fake(kind, button)
    }

    fn fake(&self, kind: u8, detail: u8) -> Result<(), DeskError> {
        self.link.conn.xtest_fake_input(kind, detail, CURRENT_TIME, x11rb::NONE, 0, 0, 0)?;
        Ok(())
    }

    /// Presses or lets go a key or button of the board.
    fn fake_board(&mut self, key: Key, down: bool) -> Result<(), DeskError> {
        if let Some(button) = key.button() {
            return self.fake_button(button, down);
        }
        match keycode_of(key) {
            Some(code) => self.fake_key(code, down),
            None => Ok(()),
        }
    }

    /// Sends what was put together; only then are releases taken from the list of held keys.
    pub(super) fn flush(&mut self) -> Result<(), DeskError> {
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
    pub(super) fn perform_step(&mut self, step: &InputStep) -> Result<(), DeskError> {
        let lifted = self.begin_step(step)?;
        for act in &step.acts {
            self.perform_act(act)?;
        }
        self.end_step(step, lifted)
    }

    /// Takes out of the way what must not be down; gives the person's modifiers among it.
    pub(super) fn begin_step(&mut self, step: &InputStep) -> Result<Vec<u8>, DeskError> {
        let codes = step.acts.iter().flat_map(act_keys).filter_map(keycode_of);
        let own: BTreeSet<u8> = codes.filter(|code| self.is_in_our_way(*code)).collect();
        for code in own {
            self.grabs.suspend(&self.link, code)?;
            self.suspended.push(code);
        }
        let mut lifted = Vec::new();
        if step.lift {
            let keep: Vec<u8> = step.keep.iter().filter_map(|key| keycode_of(*key)).collect();
            lifted = match self.pressed_under.take() {
                // The press that led here said which modifiers were down; both sides of each are
                // let go, since a release of a key that is up is nothing.
                Some(mask) => self.keymap.modifier_codes(mask).collect(),
                None => self.held_modifiers()?,
            };
            lifted.retain(|code| !keep.contains(code));
            self.lift(&lifted)?;
        }
        for key in &step.park {
            self.fake_board(*key, false)?;
        }
        Ok(lifted)
    }

    /// The modifiers that the person holds now.
    fn held_modifiers(&self) -> Result<Vec<u8>, DeskError> {
        let real = fingers::real_keycodes(&self.link)?;
        Ok(self.keymap.all_modifier_codes().filter(|code| real.contains(code)).collect())
    }

    fn lift(&mut self, codes: &[u8]) -> Result<(), DeskError> {
        for code in codes {
            if self.keymap.opens_menu(*code) {
                self.press_nothing()?;
            }
            self.fake_key(*code, false)?;
        }
        Ok(())
    }

    /// Taps a key that means nothing, so that a modifier was not pressed alone.
    fn press_nothing(&mut self) -> Result<(), DeskError> {
        let code = self.keymap.meaningless.unwrap_or(LEFT_CTRL);
        self.fake_key(code, true)?;
        self.fake_key(code, false)
    }

    /// Puts back what the step took away, as far as the person still holds it.
    pub(super) fn end_step(&mut self, step: &InputStep, lifted: Vec<u8>) -> Result<(), DeskError> {
        for key in &step.park {
            self.fake_board(*key, true)?;
        }
        self.resume_grabs(step)?;
        self.flush()?;
        self.put_back(lifted)?;
        self.bound_queue()
    }

    /// Whether injecting the keycode would start a grab of our own.
    fn is_in_our_way(&self, code: u8) -> bool {
        self.grabs.has_code(code) && !self.open.contains(&code)
    }

    /// Takes the grabs again that were let go for a step, but for keys that stay down: what the
    /// server repeats of them would come to us instead of the program.
    fn resume_grabs(&mut self, step: &InputStep) -> Result<(), DeskError> {
        let codes = |wanted: fn(&Act) -> Option<Key>| -> BTreeSet<u8> {
            step.acts.iter().filter_map(wanted).filter_map(keycode_of).collect()
        };
        let downs = codes(|act| match act {
            Act::Down(key) => Some(*key),
            _ => None,
        });
        let ups = codes(|act| match act {
            Act::Up(key) => Some(*key),
            _ => None,
        });
        for code in std::mem::take(&mut self.suspended) {
            if downs.contains(&code) {
                self.open.insert(code);
            } else {
                self.grabs.resume(&self.link, code)?;
            }
        }
        for code in ups {
            if self.open.remove(&code) {
                self.grabs.resume(&self.link, code)?;
            }
        }
        Ok(())
    }

    fn put_back(&mut self, lifted: Vec<u8>) -> Result<(), DeskError> {
        if lifted.is_empty() {
            return Ok(());
        }
        let real = fingers::real_keycodes(&self.link)?;
        let again: Vec<u8> = lifted.into_iter().filter(|code| real.contains(code)).collect();
        if again.is_empty() {
            return Ok(());
        }
        for code in &again {
            self.fake_key(*code, true)?;
            if self.keymap.opens_menu(*code) {
                self.press_nothing()?;
            }
        }
        self.flush()?;
        // A finger may have left between the look and the press.
        let real = fingers::real_keycodes(&self.link)?;
        for code in again {
            if real.contains(&code) {
                // From here on it is the person's own; their release lets it go.
                self.held.mark_key(code, false);
            } else {
                self.fake_key(code, false)?;
            }
        }
        self.flush()
    }

    /// Every few steps, waits until the server has caught up, so that what a fast loop sends never
    /// piles up in front of the key that stops it.
    fn bound_queue(&mut self) -> Result<(), DeskError> {
        const STEPS_AHEAD: u32 = 32;
        self.steps_ahead += 1;
        if self.steps_ahead >= STEPS_AHEAD {
            self.steps_ahead = 0;
            self.link.conn.get_input_focus()?.reply()?;
        }
        Ok(())
    }

    pub(super) fn perform_act(&mut self, act: &Act) -> Result<(), DeskError> {
        match act {
            Act::Tap(keys) => {
                for key in keys {
                    self.fake_board(*key, true)?;
                }
                for key in keys.iter().rev() {
                    self.fake_board(*key, false)?;
                }
            }
            Act::Down(key) => self.fake_board(*key, true)?,
            Act::Up(key) => self.fake_board(*key, false)?,
            Act::Text(text) => self.type_text(text)?,
            Act::MoveBy(x, y) => {
                let (x, y) = (pixels(*x), pixels(*y));
                self.link.conn.warp_pointer(x11rb::NONE, x11rb::NONE, 0, 0, 0, 0, x, y)?;
            }
            Act::MoveTo(x, y) => {
                let (x, y) = (pixels(*x), pixels(*y));
                let kind = xproto::MOTION_NOTIFY_EVENT;
                let root = self.link.root;
                self.link.conn.xtest_fake_input(kind, 0, CURRENT_TIME, root, x, y, 0)?;
            }
        }
        Ok(())
    }

    /// Types characters that the layout has, or that a spare keycode was lent to.
    pub(super) fn type_text(&mut self, text: &str) -> Result<(), DeskError> {
        let caps = self.locked & LOCK != 0;
        if caps {
            self.set_caps_lock(false)?;
        }
        let mut level = Level::Plain;
        for character in text.chars() {
            let Some((code, wanted)) = self.spell(character) else {
                continue;
            };
            self.change_level(level, wanted)?;
            level = wanted;
            let grabbed = self.is_in_our_way(code);
            if grabbed {
                self.grabs.suspend(&self.link, code)?;
            }
            self.fake_key(code, true)?;
            self.fake_key(code, false)?;
            if grabbed {
                self.grabs.resume(&self.link, code)?;
            }
        }
        self.change_level(level, Level::Plain)?;
        if caps {
            self.set_caps_lock(true)?;
        }
        Ok(())
    }

    fn set_caps_lock(&self, on: bool) -> Result<(), DeskError> {
        let mask = xproto::ModMask::LOCK;
        let locks = if on { mask } else { xproto::ModMask::from(0u16) };
        let none = xproto::ModMask::from(0u16);
        let keyboard = ID::USE_CORE_KBD.into();
        let conn = &self.link.conn;
        conn.xkb_latch_lock_state(keyboard, mask, locks, false, Group::M1, none, false, 0)?;
        Ok(())
    }

    /// Changes what is held from one level to another.
    fn change_level(&mut self, from: Level, to: Level) -> Result<(), DeskError> {
        let shift = |level| matches!(level, Level::Shift | Level::ShiftThird);
        let third = |level| matches!(level, Level::Third | Level::ShiftThird);
        if shift(from) != shift(to)
            && let Some(code) = keycode_of(lantern_model::Side::LeftShift.key())
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
    pub(super) fn spell(&self, character: char) -> Option<(u8, Level)> {
        let named = match character {
            '\n' | '\r' => Some("enter"),
            '\t' => Some("tab"),
            '\u{8}' => Some("backspace"),
            '\u{1b}' => Some("escape"),
            _ => None,
        };
        if let Some(key) = named.and_then(Key::named) {
            return keycode_of(key).map(|code| (code, Level::Plain));
        }
        if let Some((key, level)) = self.keymap.layout.group().spell(character) {
            return keycode_of(key).map(|code| (code, level));
        }
        self.lent.get(&character).map(|code| (*code, Level::Plain))
    }
}

fn act_keys(act: &Act) -> Vec<Key> {
    match act {
        Act::Tap(keys) => keys.clone(),
        Act::Down(key) | Act::Up(key) => vec![*key],
        Act::Text(_) | Act::MoveBy(..) | Act::MoveTo(..) => Vec::new(),
    }
}

fn pixels(number: i32) -> i16 {
    i16::try_from(number).unwrap_or(if number < 0 { i16::MIN } else { i16::MAX })
}
