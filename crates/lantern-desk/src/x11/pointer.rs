//! Buttons and screens: which button of the server is which of ours, under the order of buttons the
//! person has set, and where the screens are.

use lantern_model::{Frame, Key, KeyKind};
use x11rb::protocol::randr::ConnectionExt as _;
use x11rb::protocol::xproto::ConnectionExt as _;

use super::connection::{Devices, Link};
use crate::DeskError;

/// The server's number of a button, wheel direction or pen part.
pub(super) fn button_of(key: Key) -> Option<u8> {
    if key.kind() != KeyKind::Pen {
        return key.button();
    }
    match key.name() {
        "pen-tip" | "pen-eraser" => Some(1),
        "pen-barrel" => Some(2),
        "pen-barrel-2" => Some(3),
        _ => None,
    }
}

/// What a button of the server is on that device.
pub(super) fn key_of_button(devices: &Devices, source: u16, button: u8) -> Option<Key> {
    let pen = match button {
        1 if devices.erasers.contains(&source) => "pen-eraser",
        1 if devices.pens.contains(&source) => "pen-tip",
        2 if devices.pens.contains(&source) => "pen-barrel",
        3 if devices.pens.contains(&source) => "pen-barrel-2",
        _ => return Key::from_button(button),
    };
    Key::named(pen)
}

/// Whether a key acts at the pointer.
pub(super) fn is_pointed(key: Key) -> bool {
    matches!(key.kind(), KeyKind::Mouse | KeyKind::Wheel | KeyKind::Pen)
}

/// The order of buttons that the person has set: for a left hand, the right one comes first.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct ButtonOrder(Vec<u8>);

impl ButtonOrder {
    pub(super) fn read(link: &Link) -> Result<ButtonOrder, DeskError> {
        Ok(ButtonOrder(link.conn.get_pointer_mapping()?.reply()?.map))
    }

    /// The button that a button of the device counts as.
    pub(super) fn meaning(&self, physical: u8) -> u8 {
        let index = usize::from(physical).checked_sub(1);
        index.and_then(|index| self.0.get(index)).copied().unwrap_or(physical)
    }

    /// The button of the device that counts as this one; itself if none does.
    pub(super) fn physical(&self, meaning: u8) -> u8 {
        let found = self.0.iter().position(|known| *known == meaning);
        found.and_then(|index| u8::try_from(index + 1).ok()).unwrap_or(meaning)
    }
}

/// The screens, the first one first; the whole display if the server does not tell them apart.
pub(super) fn screens(link: &Link) -> Result<Vec<Frame>, DeskError> {
    let mut monitors = match link.conn.randr_get_monitors(link.root, true)?.reply() {
        Ok(reply) => reply.monitors,
        Err(_) => Vec::new(),
    };
    monitors.sort_by_key(|monitor| !monitor.primary);
    let frame = |monitor: &x11rb::protocol::randr::MonitorInfo| Frame {
        x: monitor.x.into(),
        y: monitor.y.into(),
        width: monitor.width.into(),
        height: monitor.height.into(),
    };
    let frames: Vec<Frame> = monitors.iter().map(frame).collect();
    if frames.is_empty() { Ok(vec![link.whole_screen()?]) } else { Ok(frames) }
}

/// Where the pointer is.
pub(super) fn place(link: &Link) -> Result<(i32, i32), DeskError> {
    let reply = link.conn.query_pointer(link.root)?.reply()?;
    Ok((reply.root_x.into(), reply.root_y.into()))
}

/// The screen that a place is on, if any.
pub(super) fn screen_at(link: &Link, place: (i32, i32)) -> Result<Option<Frame>, DeskError> {
    Ok(screens(link)?.into_iter().find(|screen| screen.holds(place)))
}

/// The screen the pointer is on.
pub(super) fn screen_at_pointer(link: &Link) -> Result<Frame, DeskError> {
    match screen_at(link, place(link)?)? {
        Some(screen) => Ok(screen),
        None => link.whole_screen(),
    }
}
