//! What the person's hands and our output do to each other.

use insta::assert_snapshot;

use crate::theatre::Theatre;

#[test]
fn two_runs_never_mix_letters() {
    let mut theatre = Theatre::new(
        "when key f1 => type \"slow\" every 10ms\nwhen key f2 => tap x, y\nwhen key f3 => type \"z\"\n",
    );
    theatre.press("f1");
    theatre.wait(5);
    theatre.press("f2");
    theatre.press("f3");
    theatre.wait(100);
    assert_snapshot!(theatre.script(), @r#"
     0 type "s"
    10 type "l"
    20 type "o"
    30 type "w"
    30 tap x, tap y
    30 type "z"
    "#);
}

#[test]
fn what_another_run_holds_is_lifted_and_what_the_run_holds_stays() {
    let mut theatre = Theatre::new(
        "when key f1 { hold w { wait } }\nwhen key f2 { hold ctrl { tap c } }\nwhen key f3 => toggle left-button\n",
    );
    theatre.press("f1");
    theatre.press("f3");
    theatre.press("f2");
    assert_snapshot!(theatre.script(), @"
    0 down w keeping [w]
    0 down left-button
    0 down left-ctrl keeping [left-ctrl]
    0 tap c keeping [left-ctrl] parking [w]
    0 up left-ctrl
    ");
}

#[test]
fn typing_stops_when_another_program_comes_to_the_front() {
    let mut theatre = Theatre::new(
        "when key f1 { type \"abcdef\" every 10ms; log \"never\" }\nwhen key f2 { type \"uvw\" every 10ms anyway; log \"done\" }\n",
    );
    theatre.focus("log", 1);
    theatre.script();
    theatre.press("f1");
    theatre.wait(25);
    theatre.focus("saw", 2);
    theatre.wait(100);
    theatre.press("f2");
    theatre.wait(15);
    theatre.focus("log", 1);
    theatre.wait(100);
    assert_snapshot!(theatre.script(), @r#"
      0 type "a"
     10 type "b"
     20 type "c"
    125 type "u"
    135 type "v"
    145 type "w"
    145 log "done"
    "#);
    let reasons = theatre.reasons().join("\n");
    assert!(reasons.contains("3 of 6 characters"), "{reasons}");
}

#[test]
fn while_held_ends_with_the_finger_and_empties_what_waits() {
    let mut theatre = Theatre::new("when key f7 while held { hold l { wait } }\n");
    theatre.press("f7");
    theatre.wait(10);
    theatre.press("f7");
    theatre.wait(10);
    theatre.release("f7");
    assert_snapshot!(theatre.script(), @"
     0 down l keeping [l]
    20 up l
    ");
    assert_eq!(theatre.engine.live_runs(), 0);
}

#[test]
fn held_is_a_value_in_such_a_rule() {
    let mut theatre =
        Theatre::new("when key f7 while held { repeat every 10ms while held { click left } }\n");
    theatre.press("f7");
    theatre.wait(15);
    theatre.release("f7");
    theatre.wait(100);
    assert_snapshot!(theatre.script(), @"
     0 tap left-button
    10 tap left-button
    ");
}

#[test]
fn the_panic_key_ends_every_run_and_lets_every_key_go() {
    let mut theatre = Theatre::new(
        "when key f1 { hold ctrl+a { wait } }\nwhen key f2 => toggle b\nwhen key f3 { press left-button; type \"abc\" every 1s }\n\
         when key f4 { wait 5ms; tap x }\n",
    );
    for name in ["f1", "f2", "f3", "f4", "f4"] {
        theatre.press(name);
    }
    theatre.script();
    for name in ["left-ctrl", "left-alt", "left-shift"] {
        theatre.hold(name);
    }
    theatre.press("escape");
    theatre.wait(5000);
    assert_snapshot!(theatre.script(), @"
         0 up left-button, up left-ctrl, up b, up a
         0 arm shift+ctrl+alt+escape
    ");
    assert_eq!((theatre.engine.live_runs(), theatre.engine.held_keys().count()), (0, 0));
}

#[test]
fn is_down_asks_the_fingers() {
    let mut theatre = Theatre::new(
        "when key f9 { if is-down(shift, back-button) { log \"both\" } else { log \"no\" } }\n",
    );
    assert_eq!(theatre.script(), "");
    theatre.press("f9");
    for name in ["right-shift", "back-button"] {
        let key = crate::theatre::key(name);
        theatre.happen(lantern_model::Event::RawKey { key, down: true });
    }
    theatre.press("f9");
    assert_snapshot!(theatre.script(), @r#"
    0 log "no"
    0 log "both"
    "#);
}
