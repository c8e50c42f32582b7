//! The person's hands on a real X server: buttons, keys that wait to be told, remaps, abbreviations,
//! devices told apart, and the helps for hands of the server.

use std::time::{Duration, Instant};

use rustix::process::Signal;

use crate::desktop::{A, B, C, bare, wait_in_front};
use crate::running::{Running, arrived, lantern, send, take_in, typed_rest};
use lantern_stage::{
    Display, Person, PlayedDevice, PlayedDeviceKind, ReceivedKey, Stage, Target, pass_time,
};

/// The X keycode of the left control key.
const LEFT_CTRL: u8 = 37;
/// The X keycodes of d and e.
const D: u8 = 40;
const E: u8 = 26;
/// What is held for the key that stops everything.
const STOP_HELD: [&str; 3] = ["left-ctrl", "left-alt", "left-shift"];

/// What went down, as keycode or button with the modifiers beside it.
fn downs(got: &[ReceivedKey]) -> Vec<(u8, u16)> {
    got.iter().filter(|got| got.down).map(|got| (got.detail, got.state & 0xff)).collect()
}

fn buttons(got: &[ReceivedKey]) -> Vec<(u8, bool)> {
    got.iter().filter(|got| got.button).map(|got| (got.detail, got.down)).collect()
}

#[test]
fn x11_buttons_and_the_wheel_fire_rules_with_modifiers() {
    let (display, mut person, target) = bare();
    let rules = "when key back-button => tap a\n\
                 when key ctrl+wheel-up => tap b\n\
                 when key middle-button => tap c\n";
    let running = Running::start(&display, rules);
    for (combo, code) in [("back-button", A), ("ctrl+wheel-up", B), ("middle-button", C)] {
        person.tap(combo);
        assert_eq!(target.expect_press(code).state & 4, 0, "{combo}");
        let rest = arrived(&display, &person, &target);
        assert_eq!(buttons(&rest), [], "neither press nor release of {combo} reaches the program");
        person.expect_no_keys_down();
    }
    person.tap("wheel-up");
    assert_eq!(
        buttons(&arrived(&display, &person, &target)),
        [(4, true), (4, false)],
        "without ctrl it scrolls"
    );
    person.tap("left-button");
    assert_eq!(buttons(&arrived(&display, &person, &target)), [(1, true), (1, false)]);
    running.stop();
}

#[test]
fn x11_a_modifier_that_a_rule_lets_go_stays_down_under_the_finger() {
    let (display, mut person, target) = bare();
    let rules = "when key f5 { hold ctrl { wait 200ms } }\n\
                 when key f6 => toggle shift\n\
                 when key shift+f6 => toggle shift\n\
                 remap f7 to left-alt\n";
    let mut running = Running::start(&display, rules);
    person.tap("f5");
    target.expect_press(LEFT_CTRL);
    person.press("left-ctrl");
    running.wait_for(": ended");
    let expect_under = |person: &mut Person, mask: u16, finger: &str| {
        person.tap("a");
        assert_eq!(target.expect_press(A).state & 0xff, mask, "under {finger}");
        person.release(finger);
        person.expect_no_keys_down();
        arrived(&display, person, &target);
    };
    expect_under(&mut person, 4, "left-ctrl");
    person.tap("f6");
    running.wait_for(": ended");
    person.press("left-shift");
    person.tap("f6");
    running.wait_for(": ended");
    expect_under(&mut person, 1, "left-shift");
    person.press("f7");
    target.expect(1);
    person.press("left-alt");
    person.release("f7");
    arrived(&display, &person, &target);
    expect_under(&mut person, 8, "left-alt");
    person.tap("a");
    assert_eq!(target.expect_press(A).state & 0xff, 0, "and none of them is left");
    running.stop();
}

