//! What is really under the person's fingers: the state of the real devices, and the raw events
//! that tell of presses and releases which no program sees.

use std::collections::BTreeSet;

use lantern_model::Key;
use x11rb::protocol::xinput::{ConnectionExt as _, EventMask, InputStateData, XIEventMask};

use super::connection::Link;
use super::keymap::key_of;
use crate::DeskError;

/// Every master device, for which raw events come once.
const ALL_MASTERS: u16 = 1;

/// Keycodes that are down on the real keyboards.
pub(super) fn real_keycodes(link: &Link) -> Result<BTreeSet<u8>, DeskError> {
    let mut down = BTreeSet::new();
    for state in query(link, &link.devices.keyboards)? {
        if let InputStateData::Key(keys) = state {
            down.extend((0..=u8::MAX).filter(|code| bit(&keys.keys, *code)));
        }
    }
    Ok(down)
}

/// Keys and buttons that are down on the real devices.
pub(super) fn real_keys(link: &Link) -> Result<BTreeSet<Key>, DeskError> {
    let mut down: BTreeSet<Key> = real_keycodes(link)?.into_iter().filter_map(key_of).collect();
    for state in query(link, &link.devices.pointers)? {
        if let InputStateData::Button(buttons) = state {
            let pressed = (1..=u8::MAX).filter(|button| bit(&buttons.buttons, *button));
            down.extend(pressed.filter_map(Key::from_button));
        }
    }
    Ok(down)
}

fn query(link: &Link, devices: &[u8]) -> Result<Vec<InputStateData>, DeskError> {
    let mut cookies = Vec::with_capacity(devices.len());
    for device in devices {
        cookies.push(link.conn.xinput_query_device_state(*device)?);
    }
    let mut states = Vec::new();
    for cookie in cookies {
        // A device that was unplugged just now is no fault.
        if let Ok(reply) = cookie.reply() {
            states.extend(reply.classes.into_iter().map(|class| class.data));
        }
    }
    Ok(states)
}

fn bit(bytes: &[u8], number: u8) -> bool {
    bytes[usize::from(number) / 8] & (1 << (number % 8)) != 0
}

/// Asks for raw events: of every key and button, or of key releases only, or of none.
pub(super) fn select_raw(link: &Link, all: bool, releases: bool) -> Result<(), DeskError> {
    let mut mask = XIEventMask::from(0u32);
    if all {
        mask = XIEventMask::RAW_KEY_PRESS
            | XIEventMask::RAW_KEY_RELEASE
            | XIEventMask::RAW_BUTTON_PRESS
            | XIEventMask::RAW_BUTTON_RELEASE;
    } else if releases {
        mask = XIEventMask::RAW_KEY_RELEASE;
    }
    let masks = [EventMask { deviceid: ALL_MASTERS, mask: vec![mask] }];
    link.conn.xinput_xi_select_events(link.root, &masks)?;
    Ok(())
}
