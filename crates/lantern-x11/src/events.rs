//! Handles events of the X server: of keys, of the keyboard's map and state, of windows and screens.

use lantern_model::{Event, Time};
use x11rb::connection::RequestConnection as _;
use x11rb::errors::ConnectionError;
use x11rb::protocol::Event as XEvent;
use x11rb::protocol::randr::{self, ConnectionExt as _};
use x11rb::protocol::xinput::{self, ConnectionExt as _, XIEventMask};
use x11rb::protocol::xkb::{self, ConnectionExt as _, EventType, MapPart};
use x11rb::protocol::xproto::{self, ClientMessageEvent, PropertyNotifyEvent};

use super::connection::XConnection;
use super::device_event::DeviceEvent;
use super::grabs::KeyOrButton;
use super::keymap::key_of;
use super::ping::{PingClient, pong_of};
use super::pointer::{self, key_of_button};
use super::press_tracker::ServerPress;
use super::temporary_keymap::TemporaryKeymap;
use super::{X11Backend, connection};
use lantern_backend::BackendError;

/// Selects changes of the map, of the group, of locks and latches, of keyboards and screens.
///
/// The notice of a new keyboard is not selected: the server sends it twice for every injected key between
/// two of the person's. A new layout also changes a property of the root window.
pub(super) fn select_keyboard_events(link: &XConnection) -> Result<(), BackendError> {
    let core = xkb::ID::USE_CORE_KBD.into();
    let parts = xkb::StatePart::GROUP_STATE
        | xkb::StatePart::MODIFIER_LOCK
        | xkb::StatePart::MODIFIER_LATCH;
    let controls = xkb::Control::CONTROLS_ENABLED;
    let details = xkb::SelectEventsAux::new()
        .state_notify(xkb::SelectEventsAuxStateNotify { affect_state: parts, state_details: parts })
        .controls_notify(xkb::SelectEventsAuxControlsNotify {
            affect_ctrls: controls,
            ctrl_details: controls,
        });
    let map = MapPart::KEY_TYPES | MapPart::KEY_SYMS | MapPart::MODIFIER_MAP;
    let none = EventType::from(0u16);
    link.conn.xkb_select_events(core, none, none, map, map, &details)?;
    let masks = [xinput::EventMask { deviceid: 0, mask: vec![XIEventMask::HIERARCHY] }];
    link.conn.xinput_xi_select_events(link.root, &masks)?;
    link.conn.randr_select_input(link.root, randr::NotifyMask::SCREEN_CHANGE)?;
    Ok(())
}