/// The program does not run while the keys are pressed, and the server keeps what follows the first from
/// everybody, so that it is let out in the middle of the steps that answer.
#[test]
fn x11_a_stop_that_the_server_kept_back_is_heard() {
    let (display, mut person, _target) = bare();
    let rules = "when key ctrl+alt+shift+f7 tapped => tap c\n\
                 when key ctrl+alt+shift+f8 tapped => tap d\n";
    let mut running = Running::start(&display, rules);
    let mut fingers = Person::sit_down(&display).unchecked();
    for _ in 0..5 {
        STOP_HELD.into_iter().for_each(|key| person.press(key));
        send(running.child.id(), Signal::STOP);
        ["f7", "f8", "escape"].into_iter().for_each(|key| fingers.tap(key));
        assert!(!fingers.buttons_down(), "the server has read all");
        send(running.child.id(), Signal::CONT);
        expect_stop(&display, &mut running, &mut person);
    }
    running.stop();
}

/// A key that waited for another is given back without the modifiers that came after it, and the stop is
/// pressed in that moment.
#[test]
fn x11_a_stop_while_a_key_is_given_back_is_heard() {
    const WITHIN: Duration = Duration::from_millis(40);
    let (display, mut person, _target) = bare();
    let mut running = Running::start(&display, "when keys f9, f10 within 40ms => tap c\n");
    for round in 0..60 {
        let began = Instant::now();
        person.tap("f9");
        pass_time(WITHIN.saturating_sub(began.elapsed() + Duration::from_millis(4)));
        STOP_HELD.into_iter().for_each(|key| person.press(key));
        let at = WITHIN + Duration::from_micros(20) * round;
        pass_time(at.saturating_sub(began.elapsed()));
        person.tap("escape");
        expect_stop(&display, &mut running, &mut person);
    }
    running.stop();
}

fn expect_stop(display: &Display, running: &mut Running, person: &mut Person) {
    running.wait_for("panic");
    STOP_HELD.into_iter().for_each(|key| person.release(key));
    person.expect_no_keys_down();
    assert!(lantern(display, &["resume"]).status.success());
}

#[test]
fn x11_a_button_that_no_rule_wants_after_all_is_the_programs() {
    let (display, mut person, target) = bare();
    let rules = "let armed = false\nwhen key right-button if armed => tap a\nwhen key f9 => set armed = true\n";
    let running = Running::start(&display, rules);
    person.press("right-button");
    assert_eq!(buttons(&target.expect(1)), [(3, true)], "it is pressed at once");
    person.release("right-button");
    assert_eq!(buttons(&arrived(&display, &person, &target)), [(3, false)]);
    person.tap("f9");
    person.tap("right-button");
    assert_eq!(target.expect_press(A).detail, A);
    assert_eq!(buttons(&arrived(&display, &person, &target)), []);
    running.stop();
}

#[test]
fn x11_a_button_may_click_and_be_told_from_a_long_press() {
    let (display, mut person, target) = bare();
    let rules = "when key back-button => click left\n\
                 when key right-button held 300ms => tap a\n";
    let running = Running::start(&display, rules);
    person.press("back-button");
    assert_eq!(buttons(&target.expect(2)), [(1, true), (1, false)]);
    person.release("back-button");
    arrived(&display, &person, &target);
    person.tap("right-button");
    assert_eq!(buttons(&target.expect(2)), [(3, true), (3, false)], "a short press is a click");
    person.press("right-button");
    target.expect_press(A);
    person.release("right-button");
    assert_eq!(buttons(&arrived(&display, &person, &target)), [], "a long one is not");
    assert!(!person.buttons_down());
    running.stop();
}

#[test]
fn x11_a_button_taps_a_key_that_is_down_already() {
    let (display, mut person, target) = bare();
    let rules = "when key back-button => tap a\n\
                 when key forward-button => tap b\n\
                 remap middle-button to a\n";
    let running = Running::start(&display, rules);
    let moves = |got: Vec<ReceivedKey>| -> Vec<(u8, bool)> {
        got.into_iter().filter(|got| !got.button).map(|got| (got.detail, got.down)).collect()
    };
    person.press("b");
    person.tap("back-button");
    arrived(&display, &person, &target);
    person.tap("forward-button");
    assert_eq!(moves(arrived(&display, &person, &target)), [(B, false), (B, true), (B, false)]);
    person.release("b");
    for down_already in ["a", "middle-button"] {
        // Nothing is down, and the program gets to know that.
        for _ in 0..3 {
            person.tap("back-button");
            assert_eq!(moves(arrived(&display, &person, &target)), [(A, true), (A, false)]);
        }
        person.press(down_already);
        assert_eq!(moves(arrived(&display, &person, &target)), [(A, true)], "{down_already}");
        for again in [&[(A, false), (A, true), (A, false)][..], &[(A, true), (A, false)]] {
            person.tap("back-button");
            assert_eq!(
                moves(arrived(&display, &person, &target)),
                again,
                "with {down_already} down"
            );
        }
        person.release(down_already);
        arrived(&display, &person, &target);
        person.expect_no_keys_down();
    }
    running.stop();
}

