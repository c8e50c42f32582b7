//! What the server tells: of keys, of the keyboard's map and state, of windows and screens.

use std::time::Duration;

use lantern_model::{Event, KeyGrab, Refusal, Time};
use x11rb::connection::RequestConnection as _;
use x11rb::errors::ConnectionError;
use x11rb::protocol::Event as XEvent;
use x11rb::protocol::randr::{self, ConnectionExt as _};
use x11rb::protocol::xinput::{self, ConnectionExt as _, XIEventMask};
use x11rb::protocol::xkb::{self, ConnectionExt as _, EventType, MapPart};
use x11rb::protocol::xproto::{self, ConnectionExt as _, PropertyNotifyEvent};

use super::accessx::AccessXDelays;
use super::device_event::DeviceEvent;
use super::grabs::{KeyOrButton, Refusals};
use super::keymap::{Keymap, key_of};
use super::pointer::{self, ButtonMaps, key_of_button};
use super::press_tracker::ServerPress;
use super::{X11Backend, connection, windows};
use crate::BackendError;

/// How often keys that another program holds are tried again.
const RETRY: Duration = Duration::from_secs(3);

impl X11Backend {
    pub(super) fn select_root_events(&self, pings: bool) -> Result<(), BackendError> {
        let mut mask = xproto::EventMask::PROPERTY_CHANGE | xproto::EventMask::STRUCTURE_NOTIFY;
        if pings {
            mask |= xproto::EventMask::SUBSTRUCTURE_NOTIFY;
        }
        self.link.select_root(mask)
    }

    /// Changes of the map, of the group, of locks and latches, keyboards and screens coming and
    /// going.
    ///
    /// The notice of a new keyboard is not asked for: the server sends it twice for every injected
    /// key between two of the person's. A new layout also changes a property of the root window.
    pub(super) fn select_keyboard_events(&mut self) -> Result<(), BackendError> {
        let core = xkb::ID::USE_CORE_KBD.into();
        let parts = xkb::StatePart::GROUP_STATE
            | xkb::StatePart::MODIFIER_LOCK
            | xkb::StatePart::MODIFIER_LATCH;
        let controls = xkb::Control::CONTROLS_ENABLED;
        let details = xkb::SelectEventsAux::new()
            .state_notify(xkb::SelectEventsAuxStateNotify {
                affect_state: parts,
                state_details: parts,
            })
            .controls_notify(xkb::SelectEventsAuxControlsNotify {
                affect_ctrls: controls,
                ctrl_details: controls,
            });
        let map = MapPart::KEY_TYPES | MapPart::KEY_SYMS | MapPart::MODIFIER_MAP;
        let none = EventType::from(0u16);
        self.link.conn.xkb_select_events(core, none, none, map, map, &details)?;
        let hierarchy = XIEventMask::HIERARCHY;
        let masks = [xinput::EventMask { deviceid: 0, mask: vec![hierarchy] }];
        self.link.conn.xinput_xi_select_events(self.link.root, &masks)?;
        let change = randr::NotifyMask::SCREEN_CHANGE;
        self.link.conn.randr_select_input(self.link.root, change)?;
        let state = self.link.conn.xkb_get_state(core)?.reply()?;
        self.locked = state.locked_mods.into();
        self.latched = state.latched_mods.into();
        self.delays = AccessXDelays::read(&self.link)?;
        Ok(())
    }

    /// Takes in what the server tells.
    pub(super) fn handle_message(&mut self, now: Time, message: &[u8]) -> Result<(), BackendError> {
        match DeviceEvent::read(message, self.link.xinput) {
            Some(event) => self.handle_device_event(&event),
            None => {
                let event = self.link.conn.parse_event(message).map_err(ConnectionError::from)?;
                self.handle_x_event(now, event)
            }
        }
    }

