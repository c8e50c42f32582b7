//! What steps order, and when.

use insta::assert_snapshot;
use lantern_model::{CommandError, Event, Value};

use crate::theatre::Theatre;

fn played(body: &str, millis: u64) -> String {
    let mut theatre = Theatre::new(&format!("when key f9 {{ {body} }}\n"));
    theatre.press("f9");
    theatre.wait(millis);
    theatre.script()
}

#[test]
fn taps_count_and_keep_their_pace() {
    assert_snapshot!(played("tap a, ctrl+b 2 times every 10ms; tap '?'", 100), @"
     0 tap a
    10 tap left-ctrl+b
    20 tap a
    30 tap left-ctrl+b
    30 tap left-shift+slash
    ");
}

#[test]
fn long_text_goes_in_pieces_and_paced_text_letter_by_letter() {
    let long = "x".repeat(130);
    assert_snapshot!(played(&format!("type \"{long}\"; type \"abc\" every 5ms"), 100), @r#"
     0 type "xxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxx"
     0 type "xxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxx"
     0 type "xx"
     0 type "a"
     5 type "b"
    10 type "c"
    "#);
}

#[test]
fn loops_count_turns_from_start_to_start() {
    assert_snapshot!(played("repeat 3 times every 20ms { tap a; wait 5ms }; log \"done\"", 200), @r#"
     0 tap a
    20 tap a
    40 tap a
    45 log "done"
    "#);
}

#[test]
fn while_ends_a_loop_and_names_end_with_their_block() {
    assert_snapshot!(played("let n = 0; repeat while n < 3 { let twice = n * 2; log \"{twice}\"; set n = n + 1 }", 10), @r#"
    0 log "0"
    0 log "2"
    0 log "4"
    "#);
}

#[test]
fn macros_take_values_and_defaults() {
    let mut theatre = Theatre::new(
        "let depth = 3\nmacro note(text, gap = 10ms * 2, more = depth) { log \"{text} {gap} {more}\" }\n\
         when key f9 { note(\"a\"); note(\"b\", 1s); set depth = 4; note(key ctrl+s, 5ms, true) }\n",
    );
    theatre.press("f9");
    assert_snapshot!(theatre.script(), @r#"
    0 log "a 20ms 3"
    0 log "b 1s 3"
    0 log "ctrl+s 5ms true"
    "#);
}

#[test]
fn values_are_worked_out() {
    let body = "log \"{1 + 2 * 3 - 4 / 8} {7 % 3} {-7 % 3} {0.1 * 3}\"; \
                log \"{2 * 150ms} {1s + 500ms} {90s} {1s / 250ms} {50% * 2}\"; \
                log \"{not (1 < 2 and 2 >= 3) or false} {[1, 2] contains 2} {`ice` contains `c`}\"; \
                log \"{key ctrl+shift+e} {[key a, key '?', key <KeyQ>]} {`a` + `b`}\"";
    assert_snapshot!(played(body, 0), @r#"
    0 log "6.5 1 2 0.3"
    0 log "300ms 1.5s 1.5min 4 100%"
    0 log "true true true"
    0 log "ctrl+shift+e a, '?', <KeyQ> ab"
    "#);
}

#[test]
fn a_step_that_fails_ends_its_run_and_names_the_place() {
    let mut theatre = Theatre::new(
        "macro cut(n) { log \"before\"\n log \"{1 / n}\"\n log \"after\" }\nwhen key f9 { hold ctrl { cut(0) } }\nwhen key f10 => log \"other\"\n",
    );
    theatre.press("f9");
    theatre.press("f10");
    assert_snapshot!(theatre.script(), @r#"
    0 down left-ctrl keeping [left-ctrl]
    0 log "before"
    0 up left-ctrl
    0 log "other"
    "#);
    let reasons = theatre.reasons().join("\n");
    assert!(reasons.contains("line: 2") && reasons.contains("divide"), "{reasons}");
    assert_eq!(theatre.engine.held_keys().count(), 0);
}

#[test]
fn a_failed_program_ends_the_run() {
    let mut theatre = Theatre::new("when key f9 { launch \"saw\"; log \"after\" }\n");
    theatre.hold_outcomes = true;
    theatre.press("f9");
    theatre.wait(1000);
    let effect = lantern_model::EffectId(2);
    theatre.happen(Event::Outcome { effect, result: Err(CommandError::failed("it is not there")) });
    assert_snapshot!(theatre.script(), @r#"     0 launch ["saw"]"#);
    assert!(theatre.reasons().join("").contains("it is not there"));
}

#[test]
fn a_loop_without_a_pause_lets_others_run_and_hears_its_key() {
    let mut theatre = Theatre::new(
        "when key f9 again stops { let n = 0; repeat { set n = n + 1 } }\nwhen key f10 => log \"heard\"\n",
    );
    theatre.press("f9");
    theatre.wait(5);
    theatre.press("f10");
    theatre.press("f9");
    assert_eq!(theatre.engine.live_runs(), 0);
    assert_eq!(theatre.engine.next_deadline(), None);
    assert_snapshot!(theatre.script(), @r#"     5 log "heard""#);
}

#[test]
fn stop_ends_this_a_named_or_every_run() {
    let mut theatre = Theatre::new(
        "when key f1 named feed { hold a { wait } }\nwhen key f2 { hold b { wait } }\n\
         when key f3 { stop feed; log \"fed\" }\nwhen key f4 { stop all; log \"never\" }\n\
         when key f5 { stop; log \"never\" }\n",
    );
    for name in ["f1", "f2", "f3", "f5", "f4"] {
        theatre.press(name);
    }
    assert_snapshot!(theatre.script(), @r#"
    0 down a keeping [a]
    0 down b keeping [b]
    0 up a
    0 log "fed"
    0 up b
    "#);
    assert_eq!(theatre.engine.live_runs(), 0);
}

#[test]
fn at_rest_nothing_is_due() {
    let mut theatre =
        Theatre::new("when key f9 { type \"a\" every 5ms; wait 5s }\nwhen key f8 => stop all\n");
    assert_eq!(theatre.engine.next_deadline(), None);
    theatre.press("f9");
    assert!(theatre.engine.next_deadline().is_some());
    theatre.press("f8");
    assert_eq!(theatre.engine.next_deadline(), None);
}

#[test]
fn a_text_that_a_desk_refuses_in_the_middle_says_how_much_is_typed() {
    let mut theatre = Theatre::new("when key f9 => type \"core twelve\" every 20ms\n");
    theatre.press("f9");
    theatre.wait(50);
    theatre.hold_outcomes = true;
    theatre.wait(20);
    theatre.answer(Err(CommandError::failed("no window is in front")));
    let told = theatre.reasons().join(" ");
    assert!(told.contains("no window is in front; 3 of 11 characters were typed"), "{told}");
}

/// A theatre in which an input method is at work, and what it would compose is asked and not answered yet.
fn with_input_method(rules: &str) -> Theatre {
    let mut theatre = Theatre::new(rules);
    theatre.happen(Event::InputMethod(true));
    theatre.hold_outcomes = true;
    theatre
}

#[test]
fn what_an_input_method_would_compose_is_not_typed() {
    let rules = "when key f7 => type \"no\" anyway\nwhen key f8 => type \"melt\"\nwhen key f9 { type \"ice\"; tap a }\n";
    let mut theatre = with_input_method(rules);
    theatre.press("f9");
    theatre.press("f8");
    theatre.answer(Ok(Some(Value::Text("pinyin".to_owned()))));
    let reasons = theatre.reasons().join("\n");
    assert!(
        reasons.contains("the input method pinyin would make something else of it"),
        "{reasons}"
    );
    // The next one has its turn. An input method that does not answer is assumed to pass keys through.
    theatre.answer(Err(CommandError::failed("it hangs")));
    theatre.answer(Ok(None));
    theatre.press("f7");
    theatre.answer(Ok(None));
    theatre.happen(Event::InputMethod(false));
    theatre.press("f8");
    assert_snapshot!(theatre.script(), @r#"
    0 type []
    0 type []
    0 type "melt"
    0 type "no"
    0 type "melt"
    "#);
}

#[test]
fn what_an_input_method_would_compose_goes_by_the_clipboard_if_that_is_allowed() {
    let rules = "settings { clipboard = true }\nwhen key f8 => type \"melt\" every 5ms\nwhen key f9 { type \"ice\"; tap a }\n";
    let mut theatre = with_input_method(rules);
    theatre.press("f9");
    theatre.answer(Ok(Some(Value::Text("pinyin".to_owned()))));
    theatre.answer(Ok(None));
    theatre.answer(Ok(None));
    // What is to come letter by letter cannot come by the clipboard.
    theatre.press("f8");
    theatre.answer(Ok(Some(Value::Text("pinyin".to_owned()))));
    assert_snapshot!(theatre.script(), @r#"
    0 type []
    0 paste ["ice"]
    0 tap a
    0 type []
    "#);
    assert!(theatre.reasons().join("\n").contains("pinyin"));
}

#[test]
fn a_run_that_is_stopped_while_it_asks_gives_up_its_turn() {
    let rules = "when key f8 => type \"melt\"\nwhen key f9 named write { type \"ice\" }\nwhen key f10 => stop write\n";
    let mut theatre = with_input_method(rules);
    theatre.press("f9");
    theatre.press("f8");
    theatre.press("f10");
    theatre.answer(Ok(None));
    theatre.answer(Ok(None));
    assert_snapshot!(theatre.script(), @r#"
    0 type []
    0 type []
    0 type "melt"
    "#);
}
