//! Sends input by XTEST: presses, releases and movements. Every press is marked in the list of held keys
//! before it is sent, so that the guardian can release it.

use lantern_model::{Key, ModifierKey, ShiftLevel};
use x11rb::CURRENT_TIME;
use x11rb::connection::Connection;
use x11rb::protocol::xproto::{self, ConnectionExt as _};
use x11rb::protocol::xtest::ConnectionExt as _;

use super::connection::XConnection;
use super::guard::release_marked;
use super::keymap::{Keymap, keycode_of};
use super::pointer::{ButtonMaps, button_of};
use lantern_backend::{BackendError, HeldKeyWriter};

/// The keycode of the left control key, tapped where no spare keycode is free.
const LEFT_CTRL: u8 = 37;
/// Maximum number of batches that are sent without waiting for the server.
const BATCHES_AHEAD: u32 = 32;

/// Whether a key goes down or up.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Motion {
    Down,
    Up,
}

/// The list of held keys, and what was sent last.
#[derive(Debug)]
pub(super) struct Injector {
    held: HeldKeyWriter,
    buttons: ButtonMaps,
    /// Keycodes and buttons whose releases are queued but not sent.
    released_codes: Vec<u8>,
    released_buttons: Vec<u8>,
    batches_ahead: u32,
}

impl Injector {
    /// Releases what the list marks from a run that died, and begins with an empty list.
    pub(super) fn new(
        link: &XConnection,
        mut held: HeldKeyWriter,
    ) -> Result<Injector, BackendError> {
        release_marked(link, held.marks())?;
        held.clear();
        Ok(Injector {
            held,
            buttons: ButtonMaps::read(link)?,
            released_codes: Vec::new(),
            released_buttons: Vec::new(),
            batches_ahead: 0,
        })
    }

    /// The button maps of the pointers.
    pub(super) fn buttons(&self) -> &ButtonMaps {
        &self.buttons
    }

    /// Reads the button maps anew.
    pub(super) fn update_buttons(&mut self, link: &XConnection) -> Result<(), BackendError> {
        self.buttons = ButtonMaps::read(link)?;
        Ok(())
    }

    /// Whether any key is down by our doing.
    pub(super) fn holds_keys(&self) -> bool {
        self.held.has_keys()
    }

    /// Marks whether a keycode stands for a character that the layout lacks.
    pub(super) fn mark_lent(&mut self, code: u8, is_lent: bool) {
        self.held.mark_lent(code, is_lent);
    }

    /// Sends a press or release of a keycode.
    pub(super) fn send_code(
        &mut self,
        link: &XConnection,
        code: u8,
        motion: Motion,
    ) -> Result<(), BackendError> {
        match motion {
            Motion::Down => {
                self.held.mark_key(code, true);
                // It was released for a batch only, and is down again before that was sent.
                self.released_codes.retain(|released| *released != code);
                Ok(link.fake(xproto::KEY_PRESS_EVENT, code)?)
            }
            Motion::Up => {
                self.released_codes.push(code);
                Ok(link.fake(xproto::KEY_RELEASE_EVENT, code)?)
            }
        }
    }

    /// Sends a press or release of a keycode's tap.
    pub(super) fn tap_code(&mut self, link: &XConnection, code: u8) -> Result<(), BackendError> {
        self.send_code(link, code, Motion::Down)?;
        self.send_code(link, code, Motion::Up)
    }

    fn send_button(
        &mut self,
        link: &XConnection,
        meaning: u8,
        motion: Motion,
    ) -> Result<(), BackendError> {
        let button = self.buttons.physical(meaning);
        match motion {
            Motion::Down => {
                self.held.mark_button(button, true);
                self.released_buttons.retain(|released| *released != button);
                Ok(link.fake(xproto::BUTTON_PRESS_EVENT, button)?)
            }
            Motion::Up => {
                self.released_buttons.push(button);
                Ok(link.fake(xproto::BUTTON_RELEASE_EVENT, button)?)
            }
        }
    }

    /// Sends a press or release of a key or button.
    pub(super) fn send_key(
        &mut self,
        link: &XConnection,
        key: Key,
        motion: Motion,
    ) -> Result<(), BackendError> {
        if let Some(button) = button_of(key) {
            return self.send_button(link, button, motion);
        }
        match keycode_of(key) {
            Some(code) => self.send_code(link, code, motion),
            None => Ok(()),
        }
    }

