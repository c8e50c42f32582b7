//! A real Wayland session: windows and the clipboard by its compositor, shortcuts and input by a portal.

use std::process::Stdio;
use std::time::{Duration, Instant};

use lantern_stage::{PortalKind, StandInPortal, Talking, WaylandSession, wait_until};
use serde_json::Value;

/// The longest that anything is waited for.
const PATIENCE: Duration = Duration::from_secs(20);

/// Rules at work in the session.
fn run(session: &WaylandSession, rules: &str) -> Talking {
    let file = session.write("bench.lantern", rules);
    let mut command = session.command(session.bring(env!("CARGO_BIN_EXE_lantern")));
    let mut talking = Talking::start(
        command.args(["run", "--backend", "portal", "--log-level", "debug"]).arg(file),
    );
    talking.expect("active on the portal back end");
    talking
}

/// The id under which the portal was asked for a combination.
fn id_of(portal: &mut StandInPortal, trigger: &str) -> String {
    let asked = portal.expect(&format!(" {trigger} for "));
    asked.split(' ').next().expect("the id comes first").to_owned()
}

/// Waits until the clipboard holds that text.
fn wait_for_clipboard(session: &WaylandSession, text: &str) {
    let began = Instant::now();
    while session.ask("wl-paste", &["--no-newline"]) != text {
        assert!(began.elapsed() < PATIENCE, "the clipboard does not hold {text}");
    }
}

fn press(portal: &StandInPortal, id: &str) {
    portal.shortcut(id, true);
    portal.shortcut(id, false);
}

#[test]
fn shortcuts_and_input_go_by_the_portal_which_is_asked_once() {
    let session = WaylandSession::start();
    let mut portal = session.start_portal();
    let rules = "## Next section\nwhen key ctrl+alt+f9 => type \"B1\\n\"\nwhen key super+n { tap ctrl+s; click right; move by 5, -2 }\n";
    let _running = run(&session, rules);
    let (panic, next) =
        (id_of(&mut portal, "CTRL+ALT+SHIFT+Escape"), id_of(&mut portal, "CTRL+ALT+F9"));
    assert_ne!(panic, next);
    let other = id_of(&mut portal, "LOGO+n");
    portal.expect("RemoteDesktop Start");
    // What is typed waits until the fingers have left the combination.
    portal.shortcut(&next, true);
    let mut status = session.command(session.bring(env!("CARGO_BIN_EXE_lantern")));
    wait_until("the run to begin", || {
        let answer = status.args(["status", "--json"]).stdout(Stdio::piped()).output();
        let answer = answer.expect("it runs and answers").stdout;
        let data: Value = serde_json::from_slice(&answer).expect("it is data");
        data["run_count"] == 1
    });
    assert!(!portal.was_asked("KeyboardKeysym"));
    portal.shortcut(&next, false);
    for symbol in [0x42, 0x31, 0xff0d] {
        portal.expect(&format!("KeyboardKeysym {symbol} 1"));
        portal.expect(&format!("KeyboardKeysym {symbol} 0"));
    }
    press(&portal, &other);
    for asked in [
        "KeyboardKeycode 29 1",
        "KeyboardKeycode 31 1",
        "KeyboardKeycode 31 0",
        "KeyboardKeycode 29 0",
        "PointerButton 273 1",
        "PointerButton 273 0",
        "PointerMotion 5 -2",
    ] {
        portal.expect(asked);
    }
    drop(_running);
    let _again = run(&session, rules);
    portal.expect("SelectDevices restored");
}

