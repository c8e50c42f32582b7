//! On a real X server: a key on the server's own keyboard goes down, a program receives.

use std::time::Duration;

use lantern_stage::{Display, Person, Stage, Target, pass_time};

use crate::running::{Running, arrived, take_in, typed_rest};

/// The X keycodes of some letters.
pub const A: u8 = 38;
pub const B: u8 = 56;
pub const C: u8 = 54;

/// Waits until the window manager says that a window is in front.
pub fn wait_in_front(display: &Display, window: &Target) {
    display.wait_until("the window in front", |display| display.front().0 == window.window());
}

/// Closes the window in front and waits until the window manager has activated another.
fn close(display: &Display, window: Target) {
    let gone = window.window();
    drop(window);
    display.wait_until("another window in front", |display| {
        let front = display.front().0;
        front != gone && front != 0
    });
}

/// A display with a bare window in front, and a person.
pub fn bare() -> (Display, Person, Target) {
    bare_under("us")
}

/// The same with another keyboard layout.
pub fn bare_under(layout: &str) -> (Display, Person, Target) {
    let display = Display::start(layout);
    let person = Person::sit_down(&display);
    let target = Target::open(&display);
    (display, person, target)
}

#[test]
fn x11_a_hotkey_types_exactly_its_text_into_the_terminal() {
    let mut stage = Stage::set("us");
    let running =
        Running::start(&stage.display, "when key f9 => type \"Section 12, {{x}} [ok]\"\n");
    stage.person.tap("f9");
    assert_eq!(stage.terminal.read(20), "Section 12, {x} [ok]");
    assert_eq!(typed_rest(&mut stage), "");
    running.stop();
}

/// Every sign of ASCII, signs of the layouts, and some that none of them has.
const HARD_TEXT: &str = "azqwAZ 09 !\"#$%&'()*+,-./:;<=>?@[\\]^_`{|}~ éüß€ °−Жλ";

fn types_the_hard_text_under(layout: &str) {
    let mut stage = Stage::set(layout);
    let text = HARD_TEXT.replace('`', "");
    let rules = format!("when key ctrl+shift+f9 {{ type `{text}`; type \"`\" }}\n");
    let expected = format!("{text}`");
    for (caps, num) in [(false, false), (true, true)] {
        stage.person.set_locks(caps, num);
        let running = Running::start(&stage.display, &rules);
        stage.person.press("left-ctrl");
        stage.person.press("right-shift");
        stage.person.tap("f9");
        assert_eq!(stage.terminal.read(expected.len()), expected, "{layout}, caps {caps}");
        assert_eq!(typed_rest(&mut stage), "");
        let down = stage.person.keys_down();
        assert_eq!(down.into_iter().collect::<Vec<_>>(), [37, 62], "the modifiers are still down");
        stage.person.release("right-shift");
        stage.person.release("left-ctrl");
        stage.person.expect_no_keys_down();
        running.stop();
    }
}

#[test]
fn x11_text_arrives_whatever_is_held_and_locked_under_us() {
    types_the_hard_text_under("us");
}

#[test]
fn x11_text_arrives_whatever_is_held_and_locked_under_de() {
    types_the_hard_text_under("de");
}

#[test]
fn x11_text_arrives_whatever_is_held_and_locked_under_fr() {
    types_the_hard_text_under("fr");
}

#[test]
fn x11_text_arrives_whatever_is_held_and_locked_under_us_intl() {
    types_the_hard_text_under("us -variant intl");
}

#[test]
fn x11_the_layout_may_change_while_running() {
    let mut stage = Stage::set("us");
    let mut running = Running::start(&stage.display, "when key q => type \"yz#\"\n");
    stage.person.tap("q");
    assert_eq!(stage.terminal.read(3), "yz#");
    // On a French board the key that gives q is where a US board has a.
    stage.display.set_layout("fr");
    running.wait_for("another layout");
    stage.person.tap("a");
    assert_eq!(stage.terminal.read(3), "yz#");
    stage.person.tap("q");
    assert_eq!(stage.terminal.read(1), "a");
    running.stop();
}