    fn handle_x_event(&mut self, now: Time, event: XEvent) -> Result<(), BackendError> {
        match event {
            // A press that fell into the moment in which a grab was tried.
            XEvent::KeyPress(press) => {
                let mask = u16::from(press.state) & 0xff;
                self.handle_press(ServerPress {
                    time: press.time,
                    detail: KeyOrButton::Code(press.detail),
                    key: key_of(press.detail),
                    base: mask,
                    effective: mask,
                    locked: self.locked,
                    source: None,
                    place: None,
                })?;
            }
            XEvent::XinputRawKeyPress(raw) => self.handle_raw_key(&raw, true)?,
            XEvent::XinputRawKeyRelease(raw) => self.handle_raw_key(&raw, false)?,
            XEvent::XinputRawButtonPress(raw) => self.handle_raw_button(&raw, true)?,
            XEvent::XinputRawButtonRelease(raw) => self.handle_raw_button(&raw, false)?,
            XEvent::XinputRawMotion(raw) => {
                self.presses.pointer_moved = true;
                self.take_motion(&raw);
            }
            XEvent::XinputDeviceMappingNotify(_) => {
                self.buttons = ButtonMaps::read(&self.link)?;
            }
            XEvent::XinputHierarchy(_) => {
                self.link.devices = connection::query_devices(&self.link.conn)?;
                self.buttons = ButtonMaps::read(&self.link)?;
                self.select_raw_anew()?;
                // What was down on a keyboard that was unplugged is up.
                self.presses.look_again = true;
                self.handle_new_map()?;
            }
            // It also tells of what we changed ourselves for a step; looking tells how it is now.
            XEvent::XkbControlsNotify(_) => self.delays = AccessXDelays::read(&self.link)?,
            XEvent::XkbStateNotify(state) => self.handle_state(&state)?,
            XEvent::XkbMapNotify(_) => self.handle_new_map()?,
            XEvent::MappingNotify(change) if change.request == xproto::Mapping::POINTER => {
                self.buttons = ButtonMaps::read(&self.link)?;
            }
            XEvent::RandrScreenChangeNotify(_) => self.look_at_screens()?,
            // So the server tells of screens that were divided or joined.
            XEvent::ConfigureNotify(change) if change.window == self.link.root => {
                self.look_at_screens()?;
            }
            XEvent::DestroyNotify(gone) if u64::from(gone.window) == self.front.window => {
                self.look_at_front()?;
            }
            XEvent::PropertyNotify(change) => self.handle_property_change(now, &change)?,
            XEvent::SelectionNotify(answer) => self.handle_answer(now, &answer)?,
            XEvent::SelectionRequest(request) => self.serve(&request)?,
            XEvent::SelectionClear(clear) => self.lose_clipboard(now, clear.selection)?,
            XEvent::ClientMessage(message) => self.handle_pong(now, &message)?,
            _ => {}
        }
        Ok(())
    }

    fn handle_raw_key(
        &mut self,
        raw: &xinput::RawKeyPressEvent,
        down: bool,
    ) -> Result<(), BackendError> {
        self.handle_raw(raw.time, raw.sourceid, key_of(raw.detail as u8), down)
    }

    fn handle_raw_button(
        &mut self,
        raw: &xinput::RawButtonPressEvent,
        down: bool,
    ) -> Result<(), BackendError> {
        let button = self.buttons.meaning(raw.sourceid, raw.detail as u8);
        let key = key_of_button(&self.link.devices, raw.sourceid, button);
        self.handle_raw(raw.time, raw.sourceid, key, down)
    }

    fn handle_property_change(
        &mut self,
        now: Time,
        change: &PropertyNotifyEvent,
    ) -> Result<(), BackendError> {
        let atoms = self.link.atoms;
        if change.window != self.link.root {
            let titles = [atoms._NET_WM_NAME, xproto::AtomEnum::WM_NAME.into()];
            if titles.contains(&change.atom) && u64::from(change.window) == self.front.window {
                self.look_at_front()?;
            }
            return self.handle_property(now, change);
        }
        if change.atom == atoms._XKB_RULES_NAMES {
            self.handle_new_map()?;
        } else if change.atom == atoms.XIM_SERVERS {
            self.methods.look(&self.link)?;
        } else if change.atom == atoms._NET_ACTIVE_WINDOW {
            self.look_at_front()?;
        } else if change.atom == atoms._NET_CLIENT_LIST {
            self.look_at_windows()?;
            // The client that held a key may be gone.
            self.retry_refused(now)?;
        }
        Ok(())
    }

