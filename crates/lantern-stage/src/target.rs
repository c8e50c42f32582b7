//! A bare window that covers the screen, has the keyboard, and tells every press it gets.

use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use x11rb::connection::Connection;
use x11rb::protocol::Event;
use x11rb::protocol::xproto::{
    AtomEnum, ConnectionExt as _, CreateWindowAux, EventMask, InputFocus, PropMode, Window,
    WindowClass,
};
use x11rb::rust_connection::RustConnection;
use x11rb::wrapper::ConnectionExt as _;

use crate::display::wait_for;
use crate::{Display, PATIENCE_MS, Person};

/// A press or release that the window got.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ReceivedKey {
    /// The keycode, or the button's number.
    pub detail: u8,
    /// Whether it went down.
    pub down: bool,
    /// Whether it is a button.
    pub button: bool,
    /// What was down beside it.
    pub state: u16,
    /// Where the pointer was, on the screen.
    pub place: (i16, i16),
    /// When the window read it.
    pub at: Instant,
}

/// The window.
#[derive(Debug)]
pub struct Target {
    conn: RustConnection,
    window: Window,
}

impl Target {
    /// Opens it in front of everything and gives it the keyboard.
    ///
    /// # Panics
    /// When the server does not do so.
    pub fn open(display: &Display) -> Target {
        Target::with(display, None)
    }

    /// Opens it as a program of that class, for the window manager to bring to the front.
    ///
    /// # Panics
    /// When the window manager does not do so.
    pub fn managed(display: &Display, class: &str) -> Target {
        Target::with(display, Some(class))
    }

    fn with(display: &Display, class: Option<&str>) -> Target {
        let conn = display.connect();
        let root = &conn.setup().roots[0];
        let window = conn.generate_id().expect("there are numbers left");
        let events = EventMask::KEY_PRESS
            | EventMask::KEY_RELEASE
            | EventMask::BUTTON_PRESS
            | EventMask::BUTTON_RELEASE
            | EventMask::EXPOSURE
            | EventMask::FOCUS_CHANGE;
        let unmanaged = u32::from(class.is_none());
        let look = CreateWindowAux::new().override_redirect(unmanaged).event_mask(events);
        let (width, height) = (root.width_in_pixels, root.height_in_pixels);
        let kind = WindowClass::INPUT_OUTPUT;
        let root = root.root;
        conn.create_window(0, window, root, 0, 0, width, height, 0, kind, 0, &look)
            .expect("the server listens");
        if let Some(class) = class {
            set_class(&conn, window, class);
        }
        conn.map_window(window).expect("the server listens");
        wait_for(&conn, "the window to be seen", |event| matches!(event, Event::Expose(_)));
        if class.is_none() {
            conn.set_input_focus(InputFocus::POINTER_ROOT, window, x11rb::CURRENT_TIME)
                .expect("the server listens");
        }
        wait_for(&conn, "the keyboard", |event| matches!(event, Event::FocusIn(_)));
        Target { conn, window }
    }

    /// The window's number.
    pub fn window(&self) -> Window {
        self.window
    }

    /// Says what a window manager would say of it: that it is in front, and of which program.
    pub fn pretend_active(&self, class: &str) {
        let root = self.conn.setup().roots[0].root;
        let name = b"_NET_ACTIVE_WINDOW";
        let atom = self.conn.intern_atom(false, name).expect("the server listens");
        let atom = atom.reply().expect("the server answers").atom;
        set_class(&self.conn, self.window, class);
        let mode = PropMode::REPLACE;
        self.conn
            .change_property32(mode, root, atom, AtomEnum::WINDOW, &[self.window])
            .expect("the server listens");
        self.conn.get_input_focus().expect("it listens").reply().expect("the server answers");
    }

    /// The next press of a key, past everything else.
    ///
    /// # Panics
    /// When it does not come in time.
    pub fn expect_press(&self, keycode: u8) -> ReceivedKey {
        loop {
            let got = self.expect(1)[0];
            if got.down && !got.button && got.detail == keycode {
                return got;
            }
        }
    }

    /// Takes in what follows a press until so many keys are down again.
    ///
    /// # Panics
    /// When that does not come about in time.
    pub fn settle(&self, person: &Person, keys_down: usize) {
        let end = Instant::now() + Duration::from_millis(PATIENCE_MS);
        loop {
            while self.next(Duration::from_micros(300)).is_some() {}
            if person.keys_down().len() == keys_down {
                // The release itself may have come between the two looks.
                self.take_all();
                return;
            }
            assert!(Instant::now() < end, "keys stay down: {:?}", person.keys_down());
        }
    }

    /// The next press or release, waiting no longer than `limit`.
    pub fn next(&self, limit: Duration) -> Option<ReceivedKey> {
        let end = Instant::now() + limit;
        loop {
            while let Some(event) = self.conn.poll_for_event().expect("the server is there") {
                if let Some(received) = received(&event) {
                    return Some(received);
                }
            }
            let left = end.saturating_duration_since(Instant::now());
            let left =
                Timespec { tv_sec: left.as_secs() as i64, tv_nsec: left.subsec_nanos().into() };
            let mut fds = [PollFd::new(self.conn.stream(), PollFlags::IN)];
            if poll(&mut fds, Some(&left)).expect("waiting works") == 0 {
                return None;
            }
        }
    }

    /// The next so many presses and releases.
    ///
    /// # Panics
    /// When they do not come in time.
    pub fn expect(&self, count: usize) -> Vec<ReceivedKey> {
        let limit = Duration::from_millis(PATIENCE_MS);
        let next = |number| {
            self.next(limit).unwrap_or_else(|| panic!("press {number} of {count} did not come"))
        };
        (0..count).map(next).collect()
    }

    /// Input events that the X server has sent to the window so far.
    ///
    /// # Panics
    /// When the server is gone.
    pub fn take_all(&self) -> Vec<ReceivedKey> {
        // Events precede the reply to a later request.
        self.conn.get_input_focus().expect("it listens").reply().expect("the server answers");
        let events =
            std::iter::from_fn(|| self.conn.poll_for_event().expect("the server is there"));
        events.filter_map(|event| received(&event)).collect()
    }

    /// Everything that comes until nothing has come for a while.
    pub fn rest(&self, quiet: Duration) -> Vec<ReceivedKey> {
        std::iter::from_fn(|| self.next(quiet)).collect()
    }
}

fn set_class(conn: &RustConnection, window: Window, class: &str) {
    let classes = format!("{class}\0{class}\0");
    let (name, kind) = (AtomEnum::WM_CLASS, AtomEnum::STRING);
    conn.change_property8(PropMode::REPLACE, window, name, kind, classes.as_bytes())
        .expect("the server listens");
}

fn received(event: &Event) -> Option<ReceivedKey> {
    let (detail, state, place, down, button) = match event {
        Event::KeyPress(key) => (key.detail, key.state, (key.root_x, key.root_y), true, false),
        Event::KeyRelease(key) => (key.detail, key.state, (key.root_x, key.root_y), false, false),
        Event::ButtonPress(press) => {
            (press.detail, press.state, (press.root_x, press.root_y), true, true)
        }
        Event::ButtonRelease(press) => {
            (press.detail, press.state, (press.root_x, press.root_y), false, true)
        }
        _ => return None,
    };
    Some(ReceivedKey { detail, down, button, state: state.into(), place, at: Instant::now() })
}