#[test]
fn x11_a_left_handed_mouse_clicks_with_its_own_first_button() {
    let (display, mut person, target) = bare();
    person.set_button_order(&[3, 2, 1]);
    let rules = "when key f9 => click left\nwhen key right-button => tap a\n";
    let running = Running::start(&display, rules);
    person.tap("f9");
    assert_eq!(buttons(&target.expect(2)), [(1, true), (1, false)]);
    // The button under the first finger of a right hand is the second one now.
    person.tap("left-button");
    target.expect_press(A);
    assert_eq!(buttons(&arrived(&display, &person, &target)), []);
    running.stop();
}

/// Which of three buttons rules see as down, as keys that they tap: c right, d left, e back, b none.
const DOWN: &str = "when key f9 {
    if is-down(back-button) { tap e } else if is-down(right-button) { tap c } else if is-down(left-button) { tap d } else { tap b }
}
";

/// A server with a keyboard and a mouse of nine buttons that are played from outside.
fn with_real_mouse() -> (Display, PlayedDevice, PlayedDevice) {
    let (display, devices) = Display::start_with_devices(&[
        ("bench keyboard", PlayedDeviceKind::Keyboard),
        ("bench mouse", PlayedDeviceKind::Mouse),
    ]);
    let [board, mouse] = devices.try_into().expect("there are two");
    (display, board, mouse)
}

/// Orders of buttons, each with whether it is set for the one mouse alone.
const ORDERS: [(&[u8], bool); 5] = [
    (&[1, 2, 3], false),
    (&[3, 2, 1], false),
    (&[3, 2, 1], true),
    (&[3, 2, 1, 4, 5, 6, 7, 9, 8], false),
    (&[3, 2, 1, 4, 5, 6, 7, 9, 8], true),
];

fn set_order(person: &Person, order: &[u8], alone: bool) {
    if alone {
        person.set_button_order_of("bench mouse", order);
    } else {
        person.set_button_order(order);
    }
}

/// Taps f9 on the keyboard.
fn tap_f9(board: &mut PlayedDevice) {
    board.key("f9", true);
    board.key("f9", false);
}

#[test]
fn x11_a_button_is_held_as_long_as_it_is_down_whatever_the_order_of_buttons() {
    for (order, alone) in ORDERS {
        let (display, mut board, mut mouse) = with_real_mouse();
        let person = Person::at(display.name()).unchecked();
        set_order(&person, order, alone);
        let target = Target::open(&display);
        let running = Running::start(
            &display,
            "when key right-button while held { hold a { wait } }\nwhen key f9 => tap b\n",
        );
        let right = if order[0] == 1 { 3 } else { 1 };
        for _ in 0..3 {
            mouse.button(right, true);
            target.expect_press(A);
            for _ in 0..3 {
                tap_f9(&mut board);
                target.expect_press(B);
                assert!(person.keys_down().contains(&A), "it is held with the button: {order:?}");
            }
            mouse.button(right, false);
            display.wait_until("the key to be let go", |_| !person.keys_down().contains(&A));
        }
        running.stop();
    }
}