#[test]
fn x11_the_number_pad_is_not_the_main_row() {
    let mut stage = Stage::set("us");
    let rules =
        "when key pad-1 => type \"P\"\nwhen key f20 => type \"T\"\nwhen key 1 => type \"M\"\n";
    for num in [false, true] {
        stage.person.set_locks(false, num);
        let running = Running::start(&stage.display, rules);
        for (key, text) in [("pad-1", "P"), ("f20", "T"), ("1", "M"), ("2", "2")] {
            stage.person.tap(key);
            assert_eq!(stage.terminal.read(1), text, "num lock {num}");
        }
        running.stop();
    }
}

#[test]
fn x11_locks_may_change_while_running() {
    let (display, mut person, target) = bare();
    let running = Running::start(&display, "when key f9 => tap a\n");
    for (caps, num) in [(true, false), (true, true), (false, true), (false, false)] {
        person.set_locks(caps, num);
        // The keys are taken anew under the new locks; a press that is faster reaches the window.
        take_in(&display, &person);
        person.tap("f9");
        let got = target.expect(2);
        assert!(got.iter().all(|got| got.detail == A), "caps {caps}, num {num}: {got:?}");
    }
    running.stop();
}

#[test]
fn x11_neither_press_nor_release_nor_repeat_of_the_trigger_reaches_the_program() {
    let (display, mut person, target) = bare();
    let running = Running::start(&display, "when key f9 => tap a\n");
    person.press("f9");
    let got = target.expect(2);
    assert!(got.iter().all(|got| got.detail == A && got.state == 0), "{got:?}");
    // Longer than the delay after which the server repeats a held key.
    pass_time(Duration::from_millis(900));
    assert_eq!(arrived(&display, &person, &target), []);
    person.release("f9");
    assert_eq!(arrived(&display, &person, &target), []);
    person.expect_no_keys_down();
    running.stop();
}

#[test]
fn x11_what_is_typed_fires_no_rule() {
    let mut stage = Stage::set("us");
    let rules = "when key f9 => type \"abc\"\nwhen key b => type \"NO\"\nwhen key f8 => tap f7\nwhen key f7 => type \"NO\"\n";
    let running = Running::start(&stage.display, rules);
    stage.person.tap("f9");
    assert_eq!(stage.terminal.read(3), "abc");
    stage.person.tap("f8");
    let rest = typed_rest(&mut stage);
    assert!(!rest.contains("NO") && rest.contains('\u{1b}'), "the terminal got f7: {rest:?}");
    stage.person.tap("b");
    assert_eq!(stage.terminal.read(2), "NO");
    running.stop();
}

#[test]
fn x11_a_rule_waits_for_its_program_and_a_condition_gives_the_key_back() {
    let mut stage = Stage::set("us");
    let rules = "let lamp = false\n\
                 when key f9 in app \"corelog\" => type \"IN\"\n\
                 when key f8 in app \"drill\" => type \"NO\"\n\
                 when key x if lamp => type \"ON\"\n\
                 when key f5 => set lamp = true\n";
    let running = Running::start(&stage.display, rules);
    stage.person.tap("f9");
    assert_eq!(stage.terminal.read(2), "IN");
    stage.person.tap("f8");
    assert!(!typed_rest(&mut stage).contains("NO"));
    stage.person.tap("x");
    assert_eq!(stage.terminal.read(1), "x", "the program gets the key that no rule wants");
    // No hand presses a key again within the moment in which its release is handed on.
    stage.person.expect_no_keys_down();
    stage.person.tap("f5");
    stage.person.tap("x");
    assert_eq!(stage.terminal.read(2), "ON");
    stage.person.expect_no_keys_down();
    running.stop();
}

