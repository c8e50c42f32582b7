//! A person at the server's own keyboard and pointer.
//!
//! XTEST can speak for any slave device when its events are of the XInput 1 kind and name the
//! device. Every press is seen back as a raw event whose source is asserted to be that device.

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use lantern_model::{Key, Layout, ModifierKey};
use x11rb::CURRENT_TIME;
use x11rb::connection::{Connection, RequestConnection};
use x11rb::protocol::Event;
use x11rb::protocol::randr::{self, ConnectionExt as _};
use x11rb::protocol::xinput::{self, ConnectionExt as _, DeviceType, EventMask, XIEventMask};
use x11rb::protocol::xkb::{self, ConnectionExt as _};
use x11rb::protocol::xproto::{self, ConnectionExt as _, EventMask as EventMaskCore};
use x11rb::protocol::xtest::ConnectionExt as _;
use x11rb::rust_connection::RustConnection;

use crate::display::{connect, wait_for};
use crate::waiting::pass_time;
use crate::{Display, PATIENCE_MS};

/// The person.
#[derive(Debug)]
pub struct Person {
    conn: RustConnection,
    root: xproto::Window,
    keyboard: u8,
    mouse: u8,
    /// The first event number of XInput 1.
    first: u8,
    checked: bool,
}

/// XInput 1's key press and button press, counted from its first event; a release follows each.
const DEVICE_KEY_PRESS: u8 = 1;
const DEVICE_BUTTON_PRESS: u8 = 3;
/// Its movement of a device.
const DEVICE_MOTION: u8 = 5;
/// Time from one key event to the next, for tests in which the events between them matter.
const FAST_HAND: Duration = Duration::from_millis(5);
/// The server's own mouse has no more buttons.
const REAL_BUTTONS: u8 = 3;

impl Person {
    /// Sits down at a display.
    ///
    /// # Panics
    /// When the display has no keyboard of its own.
    pub fn sit_down(display: &Display) -> Person {
        Person::at(display.name())
    }

    /// Sits down at a display by its name.
    ///
    /// # Panics
    /// When the display does not answer or has no keyboard of its own.
    pub fn at(display: &str) -> Person {
        let conn = connect(display);
        let root = conn.setup().roots[0].root;
        conn.xinput_xi_query_version(2, 2).expect("it listens").reply().expect("it has XInput 2");
        let first = conn
            .extension_information(xinput::X11_EXTENSION_NAME)
            .expect("the server listens")
            .expect("it has XInput")
            .first_event;
        let devices =
            conn.xinput_xi_query_device(0u16).expect("it listens").reply().expect("it answers");
        let real = |kind: DeviceType| {
            let is_it = |info: &&xinput::XIDeviceInfo| {
                info.type_ == kind && !String::from_utf8_lossy(&info.name).contains("XTEST")
            };
            devices.infos.iter().find(is_it).expect("the server has one").deviceid as u8
        };
        let keyboard = real(DeviceType::SLAVE_KEYBOARD);
        let mouse = real(DeviceType::SLAVE_POINTER);
        let masks = [EventMask {
            deviceid: 1,
            mask: vec![XIEventMask::RAW_KEY_PRESS | XIEventMask::RAW_KEY_RELEASE],
        }];
        conn.xinput_xi_select_events(root, &masks).expect("it listens");
        conn.flush().expect("it listens");
        Person { conn, root, keyboard, mouse, first, checked: true }
    }

    /// Presses without looking whether the press arrived; for benchmarks.
    pub fn unchecked(mut self) -> Person {
        self.conn
            .xinput_xi_select_events(
                self.root,
                &[EventMask { deviceid: 1, mask: vec![XIEventMask::from(0u32)] }],
            )
            .expect("it listens");
        self.checked = false;
        self
    }

    /// Presses a key of the board by its name, and leaves it down.
    pub fn press(&mut self, name: &str) {
        self.send(named(name), true);
    }

    /// Lets a key go.
    pub fn release(&mut self, name: &str) {
        self.send(named(name), false);
    }

    /// Presses keys in order, `ctrl+shift+f9`, and lets them go in reverse; several together are down
    /// for a moment, as under the fastest hand.
    pub fn tap(&mut self, combo: &str) {
        let keys: Vec<Key> = combo.split('+').map(named).collect();
        for key in &keys {
            self.send(*key, true);
        }
        if keys.len() > 1 {
            pass_time(FAST_HAND);
        }
        for key in keys.iter().rev() {
            self.send(*key, false);
        }
    }

    /// Taps keys one after another, as fast as no hand is: every five milliseconds something moves.
    pub fn type_keys(&mut self, names: &[&str]) {
        for name in names {
            self.press(name);
            pass_time(FAST_HAND);
            self.release(name);
            pass_time(FAST_HAND);
        }
    }