#[test]
fn x11_buttons_that_are_down_are_named_by_what_they_count_as() {
    for (order, alone) in ORDERS {
        let (display, mut board, mut mouse) = with_real_mouse();
        set_order(&Person::at(display.name()).unchecked(), order, alone);
        let target = Target::open(&display);
        let running = Running::start(&display, DOWN);
        let physical = |meaning: u8| {
            let at = order.iter().position(|known| *known == meaning);
            at.map_or(i32::from(meaning), |at| at as i32 + 1)
        };
        // The server takes in what two devices send in any order, unless it is waited for.
        let mut move_button = |button: u8, down: bool| {
            mouse.button(physical(button), down);
            while !target.expect(1)[0].button {}
        };
        for (button, sign) in [(3, C), (1, D), (8, E)] {
            for _ in 0..2 {
                move_button(button, true);
                tap_f9(&mut board);
                target.expect_press(sign);
                move_button(button, false);
                tap_f9(&mut board);
                target.expect_press(B);
            }
        }
        running.stop();
        // What was down before the rules began is known as well.
        move_button(8, true);
        let running = Running::start(&display, DOWN);
        tap_f9(&mut board);
        target.expect_press(E);
        move_button(8, false);
        tap_f9(&mut board);
        target.expect_press(B);
        running.stop();
    }
}

#[test]
fn x11_keys_together_are_told_from_keys_one_after_another() {
    let mut stage = Stage::set("us");
    // Long enough for a machine that is busy.
    let rules = "settings { together = 400ms }\nwhen key j+k => type \"BOTH\"\n";
    let running = Running::start(&stage.display, rules);
    stage.person.press("j");
    stage.person.press("k");
    assert_eq!(stage.terminal.read(4), "BOTH");
    stage.person.release("j");
    stage.person.release("k");
    stage.person.press("k");
    stage.person.press("j");
    assert_eq!(stage.terminal.read(4), "BOTH", "in any order");
    stage.person.release("k");
    stage.person.release("j");
    for text in ["j", "jx", "kl", "jjkx"] {
        let keys: Vec<String> = text.chars().map(String::from).collect();
        stage.person.type_keys(&keys.iter().map(String::as_str).collect::<Vec<_>>());
        assert_eq!(stage.terminal.read(text.len()), text, "in order, none lost");
    }
    assert_eq!(typed_rest(&mut stage), "");
    stage.person.expect_no_keys_down();
    running.stop();
}

#[test]
fn x11_what_is_typed_while_a_key_waits_comes_after_it() {
    let mut stage = Stage::set("us");
    let rules = "when key j+k => log \"both\"\nwhen key g held 400ms => type \"HELD\"\n";
    let running = Running::start(&stage.display, rules);
    stage.person.press("j");
    stage.person.press("left-shift");
    stage.person.type_keys(&["x"]);
    stage.person.release("left-shift");
    stage.person.release("j");
    assert_eq!(stage.terminal.read(2), "jX", "the first under no shift, the second under it");
    stage.person.press("g");
    assert_eq!(stage.terminal.read(4), "HELD");
    stage.person.release("g");
    stage.person.type_keys(&["g", "a", "g", "b"]);
    assert_eq!(stage.terminal.read(4), "gagb");
    assert_eq!(typed_rest(&mut stage), "");
    stage.person.expect_no_keys_down();
    running.stop();
}

#[test]
fn x11_taps_twice_and_sequences_are_told_apart() {
    let mut stage = Stage::set("us");
    let rules = "when key f9 twice => type \"2\"\nwhen key f9 tapped => type \"1\"\n\
                 when keys ctrl+k, l within 2s => type \"SEQ\"\n\
                 when key super tapped => type \"S\"\n";
    let running = Running::start(&stage.display, rules);
    stage.person.tap("f9");
    assert_eq!(stage.terminal.read(1), "1");
    stage.person.tap("f9");
    stage.person.tap("f9");
    assert_eq!(stage.terminal.read(1), "2");
    stage.person.tap("ctrl+k");
    stage.person.tap("l");
    assert_eq!(stage.terminal.read(3), "SEQ");
    stage.person.tap("ctrl+k");
    stage.person.tap("x");
    assert_eq!(stage.terminal.read(2), "\u{b}x", "what was not meant is the program's");
    stage.person.tap("super");
    assert_eq!(stage.terminal.read(1), "S");
    stage.person.tap("super+b");
    assert!(!typed_rest(&mut stage).contains('S'), "with another key it is no tap");
    stage.person.expect_no_keys_down();
    running.stop();
}

