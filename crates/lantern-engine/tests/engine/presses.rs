//! Keys that wait to be told, keys together, one after another, and keys that are others.

use insta::assert_snapshot;
use lantern_model::Event;

use crate::theatre::{Theatre, key};

#[test]
fn keys_together_fire_in_any_order_and_nothing_reaches_the_program() {
    let mut theatre = Theatre::new("when key f7+f8 => log \"both\"\n");
    theatre.press("f8");
    theatre.wait(20);
    theatre.press("f7");
    theatre.release("f7");
    theatre.release("f8");
    assert_snapshot!(theatre.script(), @r#"
     0 arm f7 f8 shift+ctrl+alt+escape and see all fingers and withhold all
    20 arm f7 f8 shift+ctrl+alt+escape and see all fingers
    20 log "both"
    "#);
}

#[test]
fn the_first_of_keys_together_is_given_back_when_the_rest_does_not_come() {
    let mut theatre = Theatre::new("when key f7+f8 => log \"both\"\n");
    theatre.press("f7");
    theatre.wait(100);
    theatre.press("f8");
    theatre.wait(10);
    assert_snapshot!(theatre.script(), @r#"
      0 arm f7 f8 shift+ctrl+alt+escape and see all fingers and withhold all
     60 give back f7
     60 arm f7 f8 shift+ctrl+alt+escape and see all fingers
    100 log "both"
    "#);
}

#[test]
fn what_waits_is_given_back_in_order_before_what_comes_later() {
    let mut theatre = Theatre::new("when key j+k => log \"both\"\n");
    theatre.press("j");
    theatre.wait(10);
    theatre.press("x");
    theatre.release("j");
    theatre.press("j");
    theatre.wait(10);
    theatre.release("j");
    theatre.wait(100);
    assert_snapshot!(theatre.script(), @"
     0 arm j k shift+ctrl+alt+escape and see all fingers and withhold all
    10 give back j
    10 give back x
    10 arm j k shift+ctrl+alt+escape and see all fingers
    10 arm j k shift+ctrl+alt+escape and see all fingers and withhold all
    20 give back j as a tap
    20 arm j k shift+ctrl+alt+escape and see all fingers
    ");
}

#[test]
fn the_largest_that_a_key_completes_wins() {
    let mut theatre = Theatre::new(
        "when key f6 => log \"one\"\nwhen key f6+f7 => log \"two\"\nwhen key f6+f7+f8 => log \"three\"\n",
    );
    theatre.press("f6");
    theatre.wait(10);
    theatre.press("f7");
    theatre.wait(10);
    theatre.press("f8");
    theatre.release("f8");
    theatre.release("f7");
    theatre.release("f6");
    theatre.wait(100);
    theatre.press("f6");
    theatre.wait(100);
    assert_snapshot!(theatre.script(), @r#"
      0 arm f6 f7 f8 shift+ctrl+alt+escape and see all fingers and withhold all
     10 arm f6 f7 f8 shift+ctrl+alt+escape and see all fingers
     10 log "two"
     20 log "three"
    120 arm f6 f7 f8 shift+ctrl+alt+escape and see all fingers and withhold all
    180 arm f6 f7 f8 shift+ctrl+alt+escape and see all fingers
    180 log "one"
    "#);
}

#[test]
fn a_tap_a_double_tap_and_a_long_press_are_told_apart() {
    let mut theatre = Theatre::new(
        "when key f7 tapped => log \"tap\"\nwhen key f7 twice => log \"twice\"\nwhen key f7 held 500ms => log \"long\"\n",
    );
    theatre.press("f7");
    theatre.wait(50);
    theatre.release("f7");
    theatre.wait(1000);
    theatre.press("f7");
    theatre.wait(50);
    theatre.release("f7");
    theatre.wait(50);
    theatre.press("f7");
    theatre.release("f7");
    theatre.wait(1000);
    theatre.press("f7");
    theatre.wait(600);
    theatre.release("f7");
    theatre.wait(1000);
    assert_snapshot!(theatre.script(), @r#"
       0 arm f7 shift+ctrl+alt+escape and see all fingers and withhold all
     300 arm f7 shift+ctrl+alt+escape and see all fingers
     300 log "tap"
    1050 arm f7 shift+ctrl+alt+escape and see all fingers and withhold all
    1150 arm f7 shift+ctrl+alt+escape and see all fingers
    1150 log "twice"
    2150 arm f7 shift+ctrl+alt+escape and see all fingers and withhold all
    2650 arm f7 shift+ctrl+alt+escape and see all fingers
    2650 log "long"
    "#);
}

#[test]
fn a_press_that_is_too_long_for_a_tap_is_given_back_while_it_is_down() {
    let mut theatre = Theatre::new("when key f7 tapped => log \"tap\"\n");
    theatre.press("f7");
    theatre.wait(400);
    theatre.release("f7");
    assert_snapshot!(theatre.script(), @"
      0 arm f7 shift+ctrl+alt+escape and see all fingers and withhold all
    250 give back f7
    250 arm f7 shift+ctrl+alt+escape and see all fingers
    ");
}

#[test]
fn another_key_between_makes_it_no_tap() {
    let mut theatre = Theatre::new("when key f7 tapped => log \"tap\"\n");
    theatre.press("f7");
    theatre.wait(20);
    theatre.press("a");
    theatre.wait(20);
    theatre.release("f7");
    theatre.release("a");
    assert_snapshot!(theatre.script(), @"
     0 arm f7 shift+ctrl+alt+escape and see all fingers and withhold all
    20 give back f7
    20 give back a
    20 arm f7 shift+ctrl+alt+escape and see all fingers
    ");
}

#[test]
fn a_modifier_alone_passes_and_is_heard_on_both_sides() {
    let mut theatre = Theatre::new(
        "when key super tapped => log \"super\"\nwhen key left-shift => log \"shift\"\n",
    );
    for name in ["left-super", "right-super", "left-shift", "right-shift"] {
        theatre.finger(name, true);
        theatre.wait(30);
        theatre.finger(name, false);
    }
    theatre.finger("left-super", true);
    theatre.finger("a", true);
    theatre.finger("left-super", false);
    assert_snapshot!(theatre.script(), @r#"
    30 log "super"
    60 log "super"
    60 log "shift"
    "#);
}

#[test]
fn a_sequence_goes_on_and_through_and_withholds_its_keys() {
    let mut theatre = Theatre::new(
        "when keys f5, f6, f7 within 1s => log \"all\"\nwhen keys f5, f8 => log \"short\"\n",
    );
    for name in ["f5", "f6", "f7", "f5", "f8"] {
        theatre.press(name);
        theatre.wait(200);
        theatre.release(name);
    }
    assert_snapshot!(theatre.script(), @r#"
      0 arm f5 shift+ctrl+alt+escape and see all fingers and withhold all
    400 arm f5 shift+ctrl+alt+escape and see all fingers
    400 log "all"
    600 arm f5 shift+ctrl+alt+escape and see all fingers and withhold all
    800 arm f5 shift+ctrl+alt+escape and see all fingers
    800 log "short"
    "#);
}

#[test]
fn a_sequence_that_fails_gives_its_keys_back() {
    let mut theatre = Theatre::new("when keys f5, f6 within 1s => log \"both\"\n");
    theatre.press("f5");
    theatre.release("f5");
    theatre.wait(100);
    theatre.press("x");
    theatre.release("x");
    theatre.wait(100);
    theatre.press("f5");
    theatre.release("f5");
    theatre.wait(2000);
    assert_snapshot!(theatre.script(), @"
       0 arm f5 shift+ctrl+alt+escape and see all fingers and withhold all
     100 give back f5 as a tap
     100 give back x
     100 arm f5 shift+ctrl+alt+escape and see all fingers
     200 arm f5 shift+ctrl+alt+escape and see all fingers and withhold all
    1200 give back f5 as a tap
    1200 arm f5 shift+ctrl+alt+escape and see all fingers
    ");
}

#[test]
fn a_remapped_key_is_another_as_long_as_it_is_held() {
    let mut theatre = Theatre::new(
        "remap f23 to ctrl+left\nremap ctrl+h to up\nwhen key ctrl+left => log \"rule\"
when key f1 if is-down(ctrl, left) => log \"held\"
",
    );
    theatre.press("f23");
    theatre.press("f1");
    theatre.release("f1");
    theatre.release("f23");
    theatre.hold("left-ctrl");
    theatre.hold("left-shift");
    theatre.press("h");
    theatre.release("h");
    assert_snapshot!(theatre.script(), @r#"
    0 log "rule"
    0 log "held"
    0 give back h as up hiding {LeftCtrl}
    "#);
}

#[test]
fn a_key_of_two_roles_is_the_first_at_once_and_the_second_when_tapped() {
    let mut theatre = Theatre::new(
        "remap caps-lock to ctrl, tapped to escape\nwhen key escape in app \"log\" => log \"escape\"\n",
    );
    theatre.tap("caps-lock", 50);
    theatre.press("caps-lock");
    theatre.wait(20);
    theatre.finger("c", true);
    theatre.finger("c", false);
    theatre.release("caps-lock");
    theatre.tap("caps-lock", 400);
    theatre.focus("log", 2);
    theatre.tap("caps-lock", 50);
    assert_snapshot!(theatre.script(), @r#"
      0 give back caps-lock as left-ctrl
     50 give back caps-lock as escape as a tap
     50 give back caps-lock as left-ctrl
     70 give back caps-lock as left-ctrl
    470 arm escape shift+ctrl+alt+escape caps-lock and see all fingers
    470 give back caps-lock as left-ctrl
    520 log "escape"
    "#);
}

#[test]
fn what_was_decided_at_the_press_holds_for_the_release() {
    let mut theatre =
        Theatre::new("when key f9 released in app \"log\" => log \"up\"\nremap f10 to left\n");
    theatre.focus("log", 2);
    theatre.press("f9");
    theatre.focus("saw", 3);
    theatre.release("f9");
    theatre.happen(Event::Locked(true));
    theatre.press("f10");
    theatre.release("f10");
    assert_snapshot!(theatre.script(), @r#"
    0 arm f9 f10 shift+ctrl+alt+escape
    0 arm f10 shift+ctrl+alt+escape
    0 log "up"
    0 arm shift+ctrl+alt+escape
    0 give back f10
    "#);
}

#[test]
fn a_drawing_takes_its_button_and_a_mere_click_is_given_back() {
    let mut theatre =
        Theatre::new("when gesture check-mark while holding forward-button => log \"drawn\"\n");
    theatre.press("forward-button");
    theatre.wait(300);
    theatre.happen(drawn("check-mark", "forward-button"));
    theatre.release("forward-button");
    theatre.press("forward-button");
    theatre.wait(30);
    theatre.release("forward-button");
    theatre.press("forward-button");
    theatre.happen(drawn("caret", "forward-button"));
    theatre.release("forward-button");
    assert_snapshot!(theatre.script(), @r#"
      0 arm shift+ctrl+alt+escape forward-button and withhold all and trace
    300 log "drawn"
    300 arm shift+ctrl+alt+escape forward-button
    300 arm shift+ctrl+alt+escape forward-button and withhold all and trace
    330 give back forward-button as a tap
    330 arm shift+ctrl+alt+escape forward-button
    330 arm shift+ctrl+alt+escape forward-button and withhold all and trace
    330 arm shift+ctrl+alt+escape forward-button
    "#);
}

fn drawn(shape: &str, held: &str) -> Event {
    Event::Gesture {
        shape: shape.to_owned(),
        key: key(held),
        bounds: lantern_model::Rect::default(),
        score: 1.0,
    }
}

#[test]
fn rules_replaced_give_back_what_waits() {
    let mut theatre = Theatre::new("when keys f5, f6 => log \"both\"\n");
    theatre.press("f5");
    let rules = crate::theatre::rules("when key f9 => log \"x\"\n");
    theatre.replace(rules);
    theatre.wait(5000);
    assert_snapshot!(theatre.script(), @"
    0 arm f5 shift+ctrl+alt+escape and see all fingers and withhold all
    0 give back f5
    0 arm f9 shift+ctrl+alt+escape
    ");
}
