//! The floor: one key, taken and answered with the fewest requests that can do it.

use x11rb::connection::Connection;
use x11rb::protocol::Event;
use x11rb::protocol::xinput::{
    ConnectionExt as _, GrabMode22, GrabOwner, GrabType, InputStateData, XIEventMask,
};
use x11rb::protocol::xproto::{GrabMode, KEY_PRESS_EVENT, KEY_RELEASE_EVENT};
use x11rb::protocol::xtest::ConnectionExt as _;
use x11rb::rust_connection::RustConnection;

const A: u8 = 38;
/// Left control and left shift, the only ones that this client knows.
const HELD: [u8; 2] = [37, 50];

/// Does what `task` says with a key or button of that number, until it is ended.
pub fn work(task: &str, detail: u8) {
    match task {
        "lifting" => answer_key(detail, true),
        "button" => answer_button(detail),
        _ => answer_key(detail, false),
    }
}

/// Answers a button with `a`.
fn answer_button(button: u8) {
    let (conn, screen) = RustConnection::connect(None).expect("the display answers");
    let root = conn.setup().roots[screen].root;
    conn.xinput_xi_query_version(2, 2).expect("it listens").reply().expect("it answers");
    let events = XIEventMask::BUTTON_PRESS | XIEventMask::BUTTON_RELEASE;
    conn.xinput_xi_passive_grab_device(
        x11rb::CURRENT_TIME,
        root,
        x11rb::NONE,
        button.into(),
        2u16,
        GrabType::BUTTON,
        GrabMode22::ASYNC,
        GrabMode::ASYNC,
        GrabOwner::NO_OWNER,
        &[events.into()],
        &[0, 2, 16, 18],
    )
    .expect("it listens")
    .reply()
    .expect("it answers");
    eprintln!("floor at work");
    while let Ok(event) = conn.wait_for_event() {
        if matches!(event, Event::XinputButtonPress(_)) {
            fake(&conn, KEY_PRESS_EVENT, A);
            fake(&conn, KEY_RELEASE_EVENT, A);
            conn.flush().expect("it listens");
        }
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

/// Answers a key, alone or under ctrl+shift, with `a`.
fn answer_key(key: u8, lifting: bool) {
    let (conn, screen) = RustConnection::connect(None).expect("the display answers");
    let root = conn.setup().roots[screen].root;
    conn.xinput_xi_query_version(2, 2).expect("it listens").reply().expect("it answers");
    let base: u32 = if lifting { 1 | 4 } else { 0 };
    let masks = [base, base | 2, base | 16, base | 18];
    let events = XIEventMask::KEY_PRESS | XIEventMask::KEY_RELEASE;
    conn.xinput_xi_passive_grab_device(
        x11rb::CURRENT_TIME,
        root,
        x11rb::NONE,
        key.into(),
        3u16,
        GrabType::KEYCODE,
        GrabMode22::ASYNC,
        GrabMode::ASYNC,
        GrabOwner::NO_OWNER,
        &[events.into()],
        &masks,
    )
    .expect("it listens")
    .reply()
    .expect("it answers");
    eprintln!("floor at work");
    loop {
        let Ok(event) = conn.wait_for_event() else {
            return;
        };
        if !matches!(event, Event::XinputKeyPress(_)) {
            continue;
        }
        fake(&conn, KEY_RELEASE_EVENT, key);
        if lifting {
            HELD.into_iter().for_each(|code| fake(&conn, KEY_RELEASE_EVENT, code));
        }
        fake(&conn, KEY_PRESS_EVENT, A);
        fake(&conn, KEY_RELEASE_EVENT, A);
        conn.flush().expect("it listens");
        if lifting {
            put_back(&conn);
        }
    }
}

fn put_back(conn: &RustConnection) {
    let down = real_keys(conn);
    let again: Vec<u8> = HELD.into_iter().filter(|code| is_set(&down, *code)).collect();
    again.iter().for_each(|code| fake(conn, KEY_PRESS_EVENT, *code));
    let down = real_keys(conn);
    let gone = again.into_iter().filter(|code| !is_set(&down, *code));
    gone.for_each(|code| fake(conn, KEY_RELEASE_EVENT, code));
    conn.flush().expect("it listens");
}

fn real_keys(conn: &RustConnection) -> [u8; 32] {
    const KEYBOARD: u8 = 7;
    let state = conn.xinput_query_device_state(KEYBOARD).expect("it listens");
    let state = state.reply().expect("it answers");
    let keys = state.classes.into_iter().find_map(|class| match class.data {
        InputStateData::Key(keys) => Some(keys.keys),
        _ => None,
    });
    keys.expect("a keyboard has keys")
}

fn is_set(keys: &[u8; 32], code: u8) -> bool {
    keys[usize::from(code) / 8] & (1 << (code % 8)) != 0
}

fn fake(conn: &RustConnection, kind: u8, code: u8) {
    conn.xtest_fake_input(kind, code, x11rb::CURRENT_TIME, x11rb::NONE, 0, 0, 0)
        .expect("it listens");
}
