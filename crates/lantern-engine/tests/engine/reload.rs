//! A file that changes under running rules.

use crate::theatre::{Theatre, rules};
use lantern_model::{Event, RuleId, Value};

#[test]
fn a_run_goes_on_wherever_its_rule_stands_now() {
    let mut theatre = Theatre::new(
        "macro twice() { tap a; wait 1s; tap b }\n\
         when key f2 => tap c\n\
         when key f1 { twice(); tap d }\n",
    );
    theatre.press("f1");
    theatre.wait(500);
    theatre.script();
    theatre.replace(rules(
        "let depth = 3\n\
         macro other() { tap x }\n\
         macro twice() { tap a; wait 1s; tap b }\n\n\
         when key f1 { twice(); tap d }\n\
         when key f3 => other()\n",
    ));
    theatre.wait(500);
    let script = theatre.script();
    assert!(script.ends_with("1000 tap b\n  1000 tap d"), "{script}");
    assert_eq!(theatre.engine.live_runs(), 0);
}

#[test]
fn a_run_ends_when_its_rule_a_macro_that_it_calls_or_its_place_changes() {
    let before = "macro inner() { wait 1s }\nmacro outer() { inner() }\n\
                  when key f1 { hold a { outer() } }\n";
    for after in [
        "macro inner() { wait 2s }\nmacro outer() { inner() }\nwhen key f1 { hold a { outer() } }\n",
        "macro inner() { wait 1s }\nmacro outer() { inner() }\nwhen key f2 { hold a { outer() } }\n",
        "macro inner() { wait 1s }\nmacro outer() { inner() }\n\
         in title \"core\" {\nwhen key f1 { hold a { outer() } }\n}\n",
        "when key f2 => tap b\n",
    ] {
        let mut theatre = Theatre::new(before);
        theatre.press("f1");
        theatre.replace(rules(after));
        assert_eq!(theatre.engine.live_runs(), 0, "{after}");
        assert_eq!(theatre.engine.held_keys().count(), 0, "{after}");
    }
}

#[test]
fn a_held_trigger_still_ends_its_run() {
    let mut theatre = Theatre::new("when key f1 while held { hold a { wait } }\n");
    theatre.press("f1");
    theatre.replace(rules("when key f2 => tap b\nwhen key f1 while held { hold a { wait } }\n"));
    assert_eq!(theatre.engine.live_runs(), 1);
    theatre.script();
    theatre.release("f1");
    assert!(theatre.script().contains("up a"));
    assert_eq!(theatre.engine.live_runs(), 0);
}

#[test]
fn values_layers_rounds_and_throttles_stay_as_far_as_they_are_still_written_so() {
    let first = "let kept = 1\nlet changed = 1\nlayer night { when key f4 => log \"night\" }\n\
                 when key f1 at most once per 10s {\n    set kept = 7\n    set changed = 7\n    enter layer night\n}\n\
                 when every 10s => log \"round\"\n";
    let mut theatre = Theatre::new(first);
    theatre.happen(Event::Started);
    theatre.press("f1");
    theatre.wait(9000);
    let second = first.replace("let changed = 1", "let changed = 2")
        + "when key f2 => log \"{kept} {changed}\"\n";
    theatre.replace(rules(&second));
    theatre.script();
    theatre.press("f4");
    theatre.press("f2");
    theatre.press("f1");
    theatre.wait(1000);
    let script = theatre.script();
    for words in ["log \"night\"", "log \"7 2\"", "10000 log \"round\""] {
        assert!(script.contains(words), "{words}: {script}");
    }
    let reasons = theatre.reasons().join("\n");
    assert!(reasons.contains("at most once per 10s"), "the throttle still counts: {reasons}");
}

#[test]
fn what_waits_by_a_value_that_moved_ends_and_what_is_answered_goes_on() {
    let first = "let lamp = false\nwhen key f1 { wait until lamp; tap a }\n\
                 when key f2 { run \"saw\"; tap b }\n";
    let mut theatre = Theatre::new(first);
    theatre.hold_outcomes = true;
    theatre.press("f1");
    theatre.press("f2");
    theatre.replace(rules(&format!("let before = 1\n{first}")));
    assert_eq!(theatre.engine.live_runs(), 1, "its condition would look at another value");
    theatre.script();
    theatre.answer(Ok(Some(Value::Text(String::new()))));
    assert!(theatre.script().contains("tap b"));
}

#[test]
fn the_start_is_not_told_again_and_reasons_keep_their_rules() {
    let mut theatre = Theatre::new("when started => log \"up\"\nwhen key f1 => tap a\n");
    theatre.happen(Event::Started);
    theatre.press("f1");
    theatre.script();
    theatre
        .replace(rules("when key f5 => tap c\nwhen key f1 => tap a\nwhen started => log \"up\"\n"));
    assert!(!theatre.script().contains("log"));
    let fired =
        theatre.engine.decisions_after(0).filter(|reason| reason.rule == Some(RuleId(1))).count();
    assert!(fired > 0, "f1 is the second rule now");
}
