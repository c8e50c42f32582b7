//! The person at the keyboard of a Wayland session: a keyboard of another client than the one under test.

use std::collections::BTreeSet;
use std::fs::File;
use std::io::Write;
use std::os::fd::AsFd;
use std::os::unix::net::UnixStream;

use lantern_model::{Key, Modifier};
use rustix::fs::{MemfdFlags, memfd_create};
use wayland_client::globals::{GlobalListContents, registry_queue_init};
use wayland_client::protocol::wl_keyboard::KeymapFormat;
use wayland_client::protocol::wl_registry::WlRegistry;
use wayland_client::protocol::wl_seat::{self, WlSeat};
use wayland_client::{Connection, Dispatch, EventQueue, QueueHandle, delegate_noop};
use wayland_protocols_misc::zwp_virtual_keyboard_v1::client::zwp_virtual_keyboard_manager_v1::ZwpVirtualKeyboardManagerV1;
use wayland_protocols_misc::zwp_virtual_keyboard_v1::client::zwp_virtual_keyboard_v1::ZwpVirtualKeyboardV1;

use crate::wayland::WaylandSession;

/// The session's layout, from the files of XKB.
const KEYMAP: &str = "xkb_keymap {
xkb_keycodes { include \"evdev+aliases(qwerty)\" };
xkb_types { include \"complete\" };
xkb_compat { include \"complete\" };
xkb_symbols { include \"pc+LAYOUT+inet(evdev)\" };
};
";

/// The person.
#[derive(Debug)]
pub struct WaylandPerson {
    keyboard: ZwpVirtualKeyboardV1,
    queue: EventQueue<Nothing>,
    down: BTreeSet<u16>,
    time: u32,
}

#[derive(Debug)]
struct Nothing;

impl WaylandPerson {
    /// Joins a session with a keyboard of that layout.
    ///
    /// # Panics
    /// When the compositor lacks virtual keyboards.
    pub fn join(session: &WaylandSession, layout: &str) -> WaylandPerson {
        let stream = UnixStream::connect(session.path().join("wayland-1")).expect("it is there");
        let connection = Connection::from_socket(stream).expect("it is a compositor");
        let (globals, mut queue) = registry_queue_init::<Nothing>(&connection).expect("it answers");
        let handle = queue.handle();
        let seat: WlSeat = globals.bind(&handle, 1..=1, ()).expect("it has a seat");
        let keyboards: ZwpVirtualKeyboardManagerV1 =
            globals.bind(&handle, 1..=1, ()).expect("it has virtual keyboards");
        let keyboard = keyboards.create_virtual_keyboard(&seat, &handle, ());
        let text = KEYMAP.replace("LAYOUT", layout);
        let memory = memfd_create("keymap", MemfdFlags::CLOEXEC).expect("it can be made");
        let mut memory = File::from(memory);
        memory.write_all(text.as_bytes()).expect("there is room");
        memory.write_all(&[0]).expect("there is room");
        keyboard.keymap(KeymapFormat::XkbV1 as u32, memory.as_fd(), text.len() as u32 + 1);
        queue.roundtrip(&mut Nothing).expect("it answers");
        WaylandPerson { keyboard, queue, down: BTreeSet::new(), time: 1 }
    }

    /// Presses a key.
    ///
    /// # Panics
    /// When no key has the name, or the compositor is gone.
    pub fn press(&mut self, name: &str) {
        self.send(name, true);
    }

    /// Releases a key.
    ///
    /// # Panics
    /// As [`WaylandPerson::press`].
    pub fn release(&mut self, name: &str) {
        self.send(name, false);
    }

    /// Presses keys that are joined by `+`, and releases them.
    ///
    /// # Panics
    /// As [`WaylandPerson::press`].
    pub fn tap(&mut self, keys: &str) {
        keys.split('+').for_each(|key| self.press(key));
        keys.split('+').rev().for_each(|key| self.release(key));
    }

    fn send(&mut self, name: &str, is_down: bool) {
        let side = Modifier::from_word(name).map(|family| family.default_key().key());
        let key = side.or_else(|| Key::named(name));
        let code = key.and_then(Key::kernel).expect("the keyboard has it");
        self.time += 1;
        self.keyboard.key(self.time, code.into(), u32::from(is_down));
        if is_down {
            self.down.insert(code);
        } else {
            self.down.remove(&code);
        }
        let mask = self.down.iter().fold(0, |mask, code| mask | modifier_mask(*code));
        self.keyboard.modifiers(mask, 0, 0, 0);
        self.queue.roundtrip(&mut Nothing).expect("the compositor answers");
    }
}

/// The modifier of XKB that a key is.
fn modifier_mask(code: u16) -> u32 {
    match code {
        42 | 54 => 1,
        29 | 97 => 1 << 2,
        56 => 1 << 3,
        125 | 126 => 1 << 6,
        _ => 0,
    }
}

impl Dispatch<WlRegistry, GlobalListContents> for Nothing {
    fn event(
        _: &mut Self,
        _: &WlRegistry,
        _: wayland_client::protocol::wl_registry::Event,
        _: &GlobalListContents,
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
    }
}

impl Dispatch<WlSeat, ()> for Nothing {
    fn event(
        _: &mut Self,
        _: &WlSeat,
        _: wl_seat::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
    }
}

delegate_noop!(Nothing: ZwpVirtualKeyboardManagerV1);
delegate_noop!(Nothing: ZwpVirtualKeyboardV1);
