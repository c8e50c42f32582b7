//! Rules at work on the kernel's input, compared at the receiver.

use std::time::Duration;

use lantern_stage::{Came, Console, Plugged, VirtualDevices, pass_time};
use rustix::process::Signal;

use crate::running::{Running, Who};
use crate::twelve::{BETWEEN, Hand, TWELVE};

const SCREEN: (i32, i32) = (1280, 800);

pub fn the_twelve_scenes_come_out_as_on_the_other_desks() {
    let mut boards = VirtualDevices::plug_in("Bench");
    for scene in &TWELVE {
        let _running = Running::start(scene.rules, "Bench");
        let mut console = Console::open(SCREEN);
        console.clear();
        for hand in scene.hands {
            // The hand moves once the screen is still.
            console.rest(BETWEEN);
            match hand {
                Hand::Tap(keys) => boards.tap(keys),
                Hand::Press(key) => boards.press(key),
                Hand::Release(key) => boards.release(key),
                Hand::Rest(millis) => console.read_for(Duration::from_millis(*millis)),
            }
        }
        console.until(scene.name, |console| console.text() == scene.text);
        // A letter that no rule names comes after all that the rules type.
        tap_last(&mut boards, &mut console);
        let text = console.text().trim_end_matches('z');
        assert_eq!((text, console.keys_down()), (scene.text, Vec::new()), "{}", scene.name);
    }
}

/// Taps a key that no rule names, and waits for its release. It comes after all that was pressed before.
fn tap_last(boards: &mut VirtualDevices, console: &mut Console) {
    const Z_RELEASED: Came = Came { code: 44, value: 0 };
    let count =
        |console: &Console| console.keys().iter().filter(|came| **came == Z_RELEASED).count();
    let before = count(console);
    boards.tap("z");
    console.until("the last key", |console| count(console) > before);
}

pub fn a_mouse_button_and_the_wheel_are_keys_of_rules() {
    let mut boards = VirtualDevices::plug_in("Bench");
    let rules = "when key back-button => type \"back \"\nwhen key ctrl+wheel-up => type \"up \"\n";
    let _running = Running::start(rules, "Bench");
    let mut console = Console::open(SCREEN);
    boards.tap("back-button");
    console.until("the text", |console| console.text() == "back ");
    boards.mouse.turns(1);
    boards.mouse.moves(5, -3);
    boards.tap("left-button");
    let place = (SCREEN.0 / 2 + 5, SCREEN.1 / 2 - 3);
    console.until("the movement", |console| console.pointer() == place);
    tap_last(&mut boards, &mut console);
    assert_eq!(console.text(), "back z");
    assert!(console.take_words().contains(&"wheel 1".to_owned()), "without ctrl it turns");
    boards.press("ctrl");
    boards.mouse.turns(1);
    console.until("the text", |console| console.text() == "back zup ");
    boards.release("ctrl");
    tap_last(&mut boards, &mut console);
    assert_eq!(console.text(), "back zup z");
    assert!(!console.take_words().contains(&"wheel 1".to_owned()), "with it, it does not");
    assert_eq!(console.keys_down(), []);
}

pub fn only_the_second_keyboard_counts() {
    let mut first = Plugged::keyboard("Bench keyboard");
    let mut second = Plugged::keyboard("Bench pedal pad");
    let rules = "when key pad-enter from device \"bench pedal pad\" => type \"pedal \"\n";
    let _running = Running::start(rules, "Bench");
    let mut console = Console::open(SCREEN);
    let pad_enter = 96;
    first.keys(&[(pad_enter, 1), (pad_enter, 0)]);
    console.until("the key itself", |console| console.words() == ["pad-enter"]);
    second.keys(&[(pad_enter, 1), (pad_enter, 0)]);
    console.until("the text", |console| console.text().contains("pedal "));
    assert_eq!(console.text().matches("pedal").count(), 1, "once, by the second");
}

