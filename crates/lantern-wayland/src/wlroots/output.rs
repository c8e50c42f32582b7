//! The virtual keyboards and the virtual pointer that programs receive input from.

use std::collections::BTreeSet;
use std::fs::File;
use std::io::Write;
use std::os::fd::{AsFd, OwnedFd};

use lantern_backend::{BackendError, InputSink, KeyFilter};
use lantern_model::{CommandError, Key, Rect};
use rustix::event::{PollFd, PollFlags, poll};
use rustix::fs::{MemfdFlags, Timespec, memfd_create};
use rustix::time::{ClockId, clock_gettime};
use wayland_client::Connection;
use wayland_client::backend::WaylandError;
use wayland_client::protocol::wl_keyboard::KeymapFormat;
use wayland_client::protocol::wl_pointer::{Axis, AxisSource, ButtonState};
use wayland_protocols_misc::zwp_virtual_keyboard_v1::client::zwp_virtual_keyboard_v1::ZwpVirtualKeyboardV1;
use wayland_protocols_wlr::virtual_pointer::v1::client::zwlr_virtual_pointer_v1::ZwlrVirtualPointerV1;

use super::typing_keymap::typing_keymaps;

/// Kernel codes from here on are buttons of a pointer.
const FIRST_BUTTON: u16 = 0x110;
/// One turn of a wheel, in the unit of `wl_pointer.axis`.
const TURN: f64 = 15.0;
/// A key that no program reacts to: `KEY_UNKNOWN`.
const MEANINGLESS: u16 = 240;
/// Maximum time for which a compositor may leave its socket full.
const FULL_SOCKET: Timespec = Timespec { tv_sec: 1, tv_nsec: 0 };
/// Characters that are sent before the socket is emptied.
const CHARACTERS_AT_ONCE: usize = 64;

/// Modifiers as the compositor has them, beside the keys that are down.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct LockedModifiers {
    pub(super) latched: u32,
    pub(super) locked: u32,
    pub(super) group: u32,
}

/// What programs receive input from.
#[derive(Debug)]
pub(super) struct VirtualDevices {
    connection: Connection,
    /// Has the keymap of the session: keys of the person and of rules.
    keys: ZwpVirtualKeyboardV1,
    /// Has a keymap for each text.
    typing: ZwpVirtualKeyboardV1,
    pointer: Option<ZwlrVirtualPointerV1>,
    keymap: Vec<u8>,
    alt_gr_is_level3: bool,
    locks: LockedModifiers,
    /// Keys that programs see as down.
    down: BTreeSet<u16>,
    /// The mask of modifiers that was sent last.
    mask: u32,
    screens: Vec<Rect>,
}

impl VirtualDevices {
    pub(super) fn new(
        connection: Connection,
        keys: ZwpVirtualKeyboardV1,
        typing: ZwpVirtualKeyboardV1,
        pointer: Option<ZwlrVirtualPointerV1>,
    ) -> VirtualDevices {
        VirtualDevices {
            connection,
            keys,
            typing,
            pointer,
            keymap: Vec::new(),
            alt_gr_is_level3: false,
            locks: LockedModifiers::default(),
            down: BTreeSet::new(),
            mask: 0,
            screens: Vec::new(),
        }
    }

    /// Gives the keyboard of keys the session's keymap. The same one is not sent again: the compositor would
    /// report it as a change.
    ///
    /// # Errors
    /// When the system is out of descriptors.
    pub(super) fn set_keymap(
        &mut self,
        text: &[u8],
        alt_gr_is_level3: bool,
    ) -> Result<(), BackendError> {
        if self.keymap != text {
            send_keymap(&self.keys, text)?;
            self.keymap = text.to_vec();
        }
        self.alt_gr_is_level3 = alt_gr_is_level3;
        Ok(())
    }

    pub(super) fn set_screens(&mut self, screens: Vec<Rect>) {
        self.screens = screens;
    }

    /// Takes locked modifiers and the group of the layout from the person's keyboard.
    pub(super) fn set_locks(&mut self, locks: LockedModifiers) {
        if locks != self.locks {
            self.locks = locks;
            self.send_modifiers();
        }
    }

    fn send_modifiers(&mut self) {
        let level3 = if self.alt_gr_is_level3 { MOD5 } else { MOD1 };
        self.mask = self.down.iter().fold(0, |mask, code| mask | modifier_mask(*code, level3));
        let LockedModifiers { latched, locked, group } = self.locks;
        self.keys.modifiers(self.mask, latched, locked, group);
    }

    /// Sends what waits. A compositor that takes nothing for a second counts as gone.
    fn send(&self) -> Result<(), BackendError> {
        loop {
            match self.connection.flush() {
                Ok(()) => return Ok(()),
                Err(WaylandError::Io(error)) if error.kind() == std::io::ErrorKind::WouldBlock => {
                    let backend = self.connection.backend();
                    let mut fds = [PollFd::from_borrowed_fd(backend.poll_fd(), PollFlags::OUT)];
                    let ready = poll(&mut fds, Some(&FULL_SOCKET));
                    if !ready.is_ok_and(|count| count > 0) {
                        return Err(BackendError::Lost("the compositor takes no input".into()));
                    }
                }
                Err(error) => return Err(BackendError::Lost(error.into())),
            }
        }
    }
}