    /// Looks which window is in front, and what it is called now.
    pub(super) fn look_at_front(&mut self) -> Result<(), BackendError> {
        let window = windows::active_window(&self.link)?;
        if window != x11rb::NONE && u64::from(window) != self.front.window {
            // Its title may change, and it may be destroyed. A window that is gone already gives an
            // error that is not read.
            let mask = xproto::EventMask::PROPERTY_CHANGE | xproto::EventMask::STRUCTURE_NOTIFY;
            let watch = xproto::ChangeWindowAttributesAux::new().event_mask(mask);
            self.link.conn.change_window_attributes(window, &watch)?;
        }
        let app = windows::active_app(&self.link)?;
        if app != self.front || self.events.is_empty() {
            self.front = app.clone();
            self.events.push_back(Event::Focus(app));
            self.welcome();
        }
        Ok(())
    }

    fn look_at_screens(&mut self) -> Result<(), BackendError> {
        let screens = pointer::screens(&self.link)?;
        self.events.push_back(Event::Screens(screens));
        Ok(())
    }

    fn look_at_windows(&mut self) -> Result<(), BackendError> {
        let now = windows::all(&self.link)?;
        let before = std::mem::replace(&mut self.windows, now);
        for window in self.windows.iter().filter(|window| !before.contains(window)) {
            self.events.push_back(Event::WindowOpened(windows::describe(&self.link, *window)?));
        }
        Ok(())
    }

    /// Installs the grabs for the locks that are on, and reports refused ones.
    pub(super) fn take_grabs(&mut self) -> Result<(), BackendError> {
        let (keys, raw) = (&self.wanted_grabs.keys, self.raw_in_grabs());
        let refused = self.grabs.replace(&self.link, &self.keymap, self.locked, keys, raw)?;
        for detail in &self.open {
            self.grabs.suspend(&self.link, *detail)?;
        }
        // Each is reported once, and again if we had it in between.
        let is_ours = |told: &mut (KeyGrab, Refusal)| {
            self.wanted_grabs.keys.contains(&told.0) && !refused.contains(told)
        };
        let freed: Vec<KeyGrab> = self.told.extract_if(.., is_ours).map(|told| told.0).collect();
        if !freed.is_empty() {
            self.events.push_back(Event::GrabsFreed(freed));
        }
        let is_new = |refused: &&(KeyGrab, Refusal)| !self.told.contains(refused);
        let new: Refusals = refused.iter().filter(is_new).cloned().collect();
        self.missing = refused.iter().any(|(_, why)| *why == Refusal::HeldByOther);
        if !new.is_empty() {
            self.told.extend(new.iter().cloned());
            self.events.push_back(Event::GrabsRefused(new));
        }
        Ok(())
    }

    /// Tries again to grab what another program held. The server sends no event when a grab ends,
    /// so this runs when windows come and go, and every few seconds while a grab is missing.
    pub(super) fn retry_refused(&mut self, now: Time) -> Result<(), BackendError> {
        if self.missing {
            self.take_grabs()?;
        }
        self.retry_at = self.missing.then_some(now + RETRY);
        self.flush()
    }

    fn handle_state(&mut self, state: &xkb::StateNotifyEvent) -> Result<(), BackendError> {
        self.latched = state.latched_mods.into();
        let locked = state.locked_mods.into();
        if locked != self.locked {
            self.locked = locked;
            self.take_grabs()?;
        }
        let group = usize::from(u8::from(state.group));
        if group != self.keymap.layout.active {
            self.keymap.layout.active = group;
            self.events.push_back(Event::Layout(self.keymap.layout.clone()));
        }
        Ok(())
    }

    /// The map may have changed, or only the device that typed last; looking tells.
    fn handle_new_map(&mut self) -> Result<(), BackendError> {
        let mut fresh = Keymap::read(&self.link.conn)?;
        if !self.lent.is_empty() {
            // Keycodes that we lent are still ours to give.
            fresh.spare.clone_from(&self.keymap.spare);
        }
        if fresh != self.keymap {
            self.keymap = fresh;
            self.take_grabs()?;
            self.events.push_back(Event::Layout(self.keymap.layout.clone()));
        }
        Ok(())
    }
}
