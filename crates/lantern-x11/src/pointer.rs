//! Buttons and screens: which button of the server is which of ours, under the order of buttons the
//! person has set, and where the screens are.

use std::collections::BTreeMap;

use lantern_model::{Key, KeyKind, Rect};
use x11rb::protocol::randr::ConnectionExt as _;
use x11rb::protocol::xinput::ConnectionExt as _;
use x11rb::protocol::xproto::ConnectionExt as _;

use super::connection::{DeviceIds, XConnection};
use lantern_backend::BackendError;

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
pub(super) fn key_of_button(devices: &DeviceIds, source: u16, button: u8) -> Option<Key> {
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

/// What each button of one device counts as: for a left hand, the right one comes first.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
struct ButtonMap(Vec<u8>);

impl ButtonMap {
    fn of_device(link: &XConnection, device: u8) -> Option<ButtonMap> {
        // A device without buttons, or one that was unplugged just now, has none.
        let reply = link.conn.xinput_get_device_button_mapping(device).ok()?.reply().ok()?;
        Some(ButtonMap(reply.map))
    }

    fn meaning(&self, physical: u8) -> u8 {
        let index = usize::from(physical).checked_sub(1);
        index.and_then(|index| self.0.get(index)).copied().unwrap_or(physical)
    }
}

/// The button maps of all pointers. The server puts a button through the map of its device and then
/// through that of the master pointer, but not in raw events nor in the state of a device.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct ButtonMaps {
    by_device: BTreeMap<u16, ButtonMap>,
    master: ButtonMap,
    /// That of XTEST's pointer, through which input is injected.
    injected: ButtonMap,
}

impl ButtonMaps {
    /// Reads the maps, and asks to be told when one of them changes.
    pub(super) fn read(link: &XConnection) -> Result<ButtonMaps, BackendError> {
        let changes: Vec<u32> = link
            .devices
            .pointers
            .iter()
            .map(|device| u32::from(*device) << 8 | u32::from(link.device_mapping_notify))
            .collect();
        link.conn.xinput_select_extension_event(link.root, &changes)?;
        let map = |device: u16| ButtonMap::of_device(link, u8::try_from(device).ok()?);
        let pointers = link.devices.pointers.iter().map(|device| u16::from(*device));
        Ok(ButtonMaps {
            by_device: pointers.filter_map(|device| Some((device, map(device)?))).collect(),
            master: ButtonMap(link.conn.get_pointer_mapping()?.reply()?.map),
            injected: link.devices.injected.iter().find_map(|id| map(*id)).unwrap_or_default(),
        })
    }

    /// The button that a button of a device counts as.
    pub(super) fn meaning(&self, device: u16, physical: u8) -> u8 {
        let own = self.by_device.get(&device).unwrap_or(&self.injected);
        self.master.meaning(own.meaning(physical))
    }

    /// The button to inject for one that counts as this; itself if none does.
    pub(super) fn physical(&self, meaning: u8) -> u8 {
        let counts =
            |physical: &u8| self.master.meaning(self.injected.meaning(*physical)) == meaning;
        (1..=u8::MAX).find(counts).unwrap_or(meaning)
    }
}

/// The screens, the first one first; the whole display if the server does not tell them apart.
pub(super) fn screens(link: &XConnection) -> Result<Vec<Rect>, BackendError> {
    let mut monitors = match link.conn.randr_get_monitors(link.root, true)?.reply() {
        Ok(reply) => reply.monitors,
        Err(_) => Vec::new(),
    };
    monitors.sort_by_key(|monitor| !monitor.primary);
    let frame = |monitor: &x11rb::protocol::randr::MonitorInfo| Rect {
        x: monitor.x.into(),
        y: monitor.y.into(),
        width: monitor.width.into(),
        height: monitor.height.into(),
    };
    let frames: Vec<Rect> = monitors.iter().map(frame).collect();
    if frames.is_empty() { Ok(vec![link.whole_screen()?]) } else { Ok(frames) }
}

/// Where the pointer is.
pub(super) fn place(link: &XConnection) -> Result<(i32, i32), BackendError> {
    let reply = link.conn.query_pointer(link.root)?.reply()?;
    Ok((reply.root_x.into(), reply.root_y.into()))
}

/// The screen that a place is on, if any.
pub(super) fn screen_at(
    link: &XConnection,
    place: (i32, i32),
) -> Result<Option<Rect>, BackendError> {
    Ok(screens(link)?.into_iter().find(|screen| screen.contains(place)))
}

/// The screen the pointer is on.
pub(super) fn screen_at_pointer(link: &XConnection) -> Result<Rect, BackendError> {
    match screen_at(link, place(link)?)? {
        Some(screen) => Ok(screen),
        None => link.whole_screen(),
    }
}
