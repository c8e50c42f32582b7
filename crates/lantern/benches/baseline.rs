//! The baseline: one key, taken and answered with the fewest requests that can do it.

use x11rb::connection::Connection;
use x11rb::protocol::Event;
use x11rb::protocol::xinput::{
    ConnectionExt as _, EventMask, GrabMode22, GrabOwner, GrabType, InputStateData, XIEventMask,
};
use x11rb::protocol::xkb::ConnectionExt as _;
use x11rb::protocol::xproto::{GrabMode, KEY_PRESS_EVENT, KEY_RELEASE_EVENT, Window};
use x11rb::protocol::xtest::ConnectionExt as _;
use x11rb::rust_connection::RustConnection;

const A: u8 = 38;
/// Left control and left shift, the only ones that this client knows.
const HELD: [u8; 2] = [37, 50];

/// Does what `task` says with a key or button of that number, until it is ended.
pub fn work(task: &str, detail: u8) {
    let baseline = Baseline::connect();
    match task {
        "lifting" => baseline.answer_key(detail, true),
        "remap" => baseline.stand_in(detail),
        "button" => baseline.answer_button(detail),
        _ => baseline.answer_key(detail, false),
    }
}

/// Types so many `a` by nothing but XTEST.
pub fn type_bare(conn: &RustConnection, count: usize) {
    for _ in 0..count {
        fake(conn, KEY_PRESS_EVENT, A);
        fake(conn, KEY_RELEASE_EVENT, A);
    }
    conn.flush().expect("it listens");
}

struct Baseline {
    conn: RustConnection,
    root: Window,
}

impl Baseline {
    fn connect() -> Baseline {
        let (conn, screen) = RustConnection::connect(None).expect("the display answers");
        let root = conn.setup().roots[screen].root;
        conn.xinput_xi_query_version(2, 2).expect("it listens").reply().expect("it answers");
        // A client without XKB is woken at each key, by any client's answer: the server reports a
        // change of the keyboard to it.
        conn.xkb_use_extension(1, 0).expect("it listens").reply().expect("it answers");
        Baseline { conn, root }
    }

    /// Answers a button with `a`.
    fn answer_button(&self, button: u8) {
        let events = XIEventMask::BUTTON_PRESS | XIEventMask::BUTTON_RELEASE;
        self.take((2, GrabType::BUTTON, button), events, 0);
        while let Ok(event) = self.conn.wait_for_event() {
            if matches!(event, Event::XinputButtonPress(_)) {
                self.send([(KEY_PRESS_EVENT, A), (KEY_RELEASE_EVENT, A)]);
            }
        }
    }

    /// Answers a key, alone or under ctrl+shift, with `a`.
    fn answer_key(&self, key: u8, lifting: bool) {
        self.take_key(key, if lifting { 1 | 4 } else { 0 });
        while let Ok(event) = self.conn.wait_for_event() {
            if !matches!(event, Event::XinputKeyPress(_)) {
                continue;
            }
            let held = HELD.into_iter().filter(|_| lifting).map(|code| (KEY_RELEASE_EVENT, code));
            let tap = [(KEY_PRESS_EVENT, A), (KEY_RELEASE_EVENT, A)];
            self.send([(KEY_RELEASE_EVENT, key)].into_iter().chain(held).chain(tap));
            if lifting {
                self.put_back();
            }
        }
    }

    /// `a` is down in place of a key as long as the finger is on it.
    fn stand_in(&self, key: u8) {
        self.take_key(key, 0);
        while let Ok(event) = self.conn.wait_for_event() {
            match event {
                Event::XinputKeyPress(_) => {
                    self.gather([(KEY_RELEASE_EVENT, key), (KEY_PRESS_EVENT, A)]);
                    // In one breath with the key, or the release may come first.
                    self.watch(XIEventMask::RAW_KEY_RELEASE);
                }
                Event::XinputRawKeyRelease(up) if up.detail == u32::from(key) => {
                    self.gather([(KEY_RELEASE_EVENT, A)]);
                    self.watch(XIEventMask::from(0u32));
                }
                _ => {}
            }
        }
    }

    fn take_key(&self, key: u8, modifiers: u32) {
        let events = XIEventMask::KEY_PRESS | XIEventMask::KEY_RELEASE;
        self.take((3, GrabType::KEYCODE, key), events, modifiers);
    }

    /// Takes a key or button of a master device, under these modifiers and any locks.
    fn take(
        &self,
        (device, kind, detail): (u16, GrabType, u8),
        events: XIEventMask,
        modifiers: u32,
    ) {
        let masks = [0, 2, 16, 18].map(|locks| modifiers | locks);
        let conn = &self.conn;
        conn.xinput_xi_passive_grab_device(
            x11rb::CURRENT_TIME,
            self.root,
            x11rb::NONE,
            detail.into(),
            device,
            kind,
            GrabMode22::ASYNC,
            GrabMode::ASYNC,
            GrabOwner::NO_OWNER,
            &[events.into()],
            &masks,
        )
        .expect("it listens")
        .reply()
        .expect("it answers");
        eprintln!("baseline active on the display");
    }

    fn gather(&self, steps: impl IntoIterator<Item = (u8, u8)>) {
        steps.into_iter().for_each(|(kind, code)| fake(&self.conn, kind, code));
    }

    fn send(&self, steps: impl IntoIterator<Item = (u8, u8)>) {
        self.gather(steps);
        self.conn.flush().expect("it listens");
    }

    /// Asks for these events of the real keys, and sends what was gathered with it.
    fn watch(&self, events: XIEventMask) {
        const ALL_MASTERS: u16 = 1;
        let masks = [EventMask { deviceid: ALL_MASTERS, mask: vec![events] }];
        self.conn.xinput_xi_select_events(self.root, &masks).expect("it listens");
        self.conn.flush().expect("it listens");
    }

    /// Presses the modifiers again that fingers are on still.
    fn put_back(&self) {
        let down = self.real_keys();
        let again = || HELD.into_iter().filter(|code| is_set(&down, *code));
        again().for_each(|code| fake(&self.conn, KEY_PRESS_EVENT, code));
        let down = self.real_keys();
        let gone = again().filter(|code| !is_set(&down, *code));
        self.send(gone.map(|code| (KEY_RELEASE_EVENT, code)));
    }

    fn real_keys(&self) -> [u8; 32] {
        const KEYBOARD: u8 = 7;
        let state = self.conn.xinput_query_device_state(KEYBOARD).expect("it listens");
        let state = state.reply().expect("it answers");
        let keys = state.classes.into_iter().find_map(|class| match class.data {
            InputStateData::Key(keys) => Some(keys.keys),
            _ => None,
        });
        keys.expect("a keyboard has keys")
    }
}

fn is_set(keys: &[u8; 32], code: u8) -> bool {
    keys[usize::from(code) / 8] & (1 << (code % 8)) != 0
}

fn fake(conn: &RustConnection, kind: u8, code: u8) {
    conn.xtest_fake_input(kind, code, x11rb::CURRENT_TIME, x11rb::NONE, 0, 0, 0)
        .expect("it listens");
}
