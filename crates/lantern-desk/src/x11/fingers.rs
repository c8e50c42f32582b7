//! What is really under the person's fingers: the state of the real devices, and the raw events
//! that tell of presses and releases which no program sees.

use std::collections::BTreeSet;

use lantern_model::Key;
use x11rb::connection::SequenceNumber;
use x11rb::protocol::xinput::{ConnectionExt as _, EventMask, InputStateData, XIEventMask};

use super::connection::Link;
use super::keymap::key_of;
use super::pointer::{ButtonOrder, key_of_button};
use crate::DeskError;

/// Every master device, for which raw events come once.
const ALL_MASTERS: u16 = 1;

/// Raw events that are asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct Raw {
    /// Of every key and button.
    pub all: bool,
    /// Of every key.
    pub keys: bool,
    /// Of releases.
    pub releases: bool,
    /// Of the pointer's movements.
    pub motion: bool,
}

/// Keycodes that are down on the real keyboards.
pub(super) fn real_keycodes(link: &Link) -> Result<BTreeSet<u8>, DeskError> {
    let mut down = BTreeSet::new();
    for (_, state) in query(link, &link.devices.keyboards)? {
        if let InputStateData::Key(keys) = state {
            down.extend((0..=u8::MAX).filter(|code| bit(&keys.keys, *code)));
        }
    }
    Ok(down)
}

/// Keys and buttons that are down on the real devices.
pub(super) fn real_keys(link: &Link, order: &ButtonOrder) -> Result<BTreeSet<Key>, DeskError> {
    let mut down: BTreeSet<Key> = real_keycodes(link)?.into_iter().filter_map(key_of).collect();
    for (device, state) in query(link, &link.devices.pointers)? {
        if let InputStateData::Button(buttons) = state {
            let pressed = (1..=u8::MAX).filter(|button| bit(&buttons.buttons, *button));
            let key = |button| key_of_button(&link.devices, device.into(), order.meaning(button));
            down.extend(pressed.filter_map(key));
        }
    }
    Ok(down)
}

fn query(link: &Link, devices: &[u8]) -> Result<Vec<(u8, InputStateData)>, DeskError> {
    let mut cookies = Vec::with_capacity(devices.len());
    for device in devices {
        cookies.push((*device, link.conn.xinput_query_device_state(*device)?));
    }
    let mut states = Vec::new();
    for (device, cookie) in cookies {
        // A device that was unplugged just now is no fault.
        if let Ok(reply) = cookie.reply() {
            states.extend(reply.classes.into_iter().map(|class| (device, class.data)));
        }
    }
    Ok(states)
}

fn bit(bytes: &[u8], number: u8) -> bool {
    bytes[usize::from(number) / 8] & (1 << (number % 8)) != 0
}

impl Raw {
    /// As the server calls them.
    pub(super) fn events(self) -> XIEventMask {
        let Raw { all, keys, releases, motion } = self;
        let sorts = [
            (all || keys, XIEventMask::RAW_KEY_PRESS),
            (all, XIEventMask::RAW_BUTTON_PRESS),
            (all || keys || releases, XIEventMask::RAW_KEY_RELEASE),
            (all || releases, XIEventMask::RAW_BUTTON_RELEASE),
            (motion, XIEventMask::RAW_MOTION),
        ];
        let wanted = sorts.into_iter().filter(|(wanted, _)| *wanted).map(|(_, sort)| sort);
        wanted.fold(XIEventMask::from(0u32), |mask, sort| mask | sort)
    }
}

/// Asks for raw events; gives the number of the request.
pub(super) fn select_raw(link: &Link, raw: Raw) -> Result<SequenceNumber, DeskError> {
    let masks = [EventMask { deviceid: ALL_MASTERS, mask: vec![raw.events()] }];
    Ok(link.conn.xinput_xi_select_events(link.root, &masks)?.sequence_number())
}