    fn send(&mut self, key: Key, down: bool) {
        if let Some(button) = key.button() {
            self.send_button(button, down);
            return;
        }
        let code = key.kernel().expect("a key of the keyboard") as u8 + 8;
        let kind = self.first + DEVICE_KEY_PRESS + u8::from(!down);
        self.conn
            .xtest_fake_input(kind, code, CURRENT_TIME, x11rb::NONE, 0, 0, self.keyboard)
            .expect("the server listens");
        self.conn.flush().expect("the server listens");
        if !self.checked {
            return;
        }
        let keyboard = u16::from(self.keyboard);
        wait_for(&self.conn, "the press to be seen as the keyboard's own", |event| match event {
            Event::XinputRawKeyPress(raw) if down && raw.detail == u32::from(code) => {
                raw.sourceid == keyboard
            }
            Event::XinputRawKeyRelease(raw) if !down && raw.detail == u32::from(code) => {
                raw.sourceid == keyboard
            }
            _ => false,
        });
    }

    /// A button of the server's own mouse; those it does not have come as from a mouse that
    /// another program plays.
    fn send_button(&mut self, button: u8, down: bool) {
        let (kind, device) = if button <= REAL_BUTTONS {
            (self.first + DEVICE_BUTTON_PRESS + u8::from(!down), self.mouse)
        } else {
            (xproto::BUTTON_PRESS_EVENT + u8::from(!down), 0)
        };
        self.conn
            .xtest_fake_input(kind, button, CURRENT_TIME, x11rb::NONE, 0, 0, device)
            .expect("the server listens");
        self.conn.get_input_focus().expect("it listens").reply().expect("it answers");
    }

    /// Unplugs the keyboard: its events reach no client any more.
    pub fn unplug(&self) {
        let deviceid = self.keyboard.into();
        let detach = xinput::HierarchyChangeDataDetachSlave { deviceid };
        self.change_devices(xinput::HierarchyChangeData::DetachSlave(detach));
    }

    /// Plugs the keyboard in again.
    pub fn plug_in(&self) {
        let masters = self.conn.xinput_xi_query_device(1u16).expect("it listens").reply();
        let is_board = |info: &&xinput::XIDeviceInfo| info.type_ == DeviceType::MASTER_KEYBOARD;
        let masters = masters.expect("it answers").infos;
        let master = masters.iter().find(is_board).expect("there is a master").deviceid;
        let attach =
            xinput::HierarchyChangeDataAttachSlave { deviceid: self.keyboard.into(), master };
        self.change_devices(xinput::HierarchyChangeData::AttachSlave(attach));
    }

    fn change_devices(&self, data: xinput::HierarchyChangeData) {
        const WORDS: u16 = 2;
        let change = xinput::HierarchyChange { len: WORDS, data };
        let conn = &self.conn;
        conn.xinput_xi_change_hierarchy(&[change]).expect("it listens").check().expect("it may");
    }

    /// Divides the screen into two, side by side, and later makes one of them again.
    pub fn divide_screen(&self, divided: bool) {
        let (conn, root) = (&self.conn, self.root);
        let all = conn.randr_get_screen_resources(root).expect("it listens").reply();
        let outputs = all.expect("it answers").outputs;
        // The left half takes the place of the whole, as it has its output.
        for (name, x, outputs) in [("left", 0, outputs), ("right", 640, Vec::new())] {
            let name = conn.intern_atom(false, name.as_bytes()).expect("it listens");
            let name = name.reply().expect("it answers").atom;
            if divided {
                let (width, height) = (640, 800);
                let half =
                    randr::MonitorInfo { name, x, width, height, outputs, ..Default::default() };
                conn.randr_set_monitor(root, half).expect("it listens");
            } else {
                conn.randr_delete_monitor(root, name).expect("it listens");
            }
        }
        conn.get_input_focus().expect("it listens").reply().expect("it answers");
    }

    /// Sets the order of buttons, as a left hand has it.
    pub fn set_button_order(&self, order: &[u8]) {
        let count = self.conn.get_pointer_mapping().expect("it listens").reply();
        let mut map = count.expect("it answers").map;
        map[..order.len()].copy_from_slice(order);
        self.conn.set_pointer_mapping(&map).expect("it listens").reply().expect("it answers");
    }

    /// Sets the order of buttons of one mouse, as `xinput` does it; the rest stay as they are.
    pub fn set_button_order_of(&self, mouse: &str, order: &[u8]) {
        let devices = self.conn.xinput_xi_query_device(0u16).expect("it listens").reply();
        let infos = devices.expect("it answers").infos;
        let info = infos.iter().find(|info| info.name == mouse.as_bytes());
        let device = info.expect("it is plugged in").deviceid as u8;
        let map = self.conn.xinput_get_device_button_mapping(device).expect("it listens").reply();
        let mut map = map.expect("it answers").map;
        map[..order.len()].copy_from_slice(order);
        let set = self.conn.xinput_set_device_button_mapping(device, &map);
        set.expect("the server listens").reply().expect("it answers");
    }

