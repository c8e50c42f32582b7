//! A compositor of the wlroots family, without root: keys by the input method's grab, input by virtual
//! devices. The person's keyboard belongs to another client; a terminal receives.

use lantern_stage::{Talking, WaylandPerson, WaylandReceiver, WaylandSession, wait_until};
use rustix::process::Signal;

/// A session with a person and a terminal in front, and rules at work.
struct Desk {
    running: Talking,
    person: WaylandPerson,
    terminal: WaylandReceiver,
    session: WaylandSession,
}

fn desk(rules: &str) -> Desk {
    desk_with("us", rules)
}

fn desk_with(layout: &str, rules: &str) -> Desk {
    let mut session = WaylandSession::start();
    let mut person = WaylandPerson::join(&session, layout);
    let terminal = session.open_receiver("corelog");
    // The first key of a fresh keyboard makes it the one of the seat.
    person.tap("left-shift");
    let running = run(&session, rules);
    Desk { running, person, terminal, session }
}

pub fn run(session: &WaylandSession, rules: &str) -> Talking {
    let file = session.write("bench.lantern", rules);
    let mut command = session.command(session.bring(env!("CARGO_BIN_EXE_lantern")));
    command.args(["run", "--log-level", "debug"]).arg(file);
    let mut talking = Talking::start(&mut command);
    talking.expect("active on the wlroots back end");
    talking
}

fn said(session: &WaylandSession, words: &[&str]) -> String {
    let lantern = session.bring(env!("CARGO_BIN_EXE_lantern")).display().to_string();
    session.ask(&lantern, words)
}

#[test]
fn a_key_types_any_text_and_other_keys_pass() {
    let mut desk = desk("when key f9 => type \"é€😀ß−° 12\"\nwhen key ctrl+alt+k => type \"k\"\n");
    desk.person.tap("a");
    desk.person.tap("f9");
    desk.person.tap("left-ctrl+left-alt+k");
    desk.person.tap("left-shift+b");
    desk.terminal.expect("aé€😀ß−° 12kB");
    let status = said(&desk.session, &["status"]);
    assert!(status.contains("the keyboard grab of an input method"), "{status}");
}

#[test]
fn two_thousand_characters_of_many_alphabets_arrive() {
    // A linear congruential generator, so that a failure can be seen again.
    let mut state = 2031_u32;
    let alphabets =
        [(0xa1, 0x17f), (0x391, 0x3c9), (0x410, 0x44f), (0x4e00, 0x9f00), (0x1f300, 0x1f64f)];
    let text: String = (0..2000)
        .filter_map(|_| {
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            let (from, to) = alphabets[(state >> 8) as usize % alphabets.len()];
            char::from_u32(from + (state >> 12) % (to - from))
                .filter(|c| *c != '\u{ad}' && *c != '\u{3a2}')
        })
        .collect();
    let mut desk = desk(&format!("when key f9 => type \"{text}\"\n"));
    desk.person.tap("f9");
    desk.terminal.expect(&text);
}

#[test]
fn input_of_rules_fires_no_rule() {
    let mut desk = desk("when key f9 { tap b; tap c }\nwhen key b => type \"wrong\"\n");
    desk.person.tap("f9");
    desk.terminal.expect("bc");
    desk.person.tap("b");
    desk.terminal.expect("bcwrong");
}

#[test]
fn taps_long_presses_sequences_remaps_and_abbreviations_work() {
    let mut desk = desk(
        "when key f1 tapped => type \"T\"\nwhen key f2 held 200ms => type \"L\"\n\
         when keys f3, f4 => type \"S\"\nremap caps-lock to tab\n\
         when typed \"brw\" => type \"by return\"\n",
    );
    desk.person.tap("f1");
    desk.terminal.expect("T");
    desk.person.press("f2");
    desk.terminal.expect("TL");
    desk.person.release("f2");
    desk.person.tap("f3");
    desk.person.tap("f4");
    desk.terminal.expect("TLS");
    desk.person.tap("caps-lock");
    desk.terminal.expect("TLS\t");
    for key in ["b", "r", "w"] {
        desk.person.tap(key);
    }
    // The three letters are taken back before the text comes.
    desk.terminal.expect("TLS\tbrw\u{7f}\u{7f}\u{7f}by return");
}

