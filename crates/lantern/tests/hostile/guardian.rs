//! The guardian is stopped, or the program that it watches.

use rustix::process::Signal;
use std::os::unix::process::ExitStatusExt;

use super::receiver::{FIRES, TestDesktop};
use crate::desktop::A;
use crate::running::{Running, send, take_in};

#[test]
fn x11_a_guardian_that_is_stopped_does_not_keep_the_program_from_ending() {
    let mut desk = TestDesktop::set_up();
    let running = Running::start(&desk.display, FIRES);
    send(running.guardian(), Signal::STOP);
    desk.expect_keys_at_once(running.child.id());
    running.stop();
    desk.person.expect_no_keys_down();
}

/// The press of a key that waits freezes the keyboard until the program answers. A key that a rule
/// holds meanwhile repeats, so that the server never counts the person as idle.
#[test]
fn x11_a_program_that_is_stopped_does_not_keep_the_keyboard() {
    for holds in [true, false] {
        let mut desk = TestDesktop::set_up();
        let step = if holds { "hold a { wait }" } else { "tap a" };
        let rules = format!("{FIRES}when key f7 {{ {step} }}\n");
        let mut running = Running::start(&desk.display, &rules);
        desk.expect_keys_at_once(running.child.id());
        desk.person.tap("f7");
        desk.target.expect_press(A);
        // Its keys are taken again once it has done what the rule asked for.
        take_in(&desk.display, &desk.person);
        running.signal(Signal::STOP);
        desk.press_blindly(&["f8", "c", "d"]);
        running.wait_long_for("left a key or button unanswered");
        assert_eq!(running.wait_end().signal(), Some(9));
        desk.person.expect_no_keys_down();
        desk.expect_plain_keys();
    }
}

/// A stopped program that withholds no key blocks no other program.
#[test]
fn x11_a_program_that_is_stopped_and_keeps_nothing_may_go_on() {
    let mut desk = TestDesktop::set_up();
    let running = Running::start(&desk.display, FIRES);
    running.signal(Signal::STOP);
    for _ in 0..3 {
        desk.wait_until_idle();
        desk.expect_plain_keys();
    }
    running.signal(Signal::CONT);
    desk.expect_keys_at_once(running.child.id());
    running.stop();
}

#[test]
fn x11_keys_are_released_though_the_list_of_held_keys_was_removed_or_made_shorter() {
    for shortens in [false, true] {
        let desk = &mut TestDesktop::set_up();
        let rules = "when key f7 { hold a { press left-button; wait } }\n";
        let mut running = Running::start(&desk.display, rules);
        desk.person.tap("f7");
        desk.display.wait_until("what the rule holds", |_| desk.person.buttons_down());
        let list = desk.list_of_held_keys();
        if shortens {
            std::fs::write(&list, "").expect("it is ours");
        } else {
            std::fs::remove_file(&list).expect("it is ours");
        }
        running.signal(Signal::KILL);
        running.wait_end();
        desk.display.wait_until("everything to be released", |_| {
            !desk.person.buttons_down() && desk.person.keys_down().is_empty()
        });
    }
}

#[test]
fn x11_a_display_server_that_is_stopped_does_not_keep_the_program_from_ending() {
    let desk = TestDesktop::set_up();
    let mut running = Running::start(&desk.display, FIRES);
    send(desk.display.server_pid(), Signal::STOP);
    // The session asks the server something, and waits for the answer.
    let moved = format!("{FIRES}when started => move to 10, 10\n");
    std::fs::write(&running.file, moved).expect("it is ours");
    running.signal(Signal::TERM);
    running.wait_end();
    send(desk.display.server_pid(), Signal::CONT);
    Running::start(&desk.display, FIRES).stop();
}