pub fn a_shape_is_drawn_with_the_mouse() {
    let mut boards = VirtualDevices::plug_in("Bench");
    let rules = "when gesture corner while holding right-button => type \"corner \"\n";
    let _running = Running::start(rules, "Bench");
    let mut console = Console::open(SCREEN);
    boards.press("right-button");
    for (x, y) in [(0, 6), (6, 0)] {
        for _ in 0..40 {
            boards.mouse.moves(x, y);
            pass_time(Duration::from_millis(4));
        }
    }
    boards.release("right-button");
    console.until("the text", |console| console.text() == "corner ");
    console.clear();
    boards.tap("right-button");
    let clicks =
        |console: &Console| console.keys().iter().filter(|came| came.code == 0x111).count();
    console.until("the click", |console| clicks(console) >= 2);
    boards.tap("left-button");
    console.until("the next", |console| console.keys().iter().any(|came| came.code == 0x110));
    assert_eq!(clicks(&console), 2, "a click goes through, down and up");
}

pub fn a_shape_drawn_while_we_had_no_time_is_seen_whole() {
    let mut boards = VirtualDevices::plug_in("Bench");
    let rules = "when gesture corner while holding right-button => type \"corner \"\n";
    let running = Running::start(rules, "Bench");
    let mut console = Console::open(SCREEN);
    for stopped_to_the_end in [true, false] {
        console.clear();
        running.send(Signal::STOP);
        boards.press("right-button");
        for (x, y) in [(0, 24), (24, 0)] {
            (0..10).for_each(|_| boards.mouse.moves(x, y));
        }
        if stopped_to_the_end {
            boards.release("right-button");
            running.send(Signal::CONT);
        } else {
            running.send(Signal::CONT);
            boards.release("right-button");
        }
        console.until("the text", |console| console.text() == "corner ");
    }
}

pub fn a_pen_goes_through_but_for_the_parts_that_rules_want() {
    const TIP: u16 = 330;
    const BARREL: u16 = 331;
    const BARREL_2: u16 = 332;
    let mut pen = Plugged::pen("Bench tablet");
    let rules = "when key pen-barrel => type \"barrel \"\n\
                 when gesture corner while holding pen-barrel-2 => type \"corner \"\n";
    let _running = Running::start(rules, "Bench");
    let mut console = Console::open(SCREEN);
    console.clear();
    pen.keys(&[(TIP, 1)]);
    pen.places(5_000, 5_000);
    pen.keys(&[(TIP, 0), (BARREL, 1), (BARREL, 0)]);
    console.until("the text", |console| console.text() == "barrel ");
    let through: Vec<u16> = console.take_keys().iter().map(|came| came.code).collect();
    assert_eq!(through.iter().filter(|code| **code == TIP).count(), 2, "the tip goes through");
    assert!(!through.contains(&BARREL), "the barrel does not");
    pen.places(3_000, 3_000);
    pen.keys(&[(BARREL_2, 1)]);
    for step in 0..40 {
        pen.places(3_000, 3_000 + 60 * step);
        pass_time(Duration::from_millis(4));
    }
    for step in 0..40 {
        pen.places(3_000 + 60 * step, 5_400);
        pass_time(Duration::from_millis(4));
    }
    pen.keys(&[(BARREL_2, 0)]);
    console.until("the shape", |console| console.text() == "barrel corner ");
}

pub fn what_the_administrator_forbids_does_not_run() {
    let policy = "/etc/cold-lantern/policy.json";
    std::fs::create_dir_all("/etc/cold-lantern").expect("we are root");
    let _boards = VirtualDevices::plug_in("Bench");
    let rules = "when key f9 => type \"12\"\nwhen key f8 => shell \"date\"\n";
    std::fs::write(policy, "{ \"forbidden\": [\"uses-shell\"] }").expect("we are root");
    let mut refused = Running::begin(rules, &["--device", "Bench"], &Who::default());
    refused.expect("the administrator of this machine forbids `uses-shell`");
    assert!(!refused.wait().success());
    // A policy that cannot be understood forbids everything.
    std::fs::write(policy, "{ \"forbiden\": [] }").expect("we are root");
    let mut refused =
        Running::begin("when key f9 => type \"12\"\n", &["--device", "Bench"], &Who::default());
    refused.expect("cannot be used");
    assert!(!refused.wait().success());
    std::fs::remove_file(policy).expect("it is there");
    let _running = Running::start(rules, "Bench");
}