#[test]
fn x11_a_remapped_key_is_the_other_as_long_as_it_is_held() {
    let (display, mut person, target) = bare();
    let rules = "remap caps-lock to ctrl, tapped to escape\nremap a to b\nremap ctrl+h to left\n";
    let running = Running::start(&display, rules);
    person.press("caps-lock");
    assert_eq!(target.expect(1)[0].detail, LEFT_CTRL);
    person.tap("c");
    assert_eq!(target.expect_press(C).state & 0xff, 4, "ctrl is down, caps lock is off");
    person.release("caps-lock");
    arrived(&display, &person, &target);
    person.expect_no_keys_down();
    person.tap("caps-lock");
    assert!(downs(&arrived(&display, &person, &target)).contains(&(9, 0)), "escape");
    // A held key repeats as what it is now.
    person.press("shift");
    person.press("a");
    assert_eq!(target.expect_press(B).state & 0xff, 1, "under any further modifiers");
    target.expect_press(B);
    person.release("a");
    person.release("shift");
    arrived(&display, &person, &target);
    person.press("ctrl");
    person.tap("h");
    assert_eq!(target.expect_press(113).state & 0xff, 0, "the ctrl that it asks for is hidden");
    arrived(&display, &person, &target);
    person.tap("c");
    assert_eq!(target.expect_press(C).state & 0xff, 4, "and is there again");
    person.release("ctrl");
    arrived(&display, &person, &target);
    person.expect_no_keys_down();
    running.stop();
}

#[test]
fn x11_modifiers_may_change_places() {
    let (display, mut person, target) = bare();
    let running =
        Running::start(&display, "remap left-ctrl to left-alt\nwhen key alt+f9 => tap c\n");
    person.press("left-ctrl");
    person.tap("b");
    assert_eq!(target.expect_press(B).state & 0xff, 8);
    person.tap("f9");
    assert_eq!(target.expect_press(C).state & 0xff, 0, "rules see what a remap gives");
    arrived(&display, &person, &target);
    person.tap("b");
    assert_eq!(target.expect_press(B).state & 0xff, 8, "after a step it still stands for it");
    person.release("left-ctrl");
    arrived(&display, &person, &target);
    person.expect_no_keys_down();
    person.tap("b");
    assert_eq!(target.expect_press(B).state & 0xff, 0);
    running.stop();
}

#[test]
fn x11_an_abbreviation_is_replaced_when_it_was_typed() {
    let mut stage = Stage::set("us");
    let rules =
        "when typed \"tmp;\" => type \"−31.4 °C\"\nwhen typed \"Ok!\" passing => type \"+\"\n";
    let running = Running::start(&stage.display, rules);
    for key in ["t", "m", "p", "semicolon"] {
        stage.person.tap(key);
    }
    let expected = "tmp;\u{8}\u{8}\u{8}\u{8}−31.4 °C";
    let got = stage.terminal.read(expected.len());
    assert_eq!(got.replace('\u{7f}', "\u{8}"), expected);
    stage.person.tap("shift+o");
    stage.person.tap("k");
    stage.person.tap("shift+1");
    assert_eq!(stage.terminal.read(4), "Ok!+");
    stage.person.tap("x");
    stage.person.tap("enter");
    for key in ["p", "semicolon"] {
        stage.person.tap(key);
    }
    assert_eq!(stage.terminal.read(4), "x\rp;");
    assert_eq!(typed_rest(&mut stage), "");
    running.stop();
}

#[test]
fn x11_only_the_named_device_fires_and_the_others_type_on() {
    let mut stage = Stage::set("us");
    let rules = "when key b from device \"Xvfb keyboard\" => type \"OWN\"\n\
                 when key c from device \"foot switch\" => type \"NO\"\n";
    let running = Running::start(&stage.display, rules);
    stage.person.tap("b");
    assert_eq!(stage.terminal.read(3), "OWN");
    stage.person.tap("c");
    assert_eq!(stage.terminal.read(1), "c");
    running.stop();
}

