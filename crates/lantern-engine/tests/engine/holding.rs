//! Owners of held keys, and when the keys are released.

use insta::assert_snapshot;
use lantern_engine::Owner;

use crate::theatre::{Theatre, key};

#[test]
fn a_key_is_down_as_long_as_anybody_holds_it() {
    let mut theatre = Theatre::new(
        "when key f1 { hold a { wait 50ms } }\nwhen key f2 { press a; wait 100ms; release a; log \"given up\" }\nwhen key f3 => toggle a\n",
    );
    theatre.press("f1");
    theatre.press("f2");
    theatre.press("f3");
    theatre.wait(200);
    theatre.press("f3");
    assert_snapshot!(theatre.script(), @r#"
      0 down a keeping [a]
    100 log "given up"
    200 up a
    "#);
}

#[test]
fn nested_holds_let_go_from_the_inside() {
    let mut theatre = Theatre::new("when key f1 { hold ctrl+shift { hold a { tap b } } }\n");
    theatre.press("f1");
    assert_snapshot!(theatre.script(), @"
    0 down left-ctrl, down left-shift keeping [left-shift, left-ctrl]
    0 down a keeping [a, left-shift, left-ctrl]
    0 tap b keeping [a, left-shift, left-ctrl]
    0 up a
    0 up left-shift, up left-ctrl
    ");
}

#[test]
fn release_gives_up_the_own_share_only() {
    let mut theatre =
        Theatre::new("when key f1 { hold a { wait } }\nwhen key f2 { release a; tap b }\n");
    theatre.press("f1");
    theatre.press("f2");
    assert_snapshot!(theatre.script(), @"
    0 down a keeping [a]
    0 tap b parking [a]
    ");
    let owners: Vec<_> =
        theatre.engine.held_keys().map(|(key, owners)| (key, owners.to_vec())).collect();
    assert!(
        matches!(owners.as_slice(), [(held, by)] if *held == key("a") && matches!(by[0], Owner::Block(..)))
    );
}

#[test]
fn new_rules_end_the_runs_of_others_and_every_toggle() {
    let mut theatre = Theatre::new("when key f1 { hold a { wait } }\nwhen key f2 => toggle b\n");
    theatre.press("f1");
    theatre.press("f2");
    theatre.script();
    let source = lantern_script::Source::new("bench.lantern", "when key f3 => tap c\n");
    let rules = lantern_script::check(&source).rules.expect("they are fine");
    theatre.engine.replace_rules(theatre.now, rules);
    theatre.press("f3");
    assert_snapshot!(theatre.script(), @"
    0 up a
    0 up b
    0 arm f3 shift+ctrl+alt+escape
    0 tap c
    ");
    assert_eq!(theatre.engine.held_keys().count(), 0);
}