    /// Releases modifiers that the person holds.
    pub(super) fn release_modifiers(
        &mut self,
        link: &XConnection,
        keymap: &Keymap,
        codes: &[u8],
    ) -> Result<(), BackendError> {
        for code in codes {
            if keymap.opens_menu(*code) {
                self.tap_meaningless(link, keymap)?;
            }
            self.send_code(link, *code, Motion::Up)?;
        }
        Ok(())
    }

    /// Presses modifiers again that the person still holds.
    pub(super) fn press_modifiers(
        &mut self,
        link: &XConnection,
        keymap: &Keymap,
        codes: &[u8],
    ) -> Result<(), BackendError> {
        for code in codes {
            self.send_code(link, *code, Motion::Down)?;
            if keymap.opens_menu(*code) {
                self.tap_meaningless(link, keymap)?;
            }
        }
        Ok(())
    }

    /// Taps a key that means nothing, so that a modifier was not pressed alone.
    fn tap_meaningless(&mut self, link: &XConnection, keymap: &Keymap) -> Result<(), BackendError> {
        self.tap_code(link, keymap.meaningless.unwrap_or(LEFT_CTRL))
    }

    /// Changes what is held from one shift level to another.
    pub(super) fn change_level(
        &mut self,
        link: &XConnection,
        keymap: &Keymap,
        from: ShiftLevel,
        to: ShiftLevel,
    ) -> Result<(), BackendError> {
        let shift = |level| matches!(level, ShiftLevel::Shift | ShiftLevel::ShiftThird);
        let third = |level| matches!(level, ShiftLevel::Third | ShiftLevel::ShiftThird);
        let motion = |is_down: bool| if is_down { Motion::Down } else { Motion::Up };
        if shift(from) != shift(to)
            && let Some(code) = keycode_of(ModifierKey::LeftShift.key())
        {
            self.send_code(link, code, motion(shift(to)))?;
        }
        if third(from) != third(to)
            && let Some(code) = keymap.level3
        {
            self.send_code(link, code, motion(third(to)))?;
        }
        Ok(())
    }

    /// Sends what was queued; only then are releases taken from the list of held keys.
    pub(super) fn flush(&mut self, link: &XConnection) -> Result<(), BackendError> {
        link.conn.flush()?;
        for code in self.released_codes.drain(..) {
            self.held.mark_key(code, false);
        }
        for button in self.released_buttons.drain(..) {
            self.held.mark_button(button, false);
        }
        Ok(())
    }

    /// Waits until the server has processed all requests, after a text and after every 32 other batches.
    ///
    /// The server serves its clients in any order, so a key that the person presses now could fall into a
    /// text. The batches of a fast loop must not queue up before the key that stops the loop.
    pub(super) fn bound_queue(
        &mut self,
        link: &XConnection,
        writes_text: bool,
    ) -> Result<(), BackendError> {
        self.batches_ahead += 1;
        if writes_text || self.batches_ahead >= BATCHES_AHEAD {
            self.batches_ahead = 0;
            link.conn.get_input_focus()?.reply()?;
        }
        Ok(())
    }

    /// Releases everything that the list marks, while the display accepts it.
    pub(super) fn release_everything(&mut self, link: &XConnection) {
        if release_marked(link, self.held.marks()).is_ok() {
            self.held.clear();
        }
    }
}

/// Moves the pointer to a place.
pub(super) fn move_to(link: &XConnection, (x, y): (i32, i32)) -> Result<(), BackendError> {
    let kind = xproto::MOTION_NOTIFY_EVENT;
    let (root, x, y) = (link.root, pixels(x), pixels(y));
    link.conn.xtest_fake_input(kind, 0, CURRENT_TIME, root, x, y, 0)?;
    Ok(())
}

/// Moves the pointer along a path, from its second place on.
pub(super) fn move_along(link: &XConnection, path: &[(i32, i32)]) -> Result<(), BackendError> {
    path.iter().skip(1).try_for_each(|place| move_to(link, *place))
}

/// Moves the pointer by a distance.
pub(super) fn move_by(link: &XConnection, x: i32, y: i32) -> Result<(), BackendError> {
    let (x, y) = (pixels(x), pixels(y));
    link.conn.warp_pointer(x11rb::NONE, x11rb::NONE, 0, 0, 0, 0, x, y)?;
    Ok(())
}

fn pixels(number: i32) -> i16 {
    i16::try_from(number).unwrap_or(if number < 0 { i16::MIN } else { i16::MAX })
}