#[test]
fn x11_a_latched_modifier_is_neither_spoilt_nor_lost() {
    let mut stage = Stage::set("us");
    let mut running = Running::start(&stage.display, "when key f9 { wait 300ms; type \"abC\" }\n");
    stage.person.set_sticky_keys(true);
    // The latch comes after the key, which would use it up.
    stage.person.tap("f9");
    stage.person.tap("left-shift");
    assert_eq!(stage.terminal.read(3), "abC");
    // The latch is given back after the last letter.
    running.wait_for(": ended");
    stage.person.tap("x");
    stage.person.tap("x");
    assert_eq!(stage.terminal.read(2), "Xx");
    running.stop();
}

#[test]
fn x11_slow_bounce_and_mouse_keys_change_nothing_of_what_rules_type() {
    let mut stage = Stage::set("us");
    let rules =
        "when key f9 => type \"aabbccc\"\nlet lamp = false\nwhen key x if lamp => type \"on\"\n";
    let mut running = Running::start(&stage.display, rules);
    let sets = [
        ("slow", Person::set_slow_keys as fn(&Person, bool)),
        ("bounce", Person::set_bounce_keys),
        ("mouse", Person::set_mouse_keys),
    ];
    for (help, set) in sets {
        set(&stage.person, true);
        stage.person.press("f9");
        running.wait_for(": ended");
        stage.person.release("f9");
        assert_eq!(stage.terminal.read(7), "aabbccc", "with {help} keys");
        stage.person.press("x");
        assert_eq!(stage.terminal.read(1), "x", "what waited is handed on with {help} keys");
        stage.person.release("x");
        set(&stage.person, false);
    }
    running.stop();
}

#[test]
fn x11_two_hundred_firings_with_modifiers_let_go_at_any_moment_leave_nothing_stuck() {
    let (display, mut person, target) = bare();
    let rules = "when key ctrl+shift+f9 => type \"abcdefgh\"\nremap caps-lock to ctrl\n";
    let running = Running::start(&display, rules);
    for turn in 0..200u32 {
        let first = if turn % 3 == 0 { "caps-lock" } else { "left-ctrl" };
        person.press(first);
        person.press("right-shift");
        person.press("f9");
        let order = match turn % 4 {
            0 => [first, "right-shift", "f9"],
            1 => ["f9", first, "right-shift"],
            2 => ["right-shift", "f9", first],
            _ => [first, "f9", "right-shift"],
        };
        for key in order {
            person.release(key);
        }
        target.settle(&person, 0);
    }
    arrived(&display, &person, &target);
    person.expect_no_keys_down();
    assert!(person.real_keys_down().is_empty());
    running.stop();
}

#[test]
fn x11_a_key_of_another_window_is_followed_by_the_next() {
    let mut stage = Stage::set("us");
    let rules = "in app \"drill\" { remap a to b }\nwhen key f9 => type \"log\"\n";
    let running = Running::start(&stage.display, rules);
    stage.person.tap("a");
    assert_eq!(stage.terminal.read(1), "a", "a remap holds only in its program");
    let drill = Target::managed(&stage.display, "drill");
    wait_in_front(&stage.display, &drill);
    take_in(&stage.display, &stage.person);
    stage.person.tap("a");
    assert_eq!(downs(&drill.expect(2)), [(B, 0)]);
    running.stop();
}

#[test]
fn x11_a_stop_key_with_modifiers_is_heard_each_time_while_a_loop_clicks_at_full_speed() {
    let (display, mut person, _target) = bare();
    let rules = "when key ctrl+shift+f6 again stops {\n    repeat every 1ms { click left }\n}\n";
    let mut running = Running::start(&display, rules);
    for _ in 0..30 {
        person.tap("left-ctrl+left-shift+f6");
        running.wait_for(": fired");
        person.tap("left-ctrl+left-shift+f6");
        running.wait_for(": stopped");
    }
    running.stop();
}