#[test]
fn held_modifiers_do_not_mix_into_taps() {
    let mut desk = desk("when key ctrl+alt+k { tap x; type \"y\"; tap ctrl+d }\n");
    for key in ["left-ctrl", "left-alt", "k"] {
        desk.person.press(key);
    }
    desk.terminal.expect("xy\u{4}");
    desk.person.release("k");
    desk.person.tap("c");
    // Control and alt are still held for the program.
    desk.terminal.expect("xy\u{4}\u{1b}\u{3}");
}

#[test]
fn the_layout_is_the_keyboards_own() {
    let mut desk = desk_with("de", "when key '#' => type \"hash\"\nwhen key y => tap z\n");
    // On a German keyboard that sign is the key beside enter, and y is where z is elsewhere.
    desk.person.tap("backslash");
    desk.terminal.expect("hash");
    desk.person.tap("z");
    desk.terminal.expect("hashz");
}

#[test]
fn rules_follow_the_program_in_front() {
    let mut desk = desk(
        "when key f9 in app \"corelog\" => type \"L\"\nwhen key f9 in app \"scanner\" => type \"S\"\n",
    );
    desk.person.tap("f9");
    desk.terminal.expect("L");
    let scanner = desk.session.open_receiver("scanner");
    desk.running.expect("scanner came to the front");
    desk.person.tap("f9");
    scanner.expect("S");
    desk.terminal.expect("L");
}

#[test]
fn after_a_crash_every_key_is_up_and_the_keyboard_is_free() {
    let mut desk = desk("when key f9 { hold x { wait } }\nwhen key b => type \"taken\"\n");
    desk.person.tap("f9");
    desk.running.expect("fired");
    desk.running.send(Signal::KILL);
    desk.running.wait();
    desk.person.tap("b");
    wait_until("the key in the terminal", || desk.terminal.received().ends_with('b'));
    // A key that were still down would repeat.
    let before = desk.terminal.received();
    desk.person.tap("c");
    desk.terminal.expect(&format!("{before}c"));
}

#[test]
fn a_stopped_program_gives_the_keyboard_back() {
    let mut desk = desk("when key f9 => type \"x\"\nwhen key b => type \"taken\"\n");
    desk.person.tap("f9");
    desk.terminal.expect("x");
    desk.running.send(Signal::STOP);
    // The guardian ends the program, and with it the compositor ends the grab.
    desk.running.wait();
    desk.person.tap("b");
    wait_until("the key in the terminal", || desk.terminal.received().ends_with('b'));
}

/// The screen as the compositor draws it.
fn screen(session: &WaylandSession) -> Vec<u8> {
    let path = session.path().join("screen.ppm");
    let shown = path.display().to_string();
    session.ask("grim", &["-t", "ppm", &shown]);
    std::fs::read(path).expect("the screen was drawn")
}

#[test]
fn a_hint_is_drawn_on_a_layer_and_goes_after_its_time() {
    let mut session = WaylandSession::start();
    let mut person = WaylandPerson::join(&session, "us");
    person.tap("left-shift");
    let rules = "when key f9 { hint \"drawer 12 is open\" for 2s; log \"shown\" }\n";
    let mut running = run(&session, rules);
    let empty = screen(&session);
    person.tap("f9");
    running.expect("shown");
    wait_until("the hint", || screen(&session) != empty);
    wait_until("an empty screen", || screen(&session) == empty);
    // A terminal that opens below a hint keeps the keyboard.
    person.tap("f9");
    let terminal = session.open_receiver("corelog");
    running.expect("corelog came to the front");
    person.tap("a");
    terminal.expect("a");
}

#[test]
fn buttons_cannot_be_triggers_and_are_named() {
    let mut desk = desk("when key back-button => type \"x\"\nwhen key f9 => type \"y\"\n");
    desk.running.expect("not granted by the desktop: back-button");
    desk.person.tap("f9");
    desk.terminal.expect("y");
}

#[test]
fn a_second_input_method_is_told_that_the_seat_has_one() {
    let desk = desk("when key f9 => type \"x\"\n");
    let other = desk.session.write("other.lantern", "when key f8 => type \"y\"\n");
    let mut command = desk.session.command(desk.session.bring(env!("CARGO_BIN_EXE_lantern")));
    // Another login of the same person: its files are elsewhere, its compositor is the same.
    let folder = desk.session.path().join("wayland-1");
    command.env("WAYLAND_DISPLAY", folder).args(["run", "--backend", "wlroots"]).arg(other);
    let mut second = Talking::start(&mut command);
    second.expect("another input method has it");
    second.expect("not granted by the desktop: f8");
}
