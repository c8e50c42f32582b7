//! Observes input without grabs: every key and button that the server receives, and which program
//! is in front.

use std::collections::BTreeSet;
use std::os::fd::BorrowedFd;
use std::time::Duration;

use lantern_model::{App, Key, ModifierKey, ModifierSet};
use x11rb::connection::Connection;
use x11rb::protocol::Event;
use x11rb::protocol::xinput::{ConnectionExt as _, EventMask, XIEventMask};
use x11rb::protocol::xkb::{ConnectionExt as _, EventType, ID, MapPart, SelectEventsAux};
use x11rb::protocol::xproto::{self, ConnectionExt as _};

use super::connection::{self, XConnection};
use super::keymap::{Keymap, key_of, side_of};
use super::pointer::{self, ButtonMaps, key_of_button};
use super::raw_events::{self, RawEventSelection};
use super::windows;
use lantern_backend::BackendError;
use lantern_backend::keysyms::keysym_character;

/// A key or button that went down or up.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ObservedKey {
    /// The server's time.
    pub time: Duration,
    /// Whether it went down.
    pub down: bool,
    /// The key or button, if it is one that can be named.
    pub key: Option<Key>,
    /// The server's number of it.
    pub code: u8,
    /// The symbol the layout gives it without modifiers, 0 for a button.
    pub keysym: u32,
    /// What it types under what is held, if anything.
    pub types: Option<char>,
    /// The device it came from.
    pub device: String,
    /// Whether a program put it in.
    pub injected: bool,
    /// Where the pointer was, for a button.
    pub pointer: Option<(i32, i32)>,
}

/// What a listener sees.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Observation {
    /// A key or button.
    Input(ObservedKey),
    /// Another program came to the front.
    Front(App),
    /// The pointer moved while something was down.
    Moved(i32, i32),
}

/// A connection that only looks.
#[derive(Debug)]
pub struct Listener {
    link: XConnection,
    keymap: Keymap,
    buttons: ButtonMaps,
    /// Keys and buttons that are down.
    down: BTreeSet<(bool, u8)>,
    /// Modifiers that are down, the person's and programs'.
    held: Vec<ModifierKey>,
    front: App,
}

impl Listener {
    /// Listens to the display in DISPLAY from now on.
    ///
    /// # Errors
    /// When the display cannot be reached.
    pub fn open() -> Result<Listener, BackendError> {
        let link = XConnection::open(None)?;
        raw_events::select_raw(
            &link,
            RawEventSelection::default(),
            RawEventSelection { all: true, ..RawEventSelection::default() },
        )?;
        let hierarchy = EventMask { deviceid: 0, mask: vec![XIEventMask::HIERARCHY] };
        link.conn.xinput_xi_select_events(link.root, &[hierarchy])?;
        link.select_root(xproto::EventMask::PROPERTY_CHANGE)?;
        let new_map = EventType::NEW_KEYBOARD_NOTIFY | EventType::MAP_NOTIFY;
        let (none, all) = (EventType::from(0u16), MapPart::from(0xffu16));
        let (device, aux) = (ID::USE_CORE_KBD.into(), SelectEventsAux::new());
        link.conn.xkb_select_events(device, none, new_map, all, all, &aux)?;
        let keymap = Keymap::read(&link.conn)?;
        let buttons = ButtonMaps::read(&link)?;
        let front = windows::active_app(&link)?;
        let held = raw_events::real_keycodes(&link)?;
        let held = held.into_iter().filter_map(side_of).collect();
        let down = BTreeSet::new();
        Ok(Listener { link, keymap, buttons, down, held, front })
    }

    /// The program in front.
    pub fn front(&self) -> &App {
        &self.front
    }

    /// Waits until the server has sent all that happened by now.
    ///
    /// # Errors
    /// When the display is gone.
    pub fn catch_up(&self) -> Result<(), BackendError> {
        self.link.conn.get_input_focus()?.reply()?;
        Ok(())
    }