    /// Waits until the server has done all that it was sent.
    pub fn wait_for_server(&self) {
        self.conn.get_input_focus().expect("it listens").reply().expect("it answers");
    }

    /// Moves the pointer by pixels.
    pub fn move_pointer(&mut self, x: i16, y: i16) {
        self.conn
            .warp_pointer(x11rb::NONE, x11rb::NONE, 0, 0, 0, 0, x, y)
            .expect("the server listens");
        self.conn.get_input_focus().expect("it listens").reply().expect("it answers");
    }

    /// Moves the mouse itself, by steps, as a hand does: each in a moment of its own.
    pub fn draw(&mut self, steps: &[(i32, i32)]) {
        for step in steps {
            self.move_mouse(*step);
            pass_time(Duration::from_millis(2));
        }
    }

    /// The movement follows in a second event, for which there is no ready request.
    fn move_mouse(&mut self, (x, y): (i32, i32)) {
        const FAKE_INPUT: u8 = 2;
        const WORDS: u16 = 1 + 2 * 8;
        const BY_STEPS: u8 = 1;
        const AXES: u8 = 2;
        let xtest = self.conn.extension_information("XTEST").expect("it listens");
        let mut request = vec![xtest.expect("it has it").major_opcode, FAKE_INPUT];
        request.extend(WORDS.to_ne_bytes());
        let mut first = [0; 32];
        (first[0], first[1], first[31]) = (self.first + DEVICE_MOTION, BY_STEPS, self.mouse);
        let mut second = [0; 32];
        (second[0], second[1], second[6]) = (self.first, self.mouse, AXES);
        second[8..12].copy_from_slice(&x.to_ne_bytes());
        second[12..16].copy_from_slice(&y.to_ne_bytes());
        request.extend(first);
        request.extend(second);
        let parts = [std::io::IoSlice::new(&request)];
        let sent = self.conn.send_request_without_reply(&parts, Vec::new());
        sent.expect("it listens").check().expect("it moves");
    }

    /// Lets a program move the pointer to a position, as a remote session does.
    pub fn put_pointer(&mut self, x: i16, y: i16) {
        let (kind, root) = (xproto::MOTION_NOTIFY_EVENT, self.root);
        let moved = self.conn.xtest_fake_input(kind, 0, CURRENT_TIME, root, x, y, 0);
        moved.expect("it listens").check().expect("it moves");
    }

    /// The keycodes that the server has as down, by any device.
    pub fn keys_down(&self) -> BTreeSet<u8> {
        let reply = self.conn.query_keymap().expect("it listens").reply().expect("it answers");
        let bit = |code: &u8| reply.keys[usize::from(*code) / 8] & (1 << (code % 8)) != 0;
        (0..=u8::MAX).filter(bit).collect()
    }

    /// The keycodes that are down on the keyboard itself.
    pub fn real_keys_down(&self) -> BTreeSet<u8> {
        let cookie = self.conn.xinput_query_device_state(self.keyboard).expect("it listens");
        let classes = cookie.reply().expect("it answers").classes;
        let keys = classes.into_iter().find_map(|class| match class.data {
            xinput::InputStateData::Key(state) => Some(state.keys),
            _ => None,
        });
        let keys = keys.expect("a keyboard has keys");
        let bit = |code: &u8| keys[usize::from(*code) / 8] & (1 << (code % 8)) != 0;
        (0..=u8::MAX).filter(bit).collect()
    }

    /// Turns the server's sticky keys on or off.
    pub fn set_sticky_keys(&self, on: bool) {
        self.set_help(xkb::BoolCtrl::STICKY_KEYS, on);
    }

    /// Turns slow keys on or off: a key counts only when it was held for a while.
    pub fn set_slow_keys(&self, on: bool) {
        self.set_help(xkb::BoolCtrl::SLOW_KEYS, on);
    }

    /// Turns bounce keys on or off: a key pressed again at once does not count.
    pub fn set_bounce_keys(&self, on: bool) {
        self.set_help(xkb::BoolCtrl::BOUNCE_KEYS, on);
    }

    /// Turns mouse keys on or off: the number pad moves the pointer.
    pub fn set_mouse_keys(&self, on: bool) {
        self.set_help(xkb::BoolCtrl::MOUSE_KEYS, on);
    }