/// Masks of the real modifiers of XKB.
const SHIFT: u32 = 1;
/// Caps lock.
pub(super) const LOCK: u32 = 1 << 1;
const CONTROL: u32 = 1 << 2;
const MOD1: u32 = 1 << 3;
const MOD4: u32 = 1 << 6;
const MOD5: u32 = 1 << 7;

/// The modifier that a key is, by its kernel code.
fn modifier_mask(code: u16, level3: u32) -> u32 {
    match code {
        42 | 54 => SHIFT,
        29 | 97 => CONTROL,
        56 => MOD1,
        100 => level3,
        125 | 126 => MOD4,
        _ => 0,
    }
}

/// The time of input events: milliseconds of the monotonic clock, which wraps.
fn now() -> u32 {
    let time = clock_gettime(ClockId::Monotonic);
    (time.tv_sec as u64 * 1000 + time.tv_nsec as u64 / 1_000_000) as u32
}

fn send_keymap(keyboard: &ZwpVirtualKeyboardV1, text: &[u8]) -> Result<(), BackendError> {
    let failed = |error: std::io::Error| BackendError::Lost(error.into());
    let memory =
        memfd_create("keymap", MemfdFlags::CLOEXEC).map_err(|error| failed(error.into()))?;
    let mut file = File::from(memory);
    // Compositors read it as a C string.
    file.write_all(text).and_then(|()| file.write_all(&[0])).map_err(failed)?;
    let memory = OwnedFd::from(file);
    keyboard.keymap(KeymapFormat::XkbV1 as u32, memory.as_fd(), text.len() as u32 + 1);
    Ok(())
}

impl InputSink for VirtualDevices {
    fn key(&mut self, code: u16, value: i32) {
        // Programs repeat keys themselves.
        if value > 1 {
            return;
        }
        if code >= FIRST_BUTTON {
            let Some(pointer) = &self.pointer else { return };
            let state = if value == 1 { ButtonState::Pressed } else { ButtonState::Released };
            pointer.button(now(), code.into(), state);
            pointer.frame();
            return;
        }
        self.keys.key(now(), code.into(), value as u32);
        let has_changed = if value == 1 { self.down.insert(code) } else { self.down.remove(&code) };
        if has_changed && modifier_mask(code, MOD5) != 0 {
            self.send_modifiers();
        }
    }

    fn turn(&mut self, wheel: Key) {
        let Some(pointer) = &self.pointer else { return };
        let (axis, by) = match wheel.name() {
            "wheel-up" => (Axis::VerticalScroll, -1),
            "wheel-down" => (Axis::VerticalScroll, 1),
            "wheel-left" => (Axis::HorizontalScroll, -1),
            _ => (Axis::HorizontalScroll, 1),
        };
        pointer.axis_source(AxisSource::Wheel);
        pointer.axis_discrete(now(), axis, TURN * f64::from(by), by);
        pointer.frame();
    }

    fn move_by(&mut self, x: i32, y: i32) {
        let Some(pointer) = &self.pointer else { return };
        pointer.motion(now(), x.into(), y.into());
        pointer.frame();
    }

    fn move_to(&mut self, x: i32, y: i32) {
        let Some(pointer) = &self.pointer else { return };
        let left = self.screens.iter().map(|screen| screen.x).min().unwrap_or(0);
        let top = self.screens.iter().map(|screen| screen.y).min().unwrap_or(0);
        let right = self.screens.iter().map(|screen| screen.x + screen.width).max();
        let bottom = self.screens.iter().map(|screen| screen.y + screen.height).max();
        let (Some(right), Some(bottom)) = (right, bottom) else { return };
        let within =
            |at: i32, from: i32, to: i32| (at.clamp(from, (to - 1).max(from)) - from) as u32;
        let size = |from: i32, to: i32| (to - from).max(1) as u32;
        pointer.motion_absolute(
            now(),
            within(x, left, right),
            within(y, top, bottom),
            size(left, right),
            size(top, bottom),
        );
        pointer.frame();
    }

    fn check_move_to(&self) -> Result<(), CommandError> {
        if self.pointer.is_none() {
            return Err(CommandError::unsupported(
                "this compositor lets no other move the pointer",
            ));
        }
        if self.screens.is_empty() {
            return Err(CommandError::unavailable("the compositor has no screen"));
        }
        Ok(())
    }

    fn flush(&mut self) -> Result<(), BackendError> {
        self.send()
    }

    fn tap_meaningless(&mut self) {
        self.key(MEANINGLESS, 1);
        self.key(MEANINGLESS, 0);
    }

    /// Every character can be typed.
    fn check_text(&self, _: &KeyFilter, _: &str) -> Result<(), CommandError> {
        Ok(())
    }

    /// By a keyboard of its own: modifiers that the person holds are none of its.
    fn type_text(&mut self, _: &KeyFilter, text: &str) -> Result<(), BackendError> {
        for part in typing_keymaps(text) {
            send_keymap(&self.typing, part.text.as_bytes())?;
            self.typing.modifiers(0, 0, 0, 0);
            for (count, code) in part.codes.into_iter().enumerate() {
                self.typing.key(now(), code, 1);
                self.typing.key(now(), code, 0);
                if count % CHARACTERS_AT_ONCE == CHARACTERS_AT_ONCE - 1 {
                    self.send()?;
                }
            }
        }
        // The next key of the other keyboard brings its keymap and modifiers back.
        self.send()
    }
}
