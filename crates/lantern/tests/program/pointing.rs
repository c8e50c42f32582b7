//! The pointer on a real X server: moved by pixels, to places and over a time, with a button held, on screens
//! that come and go.

use std::time::{Duration, Instant};

use lantern_stage::{Person, ReceivedKey, Stage};

use crate::desktop::{A, B, C, bare};
use crate::running::{Running, arrived};

#[test]
fn x11_the_pointer_is_nudged_five_hundred_times_and_lands_exactly() {
    let (display, mut person, _target) = bare();
    let rules = "when key right repeating => move by 1, 0
when key f5 { move to 100, 200; repeat 500 times { move by 1, 1 } }
when key f6 { move to 700, 100 over 300ms }
when key f7 { move to 9000, 9000 }
when key f8 { move to 50%, 50% of screen }
";
    let mut running = Running::start(&display, rules);
    for (key, place) in
        [("f5", (600, 700)), ("f6", (700, 100)), ("right", (701, 100)), ("f8", (640, 400))]
    {
        person.tap(key);
        running.wait_for(": ended");
        // What we sent may still be on its way through the server.
        display.wait_until(key, |_| person.pointer() == place);
    }
    person.tap("f7");
    let line = running.wait_for("9000");
    assert!(line.contains("failed"), "{line}");
    assert_eq!(person.pointer(), (640, 400), "a place on no screen is not gone to");
    running.stop();
}

#[test]
fn x11_the_pointer_is_nudged_pixel_by_pixel_as_long_as_the_key_is_down() {
    let (display, mut person, target) = bare();
    let rules = "when key right repeating { move by 1, 0; tap a }\n\
                 when key f9 { move to 200, 100; tap a }\n";
    let running = Running::start(&display, rules);
    person.tap("f9");
    target.expect(2);
    assert_eq!(person.pointer(), (200, 100));
    person.press("right");
    target.expect(8);
    person.release("right");
    let more = arrived(&display, &person, &target).len() / 2;
    let (x, y) = person.pointer();
    assert_eq!((x, y), (204 + more as i16, 100), "one pixel for each time it fired");
    running.stop();
}

#[test]
fn x11_where_the_pointer_is_can_be_asked_and_glided_from() {
    let (display, mut person, target) = bare();
    let rules = "when key f9 if pointer.x > 600 => tap a\nwhen key f9 if pointer.x <= 600 => tap b\n\
                 when key f8 { move to 300, 200 over 100ms; tap c }\n";
    let running = Running::start(&display, rules);
    person.move_pointer(400, 0);
    person.tap("f9");
    target.expect_press(A);
    person.tap("f8");
    target.expect_press(C);
    assert_eq!(person.pointer(), (300, 200));
    person.tap("f9");
    target.expect_press(B);
    running.stop();
}

#[test]
fn x11_where_the_pointer_is_follows_our_own_moves() {
    let (display, mut person, target) = bare();
    let rules = "when key f9 { move to 300, 200; move by 7, 3
    if pointer.x == 307 and pointer.y == 203 { tap a } else { log \"{pointer.x} {pointer.y}\"; tap b } }
when key f8 { move by 5, 0 over 50ms; if pointer.x == 312 { tap c } else { tap b } }\n";
    let running = Running::start(&display, rules);
    person.tap("f9");
    assert_eq!(target.expect(1)[0].detail, A);
    target.settle(&person, 0);
    person.tap("f8");
    assert_eq!(target.expect(1)[0].detail, C);
    running.stop();
}

#[test]
fn x11_shares_of_the_screen_are_of_the_one_the_pointer_is_on_as_screens_come_and_go() {
    let (display, mut person, target) = bare();
    let rules = "when key f9 { move to 50%, 50% of screen; tap a }\n";
    let running = Running::start(&display, rules);
    let at = |from: (i16, i16), person: &mut Person| {
        person.move_pointer(from.0, from.1);
        person.tap("f9");
        target.expect_press(A);
        person.pointer()
    };
    assert_eq!(at((900, 10), &mut person), (640, 400));
    person.divide_screen(true);
    assert_eq!(at((900, 10), &mut person), (960, 400), "the right half is a screen of its own");
    person.divide_screen(false);
    assert_eq!(at((900, 10), &mut person), (640, 400));
    running.stop();
}

#[test]
fn x11_a_drag_holds_its_button_on_the_way_and_a_wheel_turns_every_way() {
    let (display, mut person, target) = bare();
    let rules = "when key f5 { move to 700, 500; drag left to 300, 200 over 100ms; click right }
when key f6 { scroll down 3; scroll up 2; scroll left 2; scroll right 1 }
when key f7 => drag middle to 9000, 20
";
    let mut running = Running::start(&display, rules);
    let buttons = |person: &Person| -> Vec<ReceivedKey> {
        arrived(&display, person, &target).into_iter().filter(|got| got.button).collect()
    };
    let began = Instant::now();
    person.tap("f5");
    running.wait_for(": ended");
    assert!(began.elapsed() >= Duration::from_millis(100), "it takes its time");
    let got = buttons(&person);
    let steps: Vec<_> = got.iter().map(|got| (got.detail, got.down, got.place)).collect();
    let (begin, end) = ((700, 500), (300, 200));
    assert_eq!(steps, [(1, true, begin), (1, false, end), (3, true, end), (3, false, end)]);
    person.tap("f6");
    running.wait_for(": ended");
    let turned: Vec<u8> =
        buttons(&person).iter().filter(|got| got.down).map(|got| got.detail).collect();
    assert_eq!(turned, [5, 5, 5, 4, 4, 6, 6, 7]);
    person.tap("f7");
    let line = running.wait_for("failed");
    assert!(line.contains("9000"), "{line}");
    display.wait_until("the button to be let go", |_| !person.buttons_down());
    running.stop();
}

#[test]
fn x11_shares_of_the_window_are_of_the_one_in_front() {
    let mut stage = Stage::set("us");
    let rules = "when key f9 { move to 0%, 100% of window; log \"there\" }\nwhen key f8 => move to 50%, 25% of window\n";
    let mut running = Running::start(&stage.display, rules);
    let [x, y, width, height] = stage.display.frame_of_front();
    for (key, place) in [("f9", (x, y + height - 1)), ("f8", (x + width / 2, y + height / 4))] {
        stage.person.tap(key);
        running.wait_for(": ended");
        let there = stage.person.pointer();
        let (dx, dy) = (i32::from(there.0) - place.0, i32::from(there.1) - place.1);
        assert!(dx.abs() <= 1 && dy.abs() <= 1, "{key}: {there:?} instead of {place:?}");
    }
    running.stop();
}