#[test]
fn rules_follow_the_program_in_front_and_bring_others_there() {
    let mut session = WaylandSession::start();
    let mut portal = session.start_portal();
    let rules = "when key f9 in app \"corelog\" => log \"in the core log\"
when key f9 in app \"scanner\" => log \"at the scanner\"
when key f10 { focus app \"scanner\"; log \"there\" }
when key f11 { close app \"scanner\"; log \"closed\" }
when key f12 { focus app \"nowhere\" else { log \"not open\" } }
when window opened app \"scanner\" as w => log \"{w.title} opened\"\n";
    session.open("org.polar.corelog", "Core log");
    let mut running = run(&session, rules);
    let f9 = id_of(&mut portal, "F9");
    let (f10, f11, f12) =
        (id_of(&mut portal, "F10"), id_of(&mut portal, "F11"), id_of(&mut portal, "F12"));
    running.expect("corelog came to the front");
    press(&portal, &f9);
    running.expect("in the core log");
    session.open("scanner", "Scanner two");
    running.expect("Scanner two opened");
    running.expect("scanner came to the front");
    press(&portal, &f9);
    running.expect("at the scanner");
    press(&portal, &f10);
    running.expect("there");
    press(&portal, &f12);
    running.expect("not open");
    press(&portal, &f11);
    running.expect("closed");
}

#[test]
fn the_clipboard_holds_after_a_paste_what_it_held_before() {
    let mut session = WaylandSession::start();
    let mut portal = session.start_portal();
    let rules = "when key f9 { paste \"bag 17 / −31 °C\"; log \"pasted\" }
when key f10 { let copied = read clipboard; log \"held: {copied}\" }
when key f11 { paste \"nobody\" else { log \"not taken\" } }\n";
    session.keep("wl-copy", &["--foreground", "core 4"]);
    wait_for_clipboard(&session, "core 4");
    let mut running = run(&session, rules);
    let (f9, f10, f11) =
        (id_of(&mut portal, "F9"), id_of(&mut portal, "F10"), id_of(&mut portal, "F11"));
    portal.expect("RemoteDesktop Start");
    press(&portal, &f10);
    running.expect("held: core 4");
    press(&portal, &f9);
    // The paste keys; here is the program that takes what is pasted.
    portal.expect("KeyboardKeycode 47 1");
    assert_eq!(session.ask("wl-paste", &["--no-newline"]), "bag 17 / −31 °C");
    running.expect("pasted");
    wait_for_clipboard(&session, "core 4");
    press(&portal, &f11);
    running.expect("not taken");
    assert_eq!(session.ask("wl-paste", &["--no-newline"]), "core 4");
}

/// The answer of a command in the session.
fn said(session: &WaylandSession, words: &[&str]) -> String {
    let lantern = session.bring(env!("CARGO_BIN_EXE_lantern")).display().to_string();
    session.ask(&lantern, words)
}

#[test]
fn without_a_portal_rules_that_need_no_keys_work_and_the_others_are_named() {
    let session = WaylandSession::start();
    let rules = "when key ctrl+f9 => log \"x\"\nwhen started => log \"at work\"\n\
                 when call \"x\" on nowhere => log \"y\"\n";
    let rules = rules.lines().take(2).collect::<Vec<_>>().join("\n")
        + "\nmacro noted() { log \"noted\" }\n";
    let mut running = run(&session, &rules);
    running.expect("at work");
    running.expect("shortcuts of the portal is not there");
    running.expect("not granted by the desktop: ctrl+f9");
    said(&session, &["fire", "noted"]);
    running.expect("noted");
    let status = said(&session, &["status"]);
    assert!(status.contains("ctrl+f9") && status.contains("none: "), "{status}");
    let doctor = said(&session, &["doctor"]);
    assert!(doctor.contains("the compositor's input method"), "{doctor}");
}

#[test]
fn a_portal_with_input_alone_types_for_rules_without_keys() {
    let session = WaylandSession::start();
    let mut portal = session.start_portal_as(PortalKind::InputOnly);
    let mut running = run(&session, "when key f9 => tap a\nmacro section() { type \"12\" }\n");
    portal.expect("RemoteDesktop Start");
    running.expect("not granted by the desktop: f9");
    said(&session, &["fire", "section"]);
    portal.expect("KeyboardKeysym 49 1");
    portal.expect("KeyboardKeysym 50 0");
}

#[test]
fn plasma_takes_shortcuts_when_the_session_is_created_and_keeps_their_keys_by_id() {
    let session = WaylandSession::start();
    let mut portal = session.start_portal_as(PortalKind::Plasma);
    let rules = "when key ctrl+alt+k => log \"first\"\n";
    let mut running = run(&session, rules);
    let first = id_of(&mut portal, "CTRL+ALT+k");
    portal.expect("GlobalShortcuts CreateSession");
    press(&portal, &first);
    running.expect("first");
    // A rule in front of it moves no key to another rule.
    session.write("bench.lantern", &format!("when key super+n => log \"second\"\n{rules}"));
    running.expect("reloaded");
    let second = id_of(&mut portal, "LOGO+n");
    assert_eq!(id_of(&mut portal, "CTRL+ALT+k"), first);
    portal.expect("GlobalShortcuts CreateSession");
    press(&portal, &first);
    running.expect("first");
    press(&portal, &second);
    running.expect("second");
    assert!(!portal.was_asked("BindShortcuts"), "its settings were opened");
}

#[test]
fn a_shortcut_that_the_desktop_keeps_is_named_until_it_is_granted() {
    let session = WaylandSession::start();
    let mut portal = session.start_portal();
    portal.keep("LOGO+n");
    let rules = "when key super+n => log \"kept\"\nwhen key super+m => log \"granted\"\n";
    let mut running = run(&session, rules);
    let granted = id_of(&mut portal, "LOGO+m");
    running.expect("not granted by the desktop: super+n");
    press(&portal, &granted);
    running.expect("granted");
    let status = said(&session, &["status"]);
    assert!(status.contains("2 of 3 shortcuts of the portal"), "{status}");
    let why = said(&session, &["why", "super+n"]);
    assert!(why.contains("did not grant it"), "{why}");
    portal.give("LOGO+n");
    portal.restart();
    running.expect("shortcuts of the portal is not there");
    running.expect("shortcuts of the portal is there");
    let kept = id_of(&mut portal, "LOGO+n");
    press(&portal, &kept);
    running.expect("kept");
}

#[test]
fn sessions_that_the_desktop_ends_are_reported_and_asked_for_anew() {
    let session = WaylandSession::start();
    let mut portal = session.start_portal();
    let mut running = run(&session, "when key super+m { log \"pressed\"; tap a }\n");
    let id = id_of(&mut portal, "LOGO+m");
    portal.expect("RemoteDesktop Start");
    press(&portal, &id);
    portal.expect("KeyboardKeycode 30 0");
    portal.end_shortcuts();
    running.expect("the desktop ended the session");
    running.expect("shortcuts of the portal is there");
    portal.end_input();
    running.expect("input by the portal is not there");
    let id = id_of(&mut portal, "LOGO+m");
    press(&portal, &id);
    running.expect("pressed");
    // Input is asked for anew when something is to be sent.
    portal.expect("RemoteDesktop Start");
    portal.expect("KeyboardKeycode 30 1");
}

#[test]
fn what_the_person_refuses_fails_the_step_with_the_reason() {
    let session = WaylandSession::start();
    let mut portal = session.start_portal();
    portal.refuse("Start");
    let mut running = run(&session, "when key super+m => tap a\n");
    let id = id_of(&mut portal, "LOGO+m");
    running.expect("input by the portal is not there: you refused it");
    press(&portal, &id);
    running.expect("no input by the portal: you refused it");
    assert!(!portal.was_asked("KeyboardKeycode"));
}

#[test]
fn a_character_that_the_layout_lacks_is_never_dropped() {
    let session = WaylandSession::start();
    let mut portal = session.start_portal();
    let mut running =
        run(&session, "when key super+m => type \"Hi é\"\nwhen key super+n => type \"Hi\"\n");
    let (foreign, plain) = (id_of(&mut portal, "LOGO+m"), id_of(&mut portal, "LOGO+n"));
    portal.expect("RemoteDesktop Start");
    press(&portal, &foreign);
    running.expect("which the keyboard layout lacks");
    press(&portal, &plain);
    portal.expect("KeyboardKeysym 105 0");
    assert!(!portal.was_asked("KeyboardKeysym 233"));
}

#[test]
fn a_terminal_gets_the_paste_keys_of_terminals() {
    let mut session = WaylandSession::start();
    let mut portal = session.start_portal();
    let rules = "when key f9 { paste \"core 12\"; log \"pasted\" }\n";
    session.open("foot", "Core log");
    let mut running = run(&session, rules);
    let f9 = id_of(&mut portal, "F9");
    portal.expect("RemoteDesktop Start");
    running.expect("foot came to the front");
    press(&portal, &f9);
    for asked in ["KeyboardKeycode 29 1", "KeyboardKeycode 42 1", "KeyboardKeycode 47 1"] {
        portal.expect(asked);
    }
    assert_eq!(session.ask("wl-paste", &["--no-newline"]), "core 12");
    running.expect("pasted");
}

#[test]
fn a_terminal_that_pastes_what_is_selected_is_not_given_the_clipboard() {
    let mut session = WaylandSession::start();
    let mut portal = session.start_portal();
    session.open("xterm", "Core log");
    let mut running =
        run(&session, "when key f9 { paste \"core 12\" else { log \"not pasted\" } }\n");
    let f9 = id_of(&mut portal, "F9");
    portal.expect("RemoteDesktop Start");
    running.expect("xterm came to the front");
    press(&portal, &f9);
    running.expect("not pasted");
}