    /// What becomes readable when there is something to see.
    pub fn descriptor(&self) -> BorrowedFd<'_> {
        self.link.conn.waitable()
    }

    /// The next thing to see that has come, if any.
    ///
    /// # Errors
    /// When the display is gone.
    pub fn look(&mut self) -> Result<Option<Observation>, BackendError> {
        while let Some(event) = self.link.conn.poll_for_event()? {
            let seen = match event {
                Event::XinputRawKeyPress(raw) => self.key(raw.detail, raw.sourceid, raw.time, true),
                Event::XinputRawKeyRelease(raw) => {
                    self.key(raw.detail, raw.sourceid, raw.time, false)
                }
                Event::XinputRawButtonPress(raw) => {
                    self.button(raw.detail, raw.sourceid, raw.time, true)
                }
                Event::XinputRawButtonRelease(raw) => {
                    self.button(raw.detail, raw.sourceid, raw.time, false)
                }
                Event::PropertyNotify(change)
                    if change.atom == self.link.atoms._NET_ACTIVE_WINDOW =>
                {
                    let front = windows::active_app(&self.link)?;
                    if front.window == self.front.window {
                        continue;
                    }
                    self.front = front.clone();
                    return Ok(Some(Observation::Front(front)));
                }
                Event::XinputRawMotion(_) => {
                    let (x, y) = pointer::place(&self.link)?;
                    return Ok(Some(Observation::Moved(x, y)));
                }
                Event::XinputHierarchy(_) => {
                    self.link.devices = connection::query_devices(&self.link.conn)?;
                    self.buttons = ButtonMaps::read(&self.link)?;
                    continue;
                }
                Event::XinputDeviceMappingNotify(_) => {
                    self.buttons = ButtonMaps::read(&self.link)?;
                    continue;
                }
                Event::XkbNewKeyboardNotify(_) | Event::XkbMapNotify(_) => {
                    self.keymap = Keymap::read(&self.link.conn)?;
                    continue;
                }
                _ => continue,
            };
            let seen = seen?;
            self.follow_pointer(&seen)?;
            return Ok(Some(Observation::Input(seen)));
        }
        Ok(None)
    }

    /// The pointer's way matters as long as something is down.
    fn follow_pointer(&mut self, seen: &ObservedKey) -> Result<(), BackendError> {
        let before = self.down.is_empty();
        let pressed = (seen.pointer.is_some(), seen.code);
        if seen.down {
            self.down.insert(pressed)
        } else {
            self.down.remove(&pressed)
        };
        if self.down.is_empty() != before {
            let raw =
                |motion| RawEventSelection { all: true, motion, ..RawEventSelection::default() };
            raw_events::select_raw(&self.link, raw(!before), raw(before))?;
            self.link.conn.flush()?;
        }
        Ok(())
    }

    fn key(
        &mut self,
        detail: u32,
        source: u16,
        time: u32,
        down: bool,
    ) -> Result<ObservedKey, BackendError> {
        let (code, conn) = (detail as u8, &self.link.conn);
        let key = key_of(code);
        if let Some(side) = key.and_then(ModifierKey::of) {
            self.held.retain(|held| *held != side);
            self.held.extend(down.then_some(side));
        }
        let keysym = conn.get_keyboard_mapping(code, 1)?.reply()?.keysyms;
        let keysym = keysym.first().copied().unwrap_or(0);
        let locked = conn.xkb_get_state(ID::USE_CORE_KBD.into())?.reply()?.locked_mods;
        let families =
            self.held.iter().map(|side| side.modifier(self.keymap.layout.alt_gr_is_level3));
        let families = families.fold(ModifierSet::NONE, ModifierSet::with);
        let types = match key {
            Some(key) if ModifierKey::of(key).is_none() => {
                self.keymap.character(key, families, locked.into()).filter(|c| !c.is_control())
            }
            Some(_) => None,
            None => keysym_character(keysym),
        };
        Ok(self
            .seen(ObservedKey { key, code, keysym, types, ..ObservedKey::of(time, down) }, source))
    }

    fn button(
        &self,
        detail: u32,
        source: u16,
        time: u32,
        down: bool,
    ) -> Result<ObservedKey, BackendError> {
        let code = detail as u8;
        let meaning = self.buttons.meaning(source, code);
        let key = key_of_button(&self.link.devices, source, meaning);
        let pointer = Some(pointer::place(&self.link)?);
        Ok(self.seen(ObservedKey { key, code, pointer, ..ObservedKey::of(time, down) }, source))
    }

    /// With what is known of where it came from.
    fn seen(&self, seen: ObservedKey, source: u16) -> ObservedKey {
        let devices = &self.link.devices;
        let device = devices.names.get(&source).cloned().unwrap_or_default();
        ObservedKey { device, injected: devices.injected.contains(&source), ..seen }
    }
}

impl ObservedKey {
    fn of(time: u32, down: bool) -> ObservedKey {
        ObservedKey {
            time: Duration::from_millis(time.into()),
            down,
            key: None,
            code: 0,
            keysym: 0,
            types: None,
            device: String::new(),
            injected: false,
            pointer: None,
        }
    }
}
