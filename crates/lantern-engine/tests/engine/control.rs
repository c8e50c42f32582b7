//! Orders from outside: by name, a pause of all, and why something does not fire.

use std::time::Duration;

use crate::theatre::Theatre;
use lantern_engine::{ControlError, StopCause};
use lantern_model::{Event, Key, KeyCombination, KeySpec, RuleId, Value};

fn combo(names: &str) -> KeyCombination {
    let key = |name: &str| match lantern_model::Modifier::from_word(name) {
        Some(family) => KeySpec::Either(family),
        None => KeySpec::Named(Key::named(name).expect("it is a key")),
    };
    KeyCombination(names.split('+').map(key).collect())
}

fn text(words: &str) -> Value {
    Value::Text(words.to_owned())
}

#[test]
fn a_macro_is_run_by_its_name_with_values_and_defaults() {
    let rules = "macro log-line(line-text, gap = 20ms) { log \"{line-text} {gap}\" }\n\
                 when key f1 named feed => log \"feed\"\n";
    let mut theatre = Theatre::new(rules);
    let fire = |theatre: &mut Theatre, name: &str, values: Vec<Value>| {
        let done = theatre.engine.fire_named(theatre.now, name, values);
        theatre.happen(Event::Screens(Vec::new()));
        done.map(|()| theatre.script()).map_err(|error| error.to_string())
    };
    let done = fire(&mut theatre, "log-line", vec![text("core 12")]).expect("it takes one");
    assert!(done.contains("log \"core 12 20ms\""), "{done}");
    let gap = Value::Duration(Duration::from_secs(1));
    let done = fire(&mut theatre, "log-line", vec![text("core 13"), gap]).expect("it takes two");
    assert!(done.contains("log \"core 13 1s\""), "{done}");
    assert!(fire(&mut theatre, "feed", Vec::new()).expect("it has a name").contains("feed"));
    let wrong = fire(&mut theatre, "log-line", Vec::new());
    assert_eq!(wrong, Err("`log-line` takes line-text, gap (may be left out)".to_owned()));
    let wrong = fire(&mut theatre, "feed", vec![text("x")]);
    assert_eq!(wrong, Err("`feed` takes no values".to_owned()));
    let wrong = fire(&mut theatre, "saw", Vec::new());
    let words = "no macro or rule is called `saw`; there are feed, log-line";
    assert_eq!(wrong, Err(words.to_owned()));
}

#[test]
fn what_has_a_name_can_be_stopped_and_paused() {
    let mut theatre = Theatre::new("when key f1 named feed { hold a { wait } }\n");
    theatre.press("f1");
    let runs = theatre.engine.run_statuses();
    assert_eq!((runs.len(), runs[0].does), (1, "waits"));
    assert_eq!(theatre.engine.stop_named(theatre.now, "feed"), Ok(1));
    assert_eq!(theatre.engine.held_keys().count(), 0);
    theatre.engine.pause(theatre.now, Some("feed")).expect("it has a name");
    theatre.press("f1");
    assert_eq!(theatre.engine.live_runs(), 0);
    theatre.engine.resume(theatre.now, Some("feed")).expect("it has a name");
    theatre.press("f1");
    assert_eq!(theatre.engine.live_runs(), 1);
    assert!(theatre.engine.stop_named(theatre.now, "saw").is_err());
    assert!(theatre.engine.pause(theatre.now, Some("saw")).is_err());
}

#[test]
fn a_pause_of_all_gives_every_key_back_but_the_panic_combination() {
    let mut theatre = Theatre::new(
        "remap caps-lock to left-ctrl\nwhen key f1 { hold a { wait } }\nmacro m() { tap b }\n",
    );
    theatre.press("f1");
    theatre.script();
    theatre.engine.pause(theatre.now, None).expect("all is there");
    theatre.happen(Event::Screens(Vec::new()));
    let script = theatre.script();
    assert!(script.contains("up a"), "{script}");
    assert!(script.ends_with("arm shift+ctrl+alt+escape"), "{script}");
    let fired = theatre.engine.fire_named(theatre.now, "m", Vec::new());
    assert_eq!(fired, Err(ControlError::Paused));
    theatre.engine.resume(theatre.now, None).expect("all is there");
    theatre.happen(Event::Screens(Vec::new()));
    assert!(theatre.script().contains("arm f1"));
}

