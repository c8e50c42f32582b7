//! Which keys are physically down: the state of the real devices, and the raw events
//! that tell of presses and releases which no program sees.

use std::collections::BTreeSet;

use lantern_model::Key;
use x11rb::connection::SequenceNumber;
use x11rb::protocol::xinput::{ConnectionExt as _, EventMask, InputStateData, XIEventMask};

use super::connection::XConnection;
use super::keymap::key_of;
use super::pointer::{ButtonMaps, key_of_button};
use lantern_backend::BackendError;

/// Every master device, for which raw events come once.
const ALL_MASTERS: u16 = 1;

/// Raw events that are asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct RawEventSelection {
    /// Every press and release of keys and buttons, in one order with the events of grabs.
    pub all: bool,
    /// Every press and release of a key.
    pub keys: bool,
    /// Every release of a key.
    pub key_releases: bool,
    /// Every release of a button.
    pub button_releases: bool,
    /// Movements of the pointer.
    pub motion: bool,
}

/// Keycodes that are down on the real keyboards.
pub(super) fn real_keycodes(link: &XConnection) -> Result<BTreeSet<u8>, BackendError> {
    let mut down = BTreeSet::new();
    for (_, state) in query(link, &link.devices.keyboards)? {
        if let InputStateData::Key(keys) = state {
            down.extend(set_bits(&keys.keys));
        }
    }
    Ok(down)
}

/// Keys and buttons that are down on the real devices.
pub(super) fn real_keys(
    link: &XConnection,
    maps: &ButtonMaps,
) -> Result<BTreeSet<Key>, BackendError> {
    let mut down: BTreeSet<Key> = real_keycodes(link)?.into_iter().filter_map(key_of).collect();
    for (device, state) in query(link, &link.devices.pointers)? {
        if let InputStateData::Button(buttons) = state {
            let pressed = set_bits(&buttons.buttons).filter(|button| *button > 0);
            let source = u16::from(device);
            let key = |button| key_of_button(&link.devices, source, maps.meaning(source, button));
            down.extend(pressed.filter_map(key));
        }
    }
    Ok(down)
}

/// The state of each class of devices, with the device's number.
pub(super) fn query(
    link: &XConnection,
    devices: &[u8],
) -> Result<Vec<(u8, InputStateData)>, BackendError> {
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

/// The numbers of the bits that are set, as a device's state tells of its keys and buttons.
pub(super) fn set_bits(bytes: &[u8; 32]) -> impl Iterator<Item = u8> {
    (0..=u8::MAX).filter(|number| bytes[usize::from(*number) / 8] & (1 << (number % 8)) != 0)
}

impl RawEventSelection {
    /// What is asked of the masters, or of a grab. A grab of ours keeps from us what it was not asked for
    /// itself, and what they tell waits like all else while the server waits for our answer.
    pub(super) fn of_masters(self) -> XIEventMask {
        together([
            (self.all, XIEventMask::RAW_KEY_PRESS | XIEventMask::RAW_KEY_RELEASE),
            (self.all, XIEventMask::RAW_BUTTON_PRESS | XIEventMask::RAW_BUTTON_RELEASE),
            (self.motion, XIEventMask::RAW_MOTION),
        ])
    }

    /// Raw events that are selected on each real keyboard. Neither grabs nor frozen devices
    /// withhold them, and they exclude injected input, also our own.
    fn of_keyboards(self) -> XIEventMask {
        let RawEventSelection { all, keys, key_releases, .. } = self;
        together([
            (!all && keys, XIEventMask::RAW_KEY_PRESS),
            (!all && (keys || key_releases), XIEventMask::RAW_KEY_RELEASE),
        ])
    }

    /// What is asked of each real pointer.
    fn of_pointers(self) -> XIEventMask {
        together([(!self.all && self.button_releases, XIEventMask::RAW_BUTTON_RELEASE)])
    }
}

fn together<const N: usize>(sorts: [(bool, XIEventMask); N]) -> XIEventMask {
    let wanted = sorts.into_iter().filter(|(wanted, _)| *wanted).map(|(_, sort)| sort);
    wanted.fold(XIEventMask::from(0u32), |mask, sort| mask | sort)
}

/// Asks for raw events where something else was asked for before; gives the number of the request,
/// which is made in any case. When a device comes or goes, all must be asked anew.
pub(super) fn select_raw(
    link: &XConnection,
    before: RawEventSelection,
    wanted: RawEventSelection,
) -> Result<SequenceNumber, BackendError> {
    let of = |deviceid, mask| EventMask { deviceid, mask: vec![mask] };
    let mut masks = Vec::new();
    let (boards, pointers) = (wanted.of_keyboards(), wanted.of_pointers());
    if boards != before.of_keyboards() {
        masks.extend(link.devices.keyboards.iter().map(|device| of((*device).into(), boards)));
    }
    if pointers != before.of_pointers() {
        masks.extend(link.devices.pointers.iter().map(|device| of((*device).into(), pointers)));
    }
    if masks.is_empty() || wanted.of_masters() != before.of_masters() {
        masks.push(of(ALL_MASTERS, wanted.of_masters()));
    }
    Ok(link.conn.xinput_xi_select_events(link.root, &masks)?.sequence_number())
}

/// What is known of the keys of the real keyboards.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
enum KeyboardIdle {
    #[default]
    Unknown,
    /// The keys are queried when nothing else is to do.
    Queried,
    /// No key is down, and presses are selected.
    Untouched,
}

/// The raw events that are selected now.
///
/// A key that is down cannot be tapped, so a batch releases its keys first, which delays the target. After
/// a button press, keys are rarely down. Once none is, the next raw key press is selected, and batches that
/// answer a button need no releases until it comes. That costs at most one wake-up for each answered button.
#[derive(Debug, Default)]
pub(super) struct RawEvents {
    selected: RawEventSelection,
    idle: KeyboardIdle,
}

impl RawEvents {
    /// Whether this is selected already.
    pub(super) fn is_selected(&self, wanted: RawEventSelection) -> bool {
        self.selected == wanted
    }

    /// Selects raw events. Gives the number of the request, and what was selected before.
    pub(super) fn select(
        &mut self,
        link: &XConnection,
        wanted: RawEventSelection,
    ) -> Result<(SequenceNumber, RawEventSelection), BackendError> {
        let before = std::mem::replace(&mut self.selected, wanted);
        Ok((select_raw(link, before, wanted)?, before))
    }

    /// Forgets what is selected, as the devices are other ones.
    pub(super) fn forget(&mut self) {
        *self = RawEvents::default();
    }

    /// Whether the presses of keys must be selected, to know when one goes down.
    pub(super) fn watches_keys(&self) -> bool {
        self.is_untouched()
    }

    /// Whether no key of a real keyboard is down.
    pub(super) fn is_untouched(&self) -> bool {
        self.idle == KeyboardIdle::Untouched
    }

    /// Has the keys queried, if their state is unknown; whether it is.
    pub(super) fn request_query(&mut self) -> bool {
        let is_unknown = self.idle == KeyboardIdle::Unknown;
        if is_unknown {
            self.idle = KeyboardIdle::Queried;
        }
        is_unknown
    }

    /// Takes that a key is down on a real keyboard; whether presses need not be selected any more.
    pub(super) fn touch(&mut self) -> bool {
        std::mem::take(&mut self.idle) == KeyboardIdle::Untouched
    }

    /// Assumes that no key is down, if that was to be queried. Presses must be selected before the query.
    pub(super) fn begin_query(&mut self) {
        if self.idle == KeyboardIdle::Queried {
            self.idle = KeyboardIdle::Untouched;
        }
    }
}