    fn set_help(&self, help: xkb::BoolCtrl, on: bool) {
        self.conn.xkb_use_extension(1, 0).expect("it listens").reply().expect("it answers");
        let keyboard = xkb::ID::USE_CORE_KBD.into();
        let old = self.conn.xkb_get_controls(keyboard).expect("it listens").reply();
        let old = old.expect("it answers");
        let none = xproto::ModMask::from(0u16);
        let virtual_none = xkb::VMod::from(0u16);
        let enabled = if on { help } else { xkb::BoolCtrl::from(0u32) };
        self.conn
            .xkb_set_controls(
                keyboard,
                none,
                none,
                none,
                none,
                virtual_none,
                virtual_none,
                virtual_none,
                virtual_none,
                old.mouse_keys_dflt_btn,
                old.groups_wrap,
                old.access_x_option,
                help,
                enabled,
                xkb::Control::from(0u32),
                old.repeat_delay,
                old.repeat_interval,
                old.slow_keys_delay,
                old.debounce_delay,
                old.mouse_keys_delay,
                old.mouse_keys_interval,
                old.mouse_keys_time_to_max,
                old.mouse_keys_max_speed,
                old.mouse_keys_curve,
                old.access_x_timeout,
                old.access_x_timeout_mask,
                old.access_x_timeout_values,
                old.access_x_timeout_options_mask,
                old.access_x_timeout_options_values,
                &old.per_key_repeat,
            )
            .expect("it listens");
        self.conn.get_input_focus().expect("it listens").reply().expect("it answers");
    }

    /// Waits until no key is down: what is put back after a step may be under way.
    ///
    /// # Panics
    /// When one stays down.
    pub fn expect_no_keys_down(&self) {
        let end = Instant::now() + Duration::from_millis(PATIENCE_MS);
        while !self.keys_down().is_empty() {
            assert!(Instant::now() < end, "keys stay down: {:?}", self.keys_down());
        }
    }

    /// Whether pointer buttons are down.
    pub fn buttons_down(&self) -> bool {
        let reply = self.conn.query_pointer(self.root).expect("it listens").reply();
        u16::from(reply.expect("it answers").mask) & 0x1f00 != 0
    }

    /// Where the pointer is.
    pub fn pointer(&self) -> (i16, i16) {
        let reply = self.conn.query_pointer(self.root).expect("it listens").reply();
        let reply = reply.expect("it answers");
        (reply.root_x, reply.root_y)
    }

    /// How many windows lie on the root window.
    pub fn windows(&self) -> usize {
        let tree = self.conn.query_tree(self.root).expect("it listens").reply();
        tree.expect("it answers").children.len()
    }

    /// Waits until so many windows lie on the root window; gives how many do in the end.
    pub fn wait_windows(&self, count: usize) -> usize {
        let events = EventMaskCore::SUBSTRUCTURE_NOTIFY;
        let mask = xproto::ChangeWindowAttributesAux::new().event_mask(events);
        self.conn.change_window_attributes(self.root, &mask).expect("it listens");
        if self.windows() != count {
            wait_for(&self.conn, "a window to come or go", |event| {
                matches!(event, Event::CreateNotify(_) | Event::DestroyNotify(_))
                    && self.windows() == count
            });
        }
        self.windows()
    }

    /// Switches to a group of the layout, counted from 0.
    pub fn set_group(&self, group: u8) {
        self.conn.xkb_use_extension(1, 0).expect("it listens").reply().expect("it answers");
        let keyboard = xkb::ID::USE_CORE_KBD.into();
        let none = xproto::ModMask::from(0u16);
        let group = xkb::Group::from(group);
        self.conn
            .xkb_latch_lock_state(keyboard, none, none, true, group, none, false, 0)
            .expect("it listens");
        self.conn.get_input_focus().expect("it listens").reply().expect("it answers");
    }

    /// Locks or unlocks caps lock and num lock.
    pub fn set_locks(&self, caps: bool, num: bool) {
        let mask = |on: bool, mask: u16| if on { mask } else { 0 };
        let locks = xproto::ModMask::from(mask(caps, 2) | mask(num, 16));
        let all = xproto::ModMask::from(2u16 | 16);
        let none = xproto::ModMask::from(0u16);
        self.conn.xkb_use_extension(1, 0).expect("it listens").reply().expect("it answers");
        let keyboard = xkb::ID::USE_CORE_KBD.into();
        self.conn
            .xkb_latch_lock_state(keyboard, all, locks, false, xkb::Group::M1, none, false, 0)
            .expect("it listens");
        self.conn.get_input_focus().expect("it listens").reply().expect("it answers");
    }
}

fn named(name: &str) -> Key {
    if let Some(family) = lantern_model::Modifier::from_word(name) {
        return ModifierKey::key(family.default_key());
    }
    let key = Key::named(name).unwrap_or_else(|| panic!("no key {name}"));
    Layout::us().resolve(lantern_model::KeySpec::Placed(key)).unwrap_or(key)
}