#[test]
fn x11_a_key_that_passes_does_both_and_a_release_is_told_from_a_press() {
    let mut stage = Stage::set("us");
    let rules = "when key x passing => type \"P\"\nwhen key f9 released => type \"R\"\n";
    let running = Running::start(&stage.display, rules);
    stage.person.tap("x");
    assert_eq!(stage.terminal.read(2), "xP", "the program has the key before the rule answers");
    stage.person.press("f9");
    assert_eq!(typed_rest(&mut stage), "");
    stage.person.release("f9");
    assert_eq!(stage.terminal.read(1), "R");
    running.stop();
}

#[test]
fn x11_a_click_loop_stops_at_its_key_and_at_the_panic_key() {
    let (display, mut person, target) = bare();
    let rules = "when key f6 again stops { repeat { click left } }\n\
                 when key f7 { repeat every 1ms { click left } }\n";
    let mut running = Running::start(&display, rules);
    for (start, stop) in [("f6", "f6"), ("f7", "ctrl+alt+shift+escape")] {
        person.tap(start);
        target.expect(200);
        person.tap(stop);
        running.wait_for(if start == stop { "stopped" } else { "panic" });
        arrived(&display, &person, &target);
        assert_eq!(arrived(&display, &person, &target), [], "nothing more comes after {stop}");
        assert!(!person.buttons_down() && person.keys_down().is_empty());
    }
    person.tap("f6");
    assert_eq!(target.expect_press(72).detail, 72, "after a panic every key is the programs'");
    running.stop();
}

#[test]
fn x11_while_held_ends_with_the_key_and_lets_go() {
    let (display, mut person, target) = bare();
    let running = Running::start(&display, "when key f7 while held { hold a { wait } }\n");
    person.press("f7");
    assert!(target.expect(1)[0].down);
    person.release("f7");
    let got = arrived(&display, &person, &target);
    let last = got.last().expect("the key is let go");
    assert!(last.detail == A && !last.down);
    person.expect_no_keys_down();
    running.stop();
}

#[test]
fn x11_saving_the_file_changes_the_rules_and_a_broken_file_changes_nothing() {
    let mut stage = Stage::set("us");
    let mut running = Running::start(&stage.display, "when key f9 => type \"one\"\n");
    std::fs::write(&running.file, "when key f10 => type \"two\"\n").expect("it can be written");
    running.wait_for("reloaded");
    stage.person.tap("f10");
    assert_eq!(stage.terminal.read(3), "two");
    std::fs::write(&running.file, "when key f10 => typ \"three\"\n").expect("it can be written");
    running.wait_for("stay in force");
    stage.person.tap("f10");
    assert_eq!(stage.terminal.read(3), "two");
    // As many editors save: a new file in the place of the old.
    let fresh = stage.display.folder().join("fresh");
    std::fs::write(&fresh, "when key f10 => type \"four\"\n").expect("it can be written");
    std::fs::rename(&fresh, &running.file).expect("it can be renamed");
    running.wait_for("reloaded");
    stage.person.tap("f10");
    assert_eq!(stage.terminal.read(4), "four");
    running.stop();
}

#[test]
fn x11_typing_stops_when_another_program_comes_to_the_front() {
    let mut stage = Stage::set("us");
    let text = "abcdefghij".repeat(30);
    let rules = format!("when key f9 {{ type \"{text}\" every 40ms; log \"never\" }}\n");
    let mut running = Running::start(&stage.display, &rules);
    stage.person.tap("f9");
    assert_eq!(stage.terminal.read(2), "ab");
    let other = Target::managed(&stage.display, "drill");
    // Between the two windows there may be a moment in which none is in front.
    let line = running.wait_for("of 300 characters were typed");
    assert!(line.contains("came to the front") || line.contains("no window is in front"), "{line}");
    // The window manager tells of the other window a moment after it has the keyboard.
    let came = arrived(&stage.display, &stage.person, &other);
    let astray = came.iter().filter(|got| got.down).count();
    assert!(astray <= 1, "{astray} went astray besides the one under way");
    close(&stage.display, other);
    let typed = typed_rest(&mut stage);
    assert!(typed.len() < 298 && text[2..].starts_with(&typed), "{typed}");
    running.stop();
}

