//! A display with an active input method.

use lantern_model::{EffectId, Event, InputAction, InputBatch, Key, Time};
use lantern_stage::Display;
use x11rb::connection::Connection;
use x11rb::protocol::Event as XEvent;
use x11rb::protocol::xproto::{
    AtomEnum, ConnectionExt as _, CreateWindowAux, PropMode, WindowClass,
};
use x11rb::rust_connection::RustConnection;
use x11rb::wrapper::ConnectionExt as _;

use crate::clauses::Bench;
use crate::real::Real;

/// What programs find where an input method is at work; there is none.
fn announce(display: &Display) -> RustConnection {
    let conn = display.connect();
    let root = conn.setup().roots[0].root;
    let atom = |name: &str| {
        let cookie = conn.intern_atom(false, name.as_bytes()).expect("it listens");
        cookie.reply().expect("it answers").atom
    };
    let (server, servers) = (atom("@server=bench"), atom("XIM_SERVERS"));
    let window = conn.generate_id().expect("there are numbers");
    let (class, look) = (WindowClass::INPUT_ONLY, CreateWindowAux::new());
    conn.create_window(0, window, root, -1, -1, 1, 1, 0, class, 0, &look).expect("it listens");
    conn.set_selection_owner(window, server, 0u32).expect("it listens");
    let listed = conn.change_property32(PropMode::APPEND, root, servers, AtomEnum::ATOM, &[server]);
    listed.expect("it listens").check().expect("it may");
    conn
}

/// Types a letter, and sees to all that is due after it; when it was.
fn type_letter(bench: &mut Real) -> Vec<u64> {
    perform(bench, InputAction::Text("a".into()))
}

fn perform(bench: &mut Real, act: InputAction) -> Vec<u64> {
    let step = InputBatch { actions: vec![act], ..InputBatch::default() };
    bench.backend().send_input(Time::START, EffectId(1), &step).expect("it is there");
    assert!(matches!(bench.events()[..], [Event::Outcome { result: Ok(_), .. }]));
    let mut dues = Vec::new();
    while let Some(due) = bench.backend().next_deadline() {
        dues.push(due.since(Time::START).as_millis() as u64);
        bench.backend().handle_deadline(due).expect("it is there");
    }
    bench.settle();
    dues
}

#[test]
fn x11_input_methods_are_woken_for_a_while_after_something_was_typed_and_not_else() {
    let mut bench = Real::new();
    assert_eq!(type_letter(&mut bench), [0; 0], "there is none");
    let method = announce(&bench.display);
    bench.events();
    let woken = || {
        let came = std::iter::from_fn(|| method.poll_for_event().expect("the server is there"));
        came.filter(|event| matches!(event, XEvent::ClientMessage(_))).count()
    };
    assert_eq!(woken(), 0, "nothing was typed");
    let click = InputAction::Tap(vec![Key::named("left-button").expect("there is one")]);
    assert_eq!(perform(&mut bench, click), [0; 0], "clicks go past it");
    assert_eq!(woken(), 0);
    let dues = type_letter(&mut bench);
    assert_eq!(dues, [20, 40, 80, 160, 320, 640, 1280]);
    assert_eq!(woken(), dues.len());
    // One that is gone takes nothing with it.
    drop(method);
    type_letter(&mut bench);
    let got = bench.target.take_all();
    let letters = got.iter().filter(|got| !got.button).count();
    assert_eq!(letters, 6, "three letters, up and down");
}
