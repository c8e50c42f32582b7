//! Decodes presses and releases in our grabs straight from the server's message. These are the only
//! events for which the server waits for our answer. The library's decoder is the same for all
//! events and allocates memory three times for each.

use x11rb::protocol::xinput::{self, KeyEventFlags};
use x11rb::protocol::xproto::GE_GENERIC_EVENT;

/// What is read of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct DeviceEvent {
    pub what: What,
    /// The server's time, in milliseconds.
    pub time: u32,
    /// The keycode or button.
    pub detail: u8,
    /// The device.
    pub source: u16,
    /// Where the pointer is on the screen, in 65,536ths of a pixel.
    pub place: (i32, i32),
    /// Base, locked and effective modifiers.
    pub base: u16,
    pub locked: u16,
    pub effective: u16,
}

/// What happened.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum What {
    KeyPress,
    /// The server repeats a key that is held.
    KeyRepeat,
    ButtonPress,
    ButtonRelease,
}

impl DeviceEvent {
    /// Reads a message of the extension that has this number; nothing if it is another one.
    pub(super) fn read(message: &[u8], xinput: u8) -> Option<DeviceEvent> {
        if message.first_chunk() != Some(&[GE_GENERIC_EVENT, xinput]) {
            return None;
        }
        let two = |at: usize| Some(u16::from_ne_bytes(*message.get(at..)?.first_chunk()?));
        let four = |at: usize| Some(u32::from_ne_bytes(*message.get(at..)?.first_chunk()?));
        // The places are those of the protocol, XInput 2.2, "DeviceEvent".
        let repeats = four(56)? & u32::from(KeyEventFlags::KEY_REPEAT) != 0;
        let what = match two(8)? {
            xinput::KEY_PRESS_EVENT if repeats => What::KeyRepeat,
            xinput::KEY_PRESS_EVENT => What::KeyPress,
            xinput::BUTTON_PRESS_EVENT => What::ButtonPress,
            xinput::BUTTON_RELEASE_EVENT => What::ButtonRelease,
            _ => return None,
        };
        let modifiers = |at| four(at).map(|mask| (mask & 0xff) as u16);
        Some(DeviceEvent {
            what,
            time: four(12)?,
            detail: four(16)? as u8,
            source: two(52)?,
            place: (four(32)? as i32, four(36)? as i32),
            base: modifiers(60)?,
            locked: modifiers(68)?,
            effective: modifiers(72)?,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const XINPUT: u8 = 131;

    /// A message in which every byte is another one, but for what it begins with.
    fn message(kind: u16) -> Vec<u8> {
        let mut bytes: Vec<u8> = (0..80).map(|at| at + 100).collect();
        bytes[..2].copy_from_slice(&[GE_GENERIC_EVENT, XINPUT]);
        // This many buttons, numbers and flags follow.
        for at in [4..8, 48..52, 56..60] {
            bytes[at].fill(0);
        }
        bytes[4] = 12;
        bytes[8..10].copy_from_slice(&kind.to_ne_bytes());
        bytes
    }

    #[test]
    fn what_is_read_is_what_the_library_reads() {
        use x11rb::x11_utils::TryParse;
        let bytes = message(xinput::BUTTON_PRESS_EVENT);
        let read = DeviceEvent::read(&bytes, XINPUT).expect("it is one");
        let (theirs, _) = xinput::ButtonPressEvent::try_parse(&bytes).expect("it is whole");
        let low = |mask: u32| (mask & 0xff) as u16;
        let expected = DeviceEvent {
            what: What::ButtonPress,
            time: theirs.time,
            detail: theirs.detail as u8,
            source: theirs.sourceid,
            place: (theirs.root_x, theirs.root_y),
            base: low(theirs.mods.base),
            locked: low(theirs.mods.locked),
            effective: low(theirs.mods.effective),
        };
        assert_eq!(read, expected);
    }

    #[test]
    fn repeats_are_told_and_other_messages_left_to_the_library() {
        let what = |bytes: &[u8]| DeviceEvent::read(bytes, XINPUT).map(|event| event.what);
        let mut press = message(xinput::KEY_PRESS_EVENT);
        assert_eq!(what(&press), Some(What::KeyPress));
        press[56..60].copy_from_slice(&u32::from(KeyEventFlags::KEY_REPEAT).to_ne_bytes());
        assert_eq!(what(&press), Some(What::KeyRepeat));
        assert_eq!(what(&message(xinput::BUTTON_RELEASE_EVENT)), Some(What::ButtonRelease));
        assert_eq!(what(&message(xinput::RAW_MOTION_EVENT)), None);
        assert_eq!(DeviceEvent::read(&message(xinput::KEY_PRESS_EVENT), XINPUT + 1), None);
        assert_eq!(what(&message(xinput::KEY_PRESS_EVENT)[..75]), None, "it is cut short");
        assert_eq!(what(&[2; 32]), None);
    }
}
