//! Blocks, choices, conditions waited for, and steps that can fail.

use insta::assert_snapshot;
use lantern_model::{CommandError, Event, Value};

use crate::theatre::Theatre;

#[test]
fn a_list_is_gone_through_in_order() {
    let mut theatre = Theatre::new(
        "when key f9 { for n in 1..3 { log \"{n}\" }\n for t in [\"a\", \"b\"] { log t }\n for k in key [x..z] { tap (k) }\n for n in 3..1 { log \"{n}\" } }\n",
    );
    theatre.press("f9");
    assert_snapshot!(theatre.script(), @r#"
    0 log "1"
    0 log "2"
    0 log "3"
    0 log "a"
    0 log "b"
    0 tap x
    0 tap y
    0 tap z
    0 log "3"
    0 log "2"
    0 log "1"
    "#);
}

#[test]
fn a_choice_never_repeats_itself_and_the_seed_decides() {
    let rules =
        "when key f9 again overlaps { any of { log \"a\" } or { log \"b\" } or { log \"c\" } }\n";
    let mut theatre = Theatre::new(rules);
    for _ in 0..60 {
        theatre.press("f9");
        theatre.release("f9");
    }
    let script = theatre.script();
    let said: Vec<&str> = script.lines().map(|line| &line[line.len() - 3..]).collect();
    assert_eq!(said.len(), 60);
    assert!(said.windows(2).all(|pair| pair[0] != pair[1]), "{said:?}");
    for letter in ["\"a\"", "\"b\"", "\"c\""] {
        assert!(said.iter().filter(|said| **said == letter).count() > 5, "{said:?}");
    }
}

#[test]
fn a_sound_of_several_never_comes_twice_running() {
    let mut theatre = Theatre::new("when key f9 => play any of \"a.wav\", \"b.wav\"\n");
    for _ in 0..6 {
        theatre.press("f9");
        theatre.release("f9");
    }
    let script = theatre.script();
    let lines: Vec<&str> = script.lines().collect();
    assert!(lines.windows(2).all(|pair| pair[0] != pair[1]), "{script}");
}

#[test]
fn waiting_until_something_holds_goes_on_at_once_or_fails_in_time() {
    let mut theatre = Theatre::new(
        "let done = false
when key f9 { wait until done at most 2s else { log \"late\" }\n log \"on\" }
when key f8 => set done = true
when key f7 { wait until window.title contains \"x\" at most 1s\n log \"never\" }
",
    );
    theatre.press("f9");
    theatre.wait(500);
    theatre.press("f8");
    theatre.wait(100);
    theatre.press("f7");
    theatre.wait(2000);
    assert_snapshot!(theatre.script(), @r#"   500 log "on""#);
    assert!(theatre.reasons().iter().any(|reason| reason.contains("did not come in time")));
}

#[test]
fn a_condition_on_the_clock_is_looked_at_again() {
    let mut theatre =
        Theatre::new("when key f9 { wait until now.second >= 3\n log \"{now.time}\" }\n");
    theatre.happen(Event::WallClock(lantern_model::WallTime::from_civil(2031, 6, 21, 9, 0, 0)));
    theatre.press("f9");
    theatre.wait(5000);
    assert_snapshot!(theatre.script(), @r#"  3000 log "09:00:03""#);
}

#[test]
fn an_answer_goes_where_it_is_wanted_and_a_failure_to_its_else() {
    let mut theatre = Theatre::new(
        "when key f9 {
    let depth = ask \"How deep?\" at most 5s else { log \"none\"; stop }
    log \"depth {depth}\"
}
when key f8 { run \"sync\" else { log \"failed\" }\n log \"after\" }
when key f7 { run \"sync\"; log \"never\" }
",
    );
    theatre.hold_outcomes = true;
    theatre.press("f9");
    theatre.answer(Ok(Some(Value::Text("12".to_owned()))));
    theatre.press("f9");
    theatre.wait(6000);
    theatre.press("f8");
    theatre.answer(Err(CommandError::failed("it is not there")));
    theatre.press("f7");
    theatre.answer(Err(CommandError::failed("it is not there")));
    assert_snapshot!(theatre.script(), @r#"
       0 ask ["How deep?"]
       0 log "depth 12"
       0 ask ["How deep?"]
    5000 abandon 4
    5000 log "none"
    6000 run ["sync"]
    6000 log "failed"
    6000 log "after"
    6000 run ["sync"]
    "#);
}

#[test]
fn a_program_is_brought_to_the_front_for_a_block_and_the_person_back() {
    let mut theatre = Theatre::new(
        "when key f9 { with app \"log\" { type \"x\" }\n log \"done\" }\nwhen key f8 => with app \"saw\" { tap a }\n",
    );
    theatre.focus("reader", 1);
    theatre.press("f9");
    theatre.focus("log", 2);
    theatre.focus("reader", 1);
    theatre.press("f8");
    theatre.wait(6000);
    theatre.focus("log", 2);
    theatre.press("f9");
    assert_snapshot!(theatre.script(), @r#"
       0 focus ["log"]
       0 type "x"
       0 focus []
       0 log "done"
       0 focus ["saw"]
    6000 type "x"
    6000 log "done"
    "#);
}

#[test]
fn the_person_who_went_elsewhere_meanwhile_is_not_brought_back() {
    let mut theatre =
        Theatre::new("when key f9 { with app \"log\" { wait 1s; log \"in\" }\n log \"out\" }\n");
    theatre.focus("reader", 1);
    theatre.press("f9");
    theatre.focus("log", 2);
    theatre.focus("mail", 3);
    theatre.wait(1500);
    assert_snapshot!(theatre.script(), @r#"
       0 focus ["log"]
    1000 log "in"
    1000 log "out"
    "#);
}

#[test]
fn a_step_inside_fails_when_another_program_came_to_the_front() {
    let mut theatre =
        Theatre::new("when key f9 { with app \"log\" { wait 1s; tap a }\n log \"out\" }\n");
    theatre.focus("reader", 1);
    theatre.press("f9");
    theatre.focus("log", 2);
    theatre.focus("mail", 3);
    theatre.wait(1500);
    assert_snapshot!(theatre.script(), @r#"     0 focus ["log"]"#);
    assert!(theatre.reasons().iter().any(|reason| reason.contains("mail came to the front")));
}

#[test]
fn blocks_in_front_take_turns() {
    let mut theatre = Theatre::new(
        "when key f9 => with app \"log\" { wait 1s; log \"one\" }\nwhen key f8 => with app \"saw\" { log \"two\" }\n",
    );
    theatre.focus("log", 2);
    theatre.press("f9");
    theatre.press("f8");
    theatre.wait(2000);
    theatre.focus("saw", 3);
    assert_snapshot!(theatre.script(), @r#"
    1000 log "one"
    1000 focus ["saw"]
    2000 log "two"
    2000 focus []
    "#);
}

#[test]
fn the_pointer_goes_evenly_and_shares_are_of_what_is_named() {
    use lantern_model::{App, Rect};
    let mut theatre = Theatre::new(
        "when key f9 => move to 100, 0 over 32ms\nwhen key f8 => move to 100%, 50% of screen\nwhen key f7 => move to 50%, 0% of window\nwhen key f6 => drag left to 10, 10\n",
    );
    theatre.happen(Event::Screens(vec![
        Rect { x: 0, y: 0, width: 1280, height: 800 },
        Rect { x: 1280, y: 0, width: 640, height: 480 },
    ]));
    theatre.press("f9");
    theatre.wait(100);
    theatre.happen(Event::Pointer(1300, 20));
    theatre.press("f8");
    theatre.press("f7");
    let frame = Some(Rect { x: 100, y: 100, width: 201, height: 50 });
    theatre.happen(Event::Focus(App {
        window: 4,
        names: vec!["log".to_owned()],
        bounds: frame,
        ..App::default()
    }));
    theatre.press("f7");
    theatre.press("f6");
    assert_snapshot!(theatre.script(), @"
      8 to 25,0
     16 to 50,0
     24 to 75,0
     32 to 100,0
    100 to 1919,240
    100 to 200,100
    100 down left-button keeping [left-button]
    100 to 10,10 keeping [left-button]
    100 up left-button
    ");
}

#[test]
fn a_paused_run_stands_still_and_goes_on() {
    let mut theatre = Theatre::new(
        "when key f9 named feed { repeat every 100ms { log \"x\" } }\nwhen key f8 => pause feed\nwhen key f7 => resume feed\n",
    );
    theatre.press("f9");
    theatre.wait(250);
    theatre.press("f8");
    theatre.wait(1000);
    theatre.press("f7");
    theatre.wait(150);
    assert_snapshot!(theatre.script(), @r#"
       0 log "x"
     100 log "x"
     200 log "x"
    1250 log "x"
    1250 log "x"
    1350 log "x"
    "#);
}

#[test]
fn layers_come_and_go_and_the_last_entered_wins() {
    let mut theatre = Theatre::new(
        "when key f9 => log \"none\"
layer a { when key f9 => log \"a\" }
layer b { when key f9 => log \"b\" }
when key f1 => enter layer a
when key f2 => enter layer b
when key f3 => leave layer b
",
    );
    for name in ["f9", "f1", "f9", "f2", "f9", "f1", "f9", "f3", "f9"] {
        theatre.press(name);
        theatre.release(name);
    }
    let script = theatre.script();
    let logs: Vec<&str> = script.lines().filter(|line| line.contains("log")).collect();
    assert_snapshot!(logs.join("\n"), @r#"
    0 log "none"
    0 log "a"
    0 log "b"
    0 log "a"
    0 log "a"
    "#);
}

#[test]
fn functions_and_questions() {
    let mut theatre = Theatre::new(
        "when key f9 {
    let t = \" aB \"
    log \"{round(2.345, 2)} {upper(t)} {lower(t)} [{trim(t)}] {length(t)} {length([1, 2])}\"
    let d = \" 4.5 \"
    log \"{first([4, 5])} {last(d)} {number(d) + 1} {window.app}\"
    if \"Core 12\" matches `^Core [0-9]+$` and 06:30 < 07:00 { log \"yes\" }
    let n = random(3, 3)
    log \"{n}\"
}
when key f8 { log number(\"x\") }
when key f7 { log first([]) }
",
    );
    theatre.press("f9");
    theatre.press("f8");
    theatre.press("f7");
    assert_snapshot!(theatre.script(), @r#"
    0 log "2.35  AB   ab  [aB] 4 2"
    0 log "4   5.5 nothing"
    0 log "yes"
    0 log "3"
    "#);
    let reasons = theatre.reasons().join("\n");
    assert!(reasons.contains("is not a number") && reasons.contains("nothing in it"), "{reasons}");
}

#[test]
fn what_was_launched_under_a_name_is_ended_by_it() {
    let mut theatre = Theatre::new(
        "when key f9 => launch \"scan\" as scanner\nwhen key f8 => end scanner else { log \"nothing\" }\n",
    );
    theatre.press("f8");
    theatre.press("f9");
    theatre.release("f8");
    theatre.press("f8");
    assert_snapshot!(theatre.script(), @r#"
    0 log "nothing"
    0 launch ["scan"]
    0 end []
    "#);
}