#[test]
fn x11_rules_follow_the_program_in_front() {
    let mut stage = Stage::set("us");
    let rules =
        "when key f9 in app \"corelog\" => type \"log\"\nwhen key f9 in app \"DRILL\" => tap a\n";
    let running = Running::start(&stage.display, rules);
    stage.person.tap("f9");
    assert_eq!(stage.terminal.read(3), "log");
    let drill = Target::managed(&stage.display, "drill");
    // The keys are armed for the new program a moment after it came to the front.
    wait_in_front(&stage.display, &drill);
    take_in(&stage.display, &stage.person);
    stage.person.tap("f9");
    drill.expect_press(A);
    close(&stage.display, drill);
    assert_eq!(typed_rest(&mut stage), "");
    running.stop();
}

#[test]
fn x11_a_hint_is_on_the_screen_for_its_time() {
    let (display, mut person, target) = bare();
    let rules = "when key f9 { hint \"section 2, −31 °C\" at 40, 40 for 1s; tap a }\n";
    let running = Running::start(&display, rules);
    let windows = person.windows();
    person.tap("f9");
    target.expect(2);
    assert_eq!(person.wait_windows(windows + 1), windows + 1);
    assert_eq!(person.wait_windows(windows), windows, "it disappears");
    running.stop();
}

#[test]
fn x11_a_toggle_holds_until_it_is_toggled_and_ends_with_the_program() {
    let (display, mut person, target) = bare();
    let running = Running::start(&display, "when key f9 => toggle a\n");
    person.tap("f9");
    assert!(target.expect(1)[0].down);
    assert_eq!(person.keys_down().into_iter().collect::<Vec<_>>(), [A]);
    person.tap("f9");
    // The server repeats a held key, as it does for a finger.
    while target.expect(1)[0].down {}
    person.expect_no_keys_down();
    person.tap("f9");
    target.expect(1);
    running.stop();
    person.expect_no_keys_down();
}

#[test]
fn x11_left_and_right_are_told_apart() {
    let mut stage = Stage::set("us");
    let rules = "when key left-ctrl+f9 => type \"L\"\nwhen key right-ctrl+f9 => type \"R\"\nwhen key alt-gr+f9 => type \"G\"\n";
    let mut running = Running::start(&stage.display, rules);
    for (held, text) in [("left-ctrl", "L"), ("right-ctrl", "R"), ("alt-gr", "G")] {
        stage.person.press(held);
        stage.person.tap("f9");
        assert_eq!(stage.terminal.read(1), text, "{held}");
        running.wait_for("ended");
        stage.person.release(held);
        // What was put back goes up a moment after the finger.
        stage.person.expect_no_keys_down();
    }
    running.stop();
}

#[test]
fn x11_two_layout_groups_are_followed() {
    let mut stage = Stage::set("us,ru");
    let mut running = Running::start(&stage.display, "when key q => type \"qЖ\"\n");
    stage.person.tap("q");
    assert_eq!(stage.terminal.read(3), "qЖ");
    stage.person.set_group(1);
    running.wait_for("another layout");
    // The second group has no q, so the name means the key of the first Latin one.
    stage.person.tap("q");
    assert_eq!(stage.terminal.read(3), "qЖ");
    running.stop();
}

#[test]
fn x11_a_rule_may_hold_the_key_of_another_rule() {
    let (display, mut person, target) = bare();
    let rules = "when key f9 again stops { hold a { wait } }\nwhen key a => tap c\n";
    let running = Running::start(&display, rules);
    person.tap("f9");
    // It goes down and repeats, as under a finger, and what else is pressed still arrives.
    target.expect(12).iter().for_each(|got| assert_eq!(got.detail, A));
    person.tap("b");
    // The keyboard is not taken meanwhile.
    target.expect_press(B);
    person.tap("f9");
    target.settle(&person, 0);
    take_in(&display, &person);
    person.tap("a");
    let got = target.expect(2);
    assert!(got.iter().all(|got| got.detail == C), "its own rule has the key again: {got:?}");
    running.stop();
}