impl X11Backend {
    /// Handles a message of the server.
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
                    locked: self.keyboard.locked(),
                    source: None,
                    place: None,
                })
            }
            XEvent::XinputRawKeyPress(raw) => self.handle_raw_key(&raw, true),
            XEvent::XinputRawKeyRelease(raw) => self.handle_raw_key(&raw, false),
            XEvent::XinputRawButtonPress(raw) => self.handle_raw_button(&raw, true),
            XEvent::XinputRawButtonRelease(raw) => self.handle_raw_button(&raw, false),
            XEvent::XinputRawMotion(raw) => {
                self.presses.note_pointer_moved();
                self.recorder.take_motion(&self.link.devices, &raw);
                Ok(())
            }
            XEvent::XinputDeviceMappingNotify(_) => self.injector.update_buttons(&self.link),
            XEvent::XinputHierarchy(_) => self.handle_hierarchy(),
            // It also reports what we changed ourselves for a batch; a query tells how it is now.
            XEvent::XkbControlsNotify(_) => self.keyboard.update_controls(&self.link),
            XEvent::XkbStateNotify(state) => self.handle_state(&state),
            XEvent::XkbMapNotify(_) => self.handle_new_map(),
            XEvent::MappingNotify(change) if change.request == xproto::Mapping::POINTER => {
                self.injector.update_buttons(&self.link)
            }
            XEvent::RandrScreenChangeNotify(_) => self.report_screens(),
            // So the server reports screens that were divided or joined.
            XEvent::ConfigureNotify(change) if change.window == self.link.root => {
                self.report_screens()
            }
            XEvent::DestroyNotify(gone) if self.windows.is_front(gone.window) => {
                self.update_front()
            }
            XEvent::PropertyNotify(change) => self.handle_property_change(now, &change),
            XEvent::SelectionNotify(answer) => {
                self.use_clipboard(now, |clipboard| clipboard.handle_answer(&answer))
            }
            XEvent::SelectionRequest(request) => {
                self.use_clipboard(now, |clipboard| clipboard.serve(&request))
            }
            XEvent::SelectionClear(clear) => {
                self.use_clipboard(now, |clipboard| clipboard.lose_clipboard(clear.selection))
            }
            XEvent::ClientMessage(message) => self.handle_client_message(now, &message),
            _ => Ok(()),
        }
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
        let button = self.injector.buttons().meaning(raw.sourceid, raw.detail as u8);
        let key = key_of_button(&self.link.devices, raw.sourceid, button);
        self.handle_raw(raw.time, raw.sourceid, key, down)
    }

    /// Input devices came or went.
    fn handle_hierarchy(&mut self) -> Result<(), BackendError> {
        self.link.devices = connection::query_devices(&self.link.conn)?;
        self.injector.update_buttons(&self.link)?;
        self.select_raw_anew()?;
        // What was down on a keyboard that was unplugged is up.
        self.presses.look_later();
        self.handle_new_map()
    }

    fn handle_property_change(
        &mut self,
        now: Time,
        change: &PropertyNotifyEvent,
    ) -> Result<(), BackendError> {
        let atoms = self.link.atoms;
        if change.window != self.link.root {
            let titles = [atoms._NET_WM_NAME, xproto::AtomEnum::WM_NAME.into()];
            if titles.contains(&change.atom) && self.windows.is_front(change.window) {
                self.update_front()?;
            }
            return self.use_clipboard(now, |clipboard| clipboard.handle_property(change));
        }
        if change.atom == atoms._XKB_RULES_NAMES {
            self.handle_new_map()?;
        } else if change.atom == atoms.XIM_SERVERS {
            self.methods.look(&self.link)?;
        } else if change.atom == atoms._NET_ACTIVE_WINDOW {
            self.update_front()?;
        } else if change.atom == atoms._NET_CLIENT_LIST {
            let events = self.windows.update_windows(&self.link)?;
            self.queue.extend(events);
            // The client that held a key may be gone.
            self.retry_grabs(now)?;
        }
        Ok(())
    }

    /// A program answered a ping.
    fn handle_client_message(
        &mut self,
        now: Time,
        message: &ClientMessageEvent,
    ) -> Result<(), BackendError> {
        let Some(pong) = pong_of(&self.link, message) else { return Ok(()) };
        match pong.client {
            PingClient::Clipboard => {
                self.use_clipboard(now, |clipboard| {
                    clipboard.note_keys_read(pong.window);
                    Ok(())
                })?;
                self.end_pings()
            }
            PingClient::WindowTracker => {
                self.windows.raise_pending(&self.link, now)?;
                self.flush()?;
                self.end_pings()
            }
            PingClient::TemporaryKeymap if self.temporary_keymap.is_pinged(pong.window) => {
                self.lend(now, TemporaryKeymap::advance)
            }
            PingClient::TemporaryKeymap => Ok(()),
        }
    }

    /// Queries which window is in front, and reports a change.
    pub(super) fn update_front(&mut self) -> Result<(), BackendError> {
        let always = self.queue.has_no_events();
        if let Some(event) = self.windows.update_front(&self.link, always)? {
            self.queue.push(event);
            self.queue.extend_outcomes(self.windows.take_arrived());
        }
        Ok(())
    }

    fn report_screens(&mut self) -> Result<(), BackendError> {
        let screens = pointer::screens(&self.link)?;
        self.queue.push(Event::Screens(screens));
        Ok(())
    }

    /// Tries again to install grabs that another program held.
    pub(super) fn retry_grabs(&mut self, now: Time) -> Result<(), BackendError> {
        let events = self.grabs.retry(&self.link, &self.keyboard, now)?;
        self.queue.extend(events);
        self.flush()
    }

    fn handle_state(&mut self, state: &xkb::StateNotifyEvent) -> Result<(), BackendError> {
        let change = self.keyboard.update_state(state);
        if change.locks {
            self.reinstall_grabs()?;
        }
        if change.group {
            self.report_layout();
        }
        Ok(())
    }

    /// The map may have changed, or only the device that typed last; a query tells.
    fn handle_new_map(&mut self) -> Result<(), BackendError> {
        let is_lending = self.temporary_keymap.is_lending();
        if self.keyboard.update_map(&self.link, is_lending)? {
            self.reinstall_grabs()?;
            self.report_layout();
        }
        Ok(())
    }

    pub(super) fn report_layout(&mut self) {
        self.queue.push(Event::Layout(self.keyboard.keymap().layout.clone()));
    }
}
