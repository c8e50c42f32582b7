//! The reasons that are kept, and what the engine does with what a back end tells it.

use lantern_engine::DecisionKind;
use lantern_model::{CommandError, EffectId, Event, KeyGrab, ModifierSet, Refusal, Time};

use crate::theatre::{Theatre, key};

/// The reasons of a theatre, each as its kind's first word.
fn kinds(theatre: &Theatre) -> Vec<String> {
    let words = theatre.reasons();
    words.iter().map(|words| words.split(['(', ' ', '{']).next().unwrap_or("").to_owned()).collect()
}

#[test]
fn every_firing_and_end_has_its_reason_with_rule_and_time() {
    let mut theatre = Theatre::new("when key f1 => wait 10ms\nwhen key f2 => wait 20ms\n");
    theatre.press("f2");
    theatre.wait(5);
    theatre.press("f1");
    theatre.wait(100);
    let told: Vec<_> =
        theatre.engine.decisions_after(0).map(|r| (r.rule.map(|rule| rule.0), r.time)).collect();
    let at = |micros| Time::from_micros(micros);
    assert_eq!(
        told,
        [(Some(1), at(0)), (Some(0), at(5_000)), (Some(0), at(15_000)), (Some(1), at(20_000))]
    );
    assert_eq!(kinds(&theatre), ["Fired", "Fired", "Ended", "Ended"]);
}

#[test]
fn reasons_are_counted_and_the_oldest_are_forgotten() {
    let mut theatre = Theatre::new("when key f1 => log \"x\"\n");
    for _ in 0..800 {
        theatre.press("f1");
    }
    let numbers: Vec<u64> = theatre.engine.decisions_after(0).map(|reason| reason.number).collect();
    assert_eq!((numbers.len(), numbers[0], numbers[999]), (1000, 601, 1600));
    assert_eq!(theatre.engine.decisions_after(1598).count(), 2);
    assert_eq!(theatre.engine.decisions_after(1600).count(), 0);
}

#[test]
fn a_rule_that_did_not_fire_says_why() {
    let mut theatre = Theatre::new(
        "let n = 0\nwhen key f1 if 1 / n > 0 => wait\nwhen key f2 if n > 0 => wait\n\
         when key f3 again is ignored => wait\nwhen key f4 => wait\n",
    );
    for name in ["f1", "f2", "f3", "f3", "f4", "f4", "f4"] {
        theatre.press(name);
    }
    let dropped: Vec<String> =
        theatre.reasons().into_iter().filter(|words| words.starts_with("Dropped")).collect();
    assert_eq!(
        dropped,
        [
            "Dropped(\"cannot divide 1 by zero\")".to_owned(),
            "Dropped(\"its condition `n > 0` does not hold\")".to_owned(),
            "Dropped(\"the previous run has not ended\")".to_owned(),
            "Dropped(\"another activation waits already\")".to_owned(),
        ]
    );
}

#[test]
fn refused_keys_name_every_rule_that_wanted_them_and_the_panic_key() {
    let mut theatre = Theatre::new(
        "when key f1 in app \"a\" => wait\nwhen key f1 => wait\nwhen key f2 => wait\n",
    );
    let refused = |name: &str| {
        let families = ModifierSet::NONE;
        (
            KeyGrab {
                key: key(name),
                modifiers: families,
                any_extra_modifiers: false,
                side_specific: false,
                report_release: false,
                synchronous: false,
            },
            Refusal::HeldByOther,
        )
    };
    theatre.focus("a", 1);
    theatre.happen(Event::GrabsRefused(vec![refused("f1")]));
    let rules: Vec<_> =
        theatre.engine.decisions_after(0).map(|reason| reason.rule.map(|rule| rule.0)).collect();
    assert_eq!(rules, [Some(0), Some(1)]);
    let families = ModifierSet::NONE
        .with(lantern_model::Modifier::Ctrl)
        .with(lantern_model::Modifier::Alt)
        .with(lantern_model::Modifier::Shift);
    let panic = KeyGrab {
        key: key("escape"),
        modifiers: families,
        any_extra_modifiers: false,
        side_specific: false,
        report_release: false,
        synchronous: false,
    };
    theatre.happen(Event::GrabsRefused(vec![(panic, Refusal::HeldByOther)]));
    assert!(theatre.reasons()[2].contains("(panic)"), "{:?}", theatre.reasons());
}

#[test]
fn the_panic_key_counts_what_it_ended() {
    let mut theatre = Theatre::new("when key f1 { hold a { wait } }\nwhen key f2 => toggle b\n");
    theatre.press("f1");
    theatre.press("f2");
    for name in ["right-ctrl", "alt-gr", "right-shift"] {
        theatre.hold(name);
    }
    theatre.press("escape");
    let panic = theatre.engine.decisions_after(0).find_map(|reason| match reason.kind {
        DecisionKind::Panic { runs, keys } => Some((runs, keys)),
        _ => None,
    });
    assert_eq!(panic, Some((1, 2)));
}

#[test]
fn outcomes_of_effects_that_nobody_waits_for_are_nothing() {
    let mut theatre = Theatre::new("when key f1 { launch \"saw\"; log \"up\" }\n");
    theatre.hold_outcomes = true;
    theatre.press("f1");
    for number in [0, 1, 99] {
        let effect = EffectId(number);
        theatre.happen(Event::Outcome { effect, result: Err(CommandError::failed("lost")) });
    }
    assert_eq!(theatre.engine.live_runs(), 1);
    theatre.happen(Event::Outcome { effect: EffectId(2), result: Ok(None) });
    assert_eq!(theatre.engine.live_runs(), 0);
    theatre.happen(Event::Outcome { effect: EffectId(2), result: Ok(None) });
    assert!(theatre.script().ends_with("log \"up\""));
}

#[test]
fn keys_and_fingers_that_nobody_asked_for_are_nothing() {
    let mut theatre = Theatre::new("when key f1 => log \"x\"\n");
    theatre.release("f1");
    theatre.happen(Event::Released { key: key("q") });
    theatre.happen(Event::RawKey { key: key("q"), down: false });
    theatre.happen(Event::RawKey { key: key("q"), down: true });
    theatre.happen(Event::RawKey { key: key("q"), down: true });
    assert_eq!((theatre.script(), theatre.reasons()), (String::new(), Vec::new()));
}

#[test]
fn deadlines_that_are_due_come_before_an_event_of_the_same_moment() {
    let mut theatre =
        Theatre::new("when key f1 { wait 10ms; log \"first\" }\nwhen key f2 => log \"second\"\n");
    theatre.press("f1");
    // The clock stands at the deadline, and the event comes before any deadline was handled.
    theatre.now = Time::from_micros(10_000);
    theatre.press("f2");
    assert_eq!(theatre.script(), "    10 log \"first\"\n    10 log \"second\"");
}

#[test]
fn nothing_is_armed_before_the_layout_is_known() {
    let source = lantern_script::Source::new("bench.lantern", "when key f1 => wait\n");
    let rules = lantern_script::check(&source).rules.expect("they are fine");
    let mut engine = lantern_engine::Engine::new(rules, 1);
    engine.handle_event(Time::START, Event::Focus(lantern_model::App::default()));
    assert_eq!(engine.poll_effect(), None);
    engine.handle_event(Time::START, Event::Layout(lantern_model::Layout::us()));
    assert!(engine.poll_effect().is_some());
    assert_eq!(engine.poll_effect(), None, "it is armed once");
}
