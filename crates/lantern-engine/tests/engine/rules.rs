//! Which rule fires, and what a second firing does.

use std::time::Duration;

use insta::assert_snapshot;
use lantern_engine::{ControlError, Engine};
use lantern_model::{EffectKind, Event, HeldModifiers, Layout, Time};

use crate::theatre::{Theatre, key, rules};

#[test]
fn a_press_fires_its_rule_at_once() {
    let mut theatre = Theatre::new("when key f9 => type \"core\"\n");
    theatre.press("f9");
    assert_snapshot!(theatre.script(), @r#"     0 type "core""#);
}

#[test]
fn only_the_keys_of_the_program_in_front_are_armed() {
    let mut theatre = Theatre::new(
        "when key f1 => tap a\nin app \"saw\" { when key ctrl+f2 => tap b }\nwhen key f3 in app \"log\" => tap c\n",
    );
    theatre.focus("saw", 1);
    theatre.focus("log", 2);
    theatre.focus("other", 3);
    theatre.focus("another", 4);
    assert_snapshot!(theatre.script(), @"
    0 arm f1 ctrl+f2 shift+ctrl+alt+escape
    0 arm f1 f3 shift+ctrl+alt+escape
    0 arm f1 shift+ctrl+alt+escape
    ");
}

#[test]
fn a_program_beats_none_and_a_condition_beats_none() {
    let mut theatre = Theatre::new(
        "let on-duty = false\n\
         when key f9 => type \"everywhere\"\n\
         when key f9 if on-duty => type \"on duty\"\n\
         when key f9 in app \"log\" => type \"log\"\n\
         when key f1 => set on-duty = true\n",
    );
    theatre.press("f9");
    theatre.press("f1");
    theatre.press("f9");
    theatre.focus("log", 1);
    theatre.press("f9");
    assert_snapshot!(theatre.script(), @r#"
    0 type "everywhere"
    0 type "on duty"
    0 type "log"
    "#);
}

#[test]
fn a_named_side_beats_either_side() {
    let mut theatre = Theatre::new("when key ctrl+a => tap b\nwhen key right-ctrl+a => tap c\n");
    theatre.hold("left-ctrl");
    theatre.press("a");
    theatre.release("left-ctrl");
    theatre.hold("right-ctrl");
    theatre.press("a");
    assert_snapshot!(theatre.script(), @"
    0 tap b
    0 tap c
    ");
}

#[test]
fn a_key_whose_condition_fails_goes_back_to_the_program() {
    let mut theatre = Theatre::new(
        "let lamp = false\nwhen key x if lamp => tap a\nwhen key f1 => set lamp = true\n",
    );
    theatre.press("x");
    theatre.press("f1");
    theatre.press("x");
    assert_snapshot!(theatre.script(), @"
    0 give back x
    0 tap a
    ");
}

#[test]
fn a_set_brings_the_key_that_was_pressed() {
    let mut theatre = Theatre::new(
        "when key [up, f2] as k { if k == key up { tap (k) } else { type \"{k}\" } }\n",
    );
    theatre.press("up");
    theatre.press("f2");
    assert_snapshot!(theatre.script(), @r#"
    0 tap up
    0 type "f2"
    "#);
}

#[test]
fn released_fires_when_the_finger_leaves() {
    let mut theatre = Theatre::new("when key f9 released => tap a\n");
    theatre.press("f9");
    theatre.wait(500);
    theatre.release("f9");
    assert_snapshot!(theatre.script(), @"   500 tap a");
}

#[test]
fn passing_rules_see_fingers_and_arm_nothing() {
    let mut theatre = Theatre::new("when key ctrl+x passing => tap a\n");
    theatre.focus("log", 1);
    for (name, down) in
        [("left-ctrl", true), ("x", true), ("x", false), ("left-ctrl", false), ("x", true)]
    {
        theatre.happen(Event::RawKey { key: key(name), down });
    }
    assert_snapshot!(theatre.script(), @"     0 tap a");
}

#[test]
fn repeating_fires_again_as_long_as_the_key_is_down_and_never_queues() {
    let mut theatre = Theatre::new("when key f9 repeating { tap a; wait 60ms }\n");
    theatre.press("f9");
    theatre.wait(620);
    theatre.release("f9");
    theatre.wait(1000);
    assert_snapshot!(theatre.script(), @"
      0 tap a
    500 tap a
    580 tap a
    ");
}

fn fired_twice(again: &str) -> String {
    let rules =
        format!("when key f9 again {again} {{ log \"begins\"; wait 100ms; log \"ends\" }}\n");
    let mut theatre = Theatre::new(&rules);
    theatre.press("f9");
    theatre.wait(40);
    theatre.press("f9");
    theatre.press("f9");
    theatre.wait(1000);
    theatre.script()
}

#[test]
fn again_waits_runs_one_more_and_drops_the_rest() {
    assert_snapshot!(fired_twice("waits"), @r#"
      0 log "begins"
    100 log "ends"
    100 log "begins"
    200 log "ends"
    "#);
}

#[test]
fn again_stops_ends_the_run() {
    assert_snapshot!(fired_twice("stops"), @r#"
      0 log "begins"
     40 log "begins"
    140 log "ends"
    "#);
}

#[test]
fn again_restarts_begins_anew() {
    assert_snapshot!(fired_twice("restarts"), @r#"
      0 log "begins"
     40 log "begins"
     40 log "begins"
    140 log "ends"
    "#);
}

#[test]
fn again_overlaps_runs_all() {
    assert_snapshot!(fired_twice("overlaps"), @r#"
      0 log "begins"
     40 log "begins"
     40 log "begins"
    100 log "ends"
    140 log "ends"
    140 log "ends"
    "#);
}

#[test]
fn again_is_ignored_runs_once() {
    assert_snapshot!(fired_twice("is ignored"), @r#"
      0 log "begins"
    100 log "ends"
    "#);
}

#[test]
fn the_key_of_a_running_feed_stops_it_in_any_program() {
    let mut theatre = Theatre::new(
        "when key f6 in app \"saw\" again stops { repeat every 20ms { click left } }\n",
    );
    theatre.focus("saw", 1);
    theatre.press("f6");
    theatre.wait(30);
    theatre.focus("log", 2);
    theatre.wait(20);
    theatre.press("f6");
    theatre.wait(100);
    assert_snapshot!(theatre.script(), @"
     0 arm f6 shift+ctrl+alt+escape
     0 tap left-button
    20 tap left-button
    40 tap left-button
    50 arm shift+ctrl+alt+escape
    ");
}

#[test]
fn a_new_layout_arms_the_key_that_gives_the_character_there() {
    let mut theatre =
        Theatre::new("when key q => tap a\nwhen key <KeyQ> => tap b\nwhen key 'é' => tap c\n");
    let mut french = lantern_model::Layout::us();
    let caps = [
        (key("a"), [Some('q'), Some('Q'), None, None]),
        (key("2"), [Some('é'), Some('2'), None, None]),
    ];
    french.groups = vec![lantern_model::LayoutGroup::new(caps.into_iter().collect())];
    theatre.happen(Event::Layout(french));
    assert_snapshot!(theatre.script(), @"     0 arm a q 2 shift+ctrl+alt+escape");
    assert!(theatre.reasons()[0].contains("'é'"), "{:?}", theatre.reasons());
}

#[test]
fn no_more_than_twenty_thousand_runs_live_at_once() {
    let mut theatre = Theatre::new(
        "when key f9 again overlaps { wait }\nwhen key f8 => tap a\nmacro another() { wait }\n",
    );
    let press = Event::Pressed { key: key("f9"), modifiers: HeldModifiers::NONE };
    for _ in 0..19_999 {
        theatre.engine.handle_event(Time::START, press.clone());
    }
    theatre.press("f8");
    assert_snapshot!(theatre.script(), @"     0 tap a");
    theatre.press("f9");
    assert_eq!(theatre.engine.run_statuses().len(), 20_000);
    theatre.press("f8");
    theatre.press("f9");
    assert_snapshot!(theatre.script(), @"");
    let reasons = theatre.reasons();
    let refused = reasons.iter().filter(|why| why.contains("20000 runs exist already")).count();
    assert_eq!(refused, 2, "{:?}", reasons.last());
    let fired = theatre.engine.fire_named(Time::START, "another", Vec::new());
    assert_eq!(fired, Err(ControlError::TooManyRuns));
    assert_eq!(theatre.engine.run_statuses().len(), 20_000);
}

#[test]
fn nothing_is_armed_before_the_layout_is_known() {
    let mut engine = Engine::new(rules("when key f9 => tap a\n"), 1);
    engine.handle_event(Time::START, Event::Locked(true));
    engine.handle_event(Time::START, Event::Locked(false));
    assert_eq!(engine.poll_effect(), None);
    engine.handle_event(Time::START, Event::Layout(Layout::us()));
    let order = engine.poll_effect().map(|effect| effect.kind);
    assert!(matches!(order, Some(EffectKind::SetGrabs(_))), "{order:?}");
    // The same layout once more changes nothing.
    engine.handle_event(Time::START, Event::Layout(Layout::us()));
    assert_eq!(engine.poll_effect(), None);
}

#[test]
fn advance_meets_each_deadline_at_its_time() {
    let mut engine = Engine::new(rules("when every 10ms => log \"tick\"\n"), 1);
    engine.handle_event(Time::START, Event::Started);
    let mut ticks = Vec::new();
    let end = Time::START + Duration::from_millis(35);
    engine.advance(Time::START, end, |engine, now| {
        while let Some(effect) = engine.poll_effect() {
            if let EffectKind::Log(_) = effect.kind {
                ticks.push(now.as_micros());
            }
        }
    });
    assert_eq!(ticks, [10_000, 20_000, 30_000]);
}

#[test]
fn a_range_has_no_more_than_a_hundred_thousand_steps() {
    let mut theatre = Theatre::new(
        "macro first(n) { for i in 0..n { log \"{i} of {n}\"; stop } }\n\
         when key f8 { first(100000) }\nwhen key f9 { first(100001) }\n",
    );
    theatre.press("f8");
    // A list of this size costs a turn.
    theatre.wait(1);
    theatre.press("f9");
    assert_snapshot!(theatre.script(), @r#"     1 log "0 of 100000""#);
    assert!(theatre.reasons().iter().any(|why| why.contains("from 0 to 100001 is too long")));
}