/// Why the first rule does not fire for a combination.
fn why(theatre: &Theatre, names: &str) -> Option<String> {
    let near = theatre.engine.nearest(theatre.now, &combo(names)).expect("the board has it");
    near.into_iter().find(|near| near.rule == RuleId(0)).map(|near| near.reason.unwrap_or_default())
}

/// Rules, what is tried, what it says, and what mends just that.
type Case = (&'static str, &'static str, &'static str, fn(&mut Theatre));

/// Its release is not reported, so that the engine cannot know whether it is still down.
#[test]
fn a_key_whose_release_is_not_reported_does_not_count_as_down() {
    let mut theatre = Theatre::new("when key f1 => log \"x\"\n");
    theatre.press("f1");
    assert_eq!(why(&theatre, "f1").as_deref(), Some(""), "it would fire");
}

#[test]
fn mending_only_the_condition_that_is_named_makes_the_rule_fire() {
    let cases: &[Case] = &[
        (
            "when key f1 in app \"scanner\" => log \"x\"\n",
            "f1",
            "it is for scanner, and no program is in front",
            |t| {
                t.focus("scanner", 7);
            },
        ),
        ("when key f1 not in app \"corelog\" => log \"x\"\n", "f1", "it is not for corelog", |t| {
            t.focus("scanner", 7);
        }),
        (
            "let lamp = false\nwhen key f1 if lamp => log \"x\"\nwhen key f2 => set lamp = true\n",
            "f1",
            "its condition `lamp` does not hold",
            |t| {
                t.tap("f2", 10);
            },
        ),
        (
            "layer night { when key f1 => log \"x\" }\nwhen key f2 => enter layer night\n",
            "f1",
            "the layer night is not on",
            |t| {
                t.tap("f2", 10);
            },
        ),
        (
            "when key f1 named feed => log \"x\"\nwhen key f2 => pause feed\nwhen key f3 => resume feed\n",
            "f1",
            "it is paused",
            |t| {
                t.tap("f3", 10);
            },
        ),
        (
            "when key f1 at most once per 2s => log \"x\"\n",
            "f1",
            "it fires at most once per 2s",
            |t| {
                t.wait(2000);
            },
        ),
        ("when key f1 => log \"x\"\n", "f1", "the screen is locked", |t| {
            t.happen(Event::Locked(false));
        }),
        (
            "when key f1 from device \"second pad\" => log \"x\"\n",
            "f1",
            "the last key came from another device (\"\")",
            |t| {
                t.happen(Event::ActiveDevice("Second Pad".to_owned()));
            },
        ),
        (
            "when key f1 in title \"core\" => log \"x\"\n",
            "f1",
            "it wants a title with \"core\"",
            |t| {
                let app = lantern_model::App {
                    window: 9,
                    title: "Core 12".to_owned(),
                    ..Default::default()
                };
                t.happen(Event::Focus(app));
            },
        ),
        ("when key f1 => log \"x\"\n", "f1", "everything is paused: `lantern resume`", |t| {
            t.engine.resume(t.now, None).expect("all is there");
        }),
        (
            "when key f1 in app \"scanner\" => log \"x\"\n",
            "f1",
            "it is for scanner, and corelog is in front",
            |t| t.focus("scanner", 7),
        ),
        (
            "let trays = 0\nwhen key f1 if 12 / trays > 1 => log \"x\"\nwhen key f2 => set trays = 3\n",
            "f1",
            "cannot divide 12 by zero",
            |t| t.tap("f2", 10),
        ),
        (
            "when key f1 again is ignored { log \"x\"; wait }\n",
            "f1",
            "its previous run has not ended",
            |t| {
                t.engine.stop_everything(t.now, StopCause::SessionEnd);
            },
        ),
        (
            "when key f1 { log \"x\"; wait }\n",
            "f1",
            "its previous run has not ended, and another activation waits already",
            |t| {
                t.engine.stop_everything(t.now, StopCause::SessionEnd);
            },
        ),
        (
            "when key f1 => log \"x\"\nwhen key f1 released => log \"z\"\n",
            "f1",
            "the key is down, and its repeats fire only what is `repeating`",
            |t| t.release("f1"),
        ),
        (
            "layer night { when key f1 => log \"x\" }\nwhen key f2 => enter layer night\n\
             when key f3 { leave layer night }\n",
            "f1",
            "the layer night is not on",
            |t| {
                t.tap("f3", 10);
                t.tap("f2", 10);
            },
        ),
        (
            "when key f1 not in app \"saw\", \"corelog\" => log \"x\"\n",
            "f1",
            "it is not for corelog",
            |t| t.focus("", 0),
        ),
    ];
    for (rules, names, words, mend) in cases {
        let mut theatre = Theatre::new(rules);
        match *words {
            "it is not for corelog" => theatre.focus("corelog", 3),
            "it is paused" => theatre.tap("f2", 10),
            "it is for scanner, and corelog is in front" => theatre.focus("corelog", 3),
            "its previous run has not ended" => theatre.tap("f1", 10),
            words if words.starts_with("its previous run") => {
                theatre.tap("f1", 10);
                theatre.tap("f1", 10);
            }
            words if words.starts_with("the key is down") => theatre.press("f1"),
            "it fires at most once per 2s" => theatre.tap("f1", 10),
            "the screen is locked" => theatre.happen(Event::Locked(true)),
            words if words.starts_with("everything") => {
                theatre.engine.pause(theatre.now, None).expect("all is there");
            }
            _ => {}
        }
        assert_eq!(why(&theatre, names).as_deref(), Some(*words), "{rules}");
        theatre.script();
        mend(&mut theatre);
        assert_eq!(why(&theatre, names).as_deref(), Some(""), "mended: {rules}");
        theatre.tap("f1", 10);
        assert!(theatre.script().contains("log \"x\""), "it fires: {rules}");
    }
}

#[test]
fn a_rule_that_another_comes_before_and_one_of_other_modifiers_are_told() {
    let theatre = Theatre::new(
        "when key f1 => log \"everywhere\"\n\
         let lamp = true\nwhen key f1 if lamp => log \"lamp\"\n\
         when key ctrl+f2 => log \"ctrl\"\nwhen key f3 held 1s => log \"long\"\n",
    );
    assert_eq!(why(&theatre, "f1").as_deref(), Some("\"when key f1 if lamp\" comes first"));
    let near = theatre.engine.nearest(theatre.now, &combo("f2")).expect("it is there");
    assert_eq!(near[0].reason.as_deref(), Some("it wants ctrl+f2"));
    let near = theatre.engine.nearest(theatre.now, &combo("f3")).expect("it is there");
    assert_eq!(near[0].reason.as_deref(), Some("it fires when the key is held for 1s"));
    let near = theatre.engine.nearest(theatre.now, &combo("f4")).expect("it is there");
    assert_eq!(near, []);
    let theatre = Theatre::new("when gesture caret while holding f1 => log \"caret\"\n");
    assert_eq!(why(&theatre, "f1").as_deref(), Some("it wants caret to be drawn while it is held"));
}

#[test]
fn what_runs_away_is_held_to_a_ceiling_unless_it_is_fast() {
    let taps = |clause: &str| {
        let mut theatre = Theatre::new(&format!("when key f1 {clause} {{ repeat {{ tap a }} }}\n"));
        theatre.press("f1");
        theatre.wait(2000);
        (theatre.script().matches("tap a").count(), theatre.reasons())
    };
    let (count, reasons) = taps("");
    assert!((4000..=4600).contains(&count), "two seconds and what may come at once: {count}");
    assert_eq!(
        reasons.iter().filter(|reason| reason.contains("RateLimited")).count(),
        1,
        "told once"
    );
    let (fast, reasons) = taps("fast");
    assert!(fast > 2 * count, "{fast}");
    assert!(reasons.iter().all(|reason| !reason.contains("RateLimited")));
    // A thousand clicks a second are asked for often enough.
    let mut theatre = Theatre::new("when key f1 { repeat every 1ms { click left } }\n");
    theatre.press("f1");
    theatre.wait(2000);
    assert!(theatre.script().matches("left-button").count() >= 1990);
}

#[test]
fn a_rule_of_the_persons_own_panics_too() {
    let rules = "when key f1 { hold a { wait } }\nwhen key f2 => toggle b\n\
                 when key f9 held 2s => stop all until resumed\n";
    let mut theatre = Theatre::new(rules);
    theatre.press("f1");
    theatre.press("f2");
    theatre.tap("f9", 2100);
    assert_eq!(theatre.engine.held_keys().count(), 0);
    assert_eq!(theatre.engine.live_runs(), 0);
    assert!(theatre.engine.paused().1, "until the person resumes");
    theatre.press("f1");
    assert_eq!(theatre.engine.live_runs(), 0);
    theatre.engine.resume(theatre.now, None).expect("everything can be");
    theatre.press("f1");
    assert_eq!(theatre.engine.live_runs(), 1);
}

#[test]
fn a_press_after_a_stop_waits_its_whole_quiet_time() {
    type Stop = fn(&mut Theatre);
    let stops: [(&str, Stop); 4] = [
        ("stop by name", |theatre| {
            theatre.engine.stop_named(theatre.now, "lamp").expect("it has a name");
        }),
        ("stop of all", |theatre| theatre.press("f8")),
        ("stop step by name", |theatre| theatre.press("f7")),
        ("pause of all", |theatre| {
            theatre.engine.pause(theatre.now, None).expect("all is there");
            theatre.engine.resume(theatre.now, None).expect("all is there");
        }),
    ];
    for (name, stop) in stops {
        let mut theatre = Theatre::new(
            "when key f9 named lamp after quiet 100ms => log \"lamp\"\n\
             when key f8 => stop all\nwhen key f7 => stop lamp\n",
        );
        theatre.tap("f9", 10);
        stop(&mut theatre);
        theatre.wait(70);
        theatre.tap("f9", 5);
        theatre.script();
        theatre.wait(300);
        let script = theatre.script();
        assert_eq!(script.trim(), "180 log \"lamp\"", "{name}");
    }
}

#[test]
fn a_combination_without_keys_is_told_and_nothing_breaks() {
    let theatre = Theatre::new("when key f1 => tap a\n");
    let empty = KeyCombination(Vec::new());
    let why = "the keyboard at hand has no key in an empty combination";
    let nearest = theatre.engine.nearest(theatre.now, &empty).expect_err("it has no keys");
    assert_eq!(nearest.to_string(), why);
    let last_seen = theatre.engine.last_seen(&empty).expect_err("it has no keys");
    assert_eq!(last_seen.to_string(), why);
}

#[test]
fn the_program_in_front_is_compared_by_any_of_its_names() {
    use lantern_model::App;
    let condition = |condition: &str| {
        let mut theatre =
            Theatre::new(&format!("when key f1 {{ if {condition} {{ log \"yes\" }} }}\n"));
        let names = vec!["org.example.corelog".to_owned(), "corelog".to_owned()];
        theatre.happen(Event::Focus(App { window: 7, names, ..App::default() }));
        theatre.script();
        theatre.press("f1");
        theatre.script().contains("yes")
    };
    for holds in [
        "window.app == \"corelog\"",
        "\"CoreLog\" == window.app",
        "window.app == \"org.example.corelog\"",
        "window.app != \"saw\"",
        "[\"saw\", \"corelog\"] contains window.app",
        "window.app == window.app",
        "window.app contains \"example\"",
        "lower(window.app) == \"org.example.corelog\"",
    ] {
        assert!(condition(holds), "{holds}");
    }
    for fails in [
        "window.app == \"saw\"",
        "window.app != \"corelog\"",
        "[\"saw\", \"reader\"] contains window.app",
        "window.app == \"core\"",
    ] {
        assert!(!condition(fails), "{fails}");
    }
}

#[test]
fn without_a_program_in_front_its_name_is_nothing() {
    let mut theatre = Theatre::new("when key f1 if window.app == \"nothing\" => log \"none\"\n");
    theatre.press("f1");
    assert!(theatre.script().contains("none"));
}