#[test]
fn x11_keys_are_heard_while_a_step_waits_for_its_program() {
    let (display, mut person, _target) = bare();
    let rules = "when key ctrl+f7 => type \"Глубина\"\nwhen key ctrl+f8 => tap a\n\
                 when key f8 => tap b\nwhen key f6 => tap c\n";
    let mut running = Running::start(&display, rules);
    person.press("left-ctrl");
    person.press("f7");
    person.release("f7");
    // The window gives no signs of life, so that it is given time to read the new map.
    running.wait_for("ctrl+f7: fired");
    person.press("f8");
    person.release("f8");
    person.release("left-ctrl");
    person.press("f6");
    person.release("f6");
    let next = running.wait_for(": fired");
    assert!(next.contains("ctrl+f8: fired by ctrl+f8"), "{next}");
    let last = running.wait_for(": fired");
    assert!(last.contains("f6: fired by f6"), "{last}");
    running.stop();
}

#[test]
fn x11_a_keyboard_may_be_unplugged_with_keys_down_and_plugged_in_again() {
    let (display, mut person, target) = bare();
    let rules = "when key f9 while held { hold shift { wait } }\nwhen key f8 => tap a\n";
    let mut running = Running::start(&display, rules);
    person.press("f9");
    running.wait_for("fired");
    display.wait_until("the hold", |_| !person.keys_down().is_empty());
    person.unplug();
    running.wait_for("stopped");
    person.expect_no_keys_down();
    person.plug_in();
    arrived(&display, &person, &target);
    person.release("f9");
    person.tap("f8");
    target.expect_press(A);
    person.expect_no_keys_down();
    running.stop();
}

#[test]
fn x11_pens_pads_and_second_keyboards_are_told_apart() {
    let (display, mut devices) = Display::start_with_devices(&[
        ("bench keyboard", PlayedDeviceKind::Keyboard),
        ("second pad", PlayedDeviceKind::Keyboard),
        ("bench mouse", PlayedDeviceKind::Mouse),
        ("bench tablet pad", PlayedDeviceKind::Mouse),
        ("bench pen", PlayedDeviceKind::Pen),
        ("bench pen eraser", PlayedDeviceKind::Pen),
        ("bell", PlayedDeviceKind::Keyboard),
    ]);
    let target = Target::open(&display);
    let rules = "when key pen-tip => tap a\nwhen key pen-barrel => tap b\n\
                 when key pen-barrel-2 => tap d\nwhen key pen-eraser => tap c\n\
                 when key f9 from device \"second pad\" => tap e\n\
                 when key back-button from device \"bench tablet pad\" => tap f\n";
    let running = Running::start(&display, rules);
    let [board, second, mouse, pad, pen, eraser, waker] = devices.as_mut_slice() else {
        panic!("there are seven");
    };
    // Each act has some press arrive; a key of one more keyboard comes after the rest of it.
    let mut typed = |target: &Target| -> Vec<u8> {
        const WAKER: u8 = 96;
        let mut got = target.expect(1);
        while !got.iter().any(|got| got.down) {
            got.extend(target.expect(1));
        }
        waker.key("f12", true);
        waker.key("f12", false);
        while got.last().is_some_and(|last| last.down || last.button || last.detail != WAKER) {
            got.extend(target.expect(1));
        }
        got.retain(|got| got.button || got.detail != WAKER);
        got.iter().filter(|got| got.down && !got.button).map(|got| got.detail).collect()
    };
    for (is_eraser, button, code) in [(false, 1, A), (false, 2, B), (false, 3, 40), (true, 1, C)] {
        let device = if is_eraser { &mut *eraser } else { &mut *pen };
        device.come_near(true);
        device.button(button, true);
        device.button(button, false);
        device.come_near(false);
        assert_eq!(typed(&target), [code], "button {button}");
    }
    mouse.button(1, true);
    mouse.button(1, false);
    assert_eq!(typed(&target), [0; 0], "the mouse has no tip");
    for (device, codes) in [(second, vec![26]), (board, vec![75])] {
        device.key("f9", true);
        device.key("f9", false);
        assert_eq!(typed(&target), codes, "only the second pad's key fires");
    }
    for (device, codes) in [(pad, vec![41]), (&mut *mouse, Vec::new())] {
        device.button(8, true);
        device.button(8, false);
        assert_eq!(typed(&target), codes, "only the tablet's button fires");
    }
    running.stop();
}
