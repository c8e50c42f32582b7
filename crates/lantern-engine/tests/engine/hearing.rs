//! Triggers that are no keys.

use std::time::Duration;

use insta::assert_snapshot;
use lantern_model::{App, Event, WallTime};

use crate::theatre::Theatre;

fn heard(words: &str) -> Event {
    Event::Heard { words: words.to_owned(), score: 0.9, began: Duration::from_millis(800) }
}

fn bytes(device: &str, text: &[u8]) -> Event {
    Event::Bytes { device: device.to_owned(), bytes: text.to_vec() }
}

#[test]
fn one_rule_takes_a_phrase_the_narrower_and_the_closer_first() {
    let mut theatre = Theatre::new(
        "when voice \"next ...\" as said => log \"rest {said.rest}\"
when voice \"next section\" => log \"everywhere\"
when voice \"next section\" in app \"log\" => log \"in log\"
",
    );
    theatre.happen(heard("next section"));
    theatre.happen(heard("Next section, please"));
    theatre.focus("log", 2);
    theatre.happen(heard("next section"));
    theatre.happen(heard("section next"));
    assert_snapshot!(theatre.script(), @r#"
    0 log "everywhere"
    0 log "rest section please"
    0 log "in log"
    "#);
    assert!(theatre.reasons().iter().any(|reason| reason.contains("NotRecognized")));
}

#[test]
fn slots_bring_their_values() {
    let mut theatre = Theatre::new(
        "words tray = \"north | spare tray\"
when voice \"cut <number> [metres] [at <percent>] from <tray>\" as said {
    log \"{said.number + 1} {said.tray} {said.score}\"
}
",
    );
    theatre.happen(heard("cut forty two metres at 7% from spare tray"));
    theatre.happen(heard("cut minus three point five from north"));
    assert_snapshot!(theatre.script(), @r#"
    0 log "43 spare tray 0.9"
    0 log "-2.5 north 0.9"
    "#);
}

#[test]
fn the_attention_word_comes_first() {
    let mut theatre = Theatre::new(
        "settings { attention = \"hey lantern\" }\nwhen voice \"next section\" => log \"next\"\n",
    );
    for words in ["next section", "lantern next section", "Hey Lantern: next section!"] {
        theatre.happen(heard(words));
    }
    assert_snapshot!(theatre.script(), @r#"     0 log "next""#);
}

/// What the ear listens for, those that need no attention word with a star.
fn heeded(theatre: &Theatre) -> String {
    let phrases = theatre.listening.phrases.iter();
    let words = phrases
        .map(|said| format!("{}{}", said.text, if said.without_attention_word { "*" } else { "" }));
    words.collect::<Vec<_>>().join(", ")
}

#[test]
fn the_ear_is_told_what_counts_where_the_person_is() {
    let mut theatre = Theatre::new(
        "settings { attention = \"lantern\" }
when voice \"next section\" => log \"next\"
when voice \"stop\" without attention => log \"stop\"
when voice \"save it\" in app \"corelog\" => log \"save\"
when voice \"left\" in layer nudge => log \"left\"
when key f9 => enter layer nudge
layer nudge { when key f10 => leave layer nudge }
",
    );
    assert_eq!(heeded(&theatre), "next section, stop*");
    theatre.focus("corelog", 2);
    assert_eq!(heeded(&theatre), "next section, save it, stop*");
    theatre.press("f9");
    assert_eq!(heeded(&theatre), "left, next section, save it, stop*");
    theatre.happen(Event::Locked(true));
    assert_eq!(heeded(&theatre), "", "nothing is heard at a lock screen");
    theatre.happen(Event::Locked(false));
    theatre.happen(heard("stop"));
    theatre.happen(heard("save it"));
    let reasons = theatre.reasons();
    assert!(reasons.iter().any(|reason| reason.contains("does not begin with the attention word")));
    assert_snapshot!(theatre.script().lines().filter(|line| line.contains("log")).collect::<String>(), @r#"     0 log "stop""#);
}

#[test]
fn the_attention_word_alone_opens_the_ear_for_a_while() {
    let mut theatre = Theatre::new(
        "settings { attention = \"lantern\"; awake = 5s }
when voice \"next section\" => log \"next\"
",
    );
    theatre.happen(heard("lantern"));
    assert_eq!(heeded(&theatre), "next section*");
    theatre.wait(4000);
    theatre.happen(heard("next section"));
    // What was understood keeps it open.
    theatre.wait(4000);
    theatre.happen(heard("next section"));
    theatre.wait(6000);
    assert_eq!(heeded(&theatre), "next section");
    theatre.happen(heard("next section"));
    assert_snapshot!(theatre.script(), @r#"
      4000 log "next"
      8000 log "next"
    "#);
}

#[test]
fn listening_is_given_up_and_taken_up_by_word() {
    let mut theatre = Theatre::new(
        "settings { attention = \"lantern\" }
when voice \"next section\" => log \"next\"
when voice \"stop listening\" => listen to nothing
when voice \"listen again\" => listen when called
when voice \"listen to everything\" { wake() }
macro wake() { listen freely }
",
    );
    theatre.happen(heard("lantern stop listening"));
    assert_eq!(heeded(&theatre), "listen again, listen to everything, stop listening");
    theatre.happen(heard("lantern next section"));
    theatre.happen(heard("lantern listen again"));
    theatre.happen(heard("lantern next section"));
    theatre.happen(heard("lantern listen to everything"));
    assert!(heeded(&theatre).contains("next section*"));
    theatre.happen(heard("next section"));
    assert_snapshot!(theatre.script(), @r#"
         0 log "next"
         0 log "next"
    "#);
}

#[test]
fn what_began_while_we_spoke_is_not_heard_when_we_are_silent_again() {
    let mut theatre = Theatre::new(
        "when key f9 => say \"next section\"\nwhen voice \"next section\" => log \"next\"\n",
    );
    theatre.hold_outcomes = true;
    theatre.press("f9");
    theatre.wait(1000);
    theatre.answer(Ok(None));
    theatre.wait(500);
    // It began 800 ms ago.
    theatre.happen(heard("next section"));
    theatre.wait(1000);
    theatre.happen(heard("next section"));
    assert_snapshot!(theatre.script(), @r#"
         0 say ["next section"]
      2500 log "next"
    "#);
}

#[test]
fn what_was_misheard_is_told_with_what_it_is_most_like() {
    let mut theatre = Theatre::new("when voice \"next section\" => log \"next\"\n");
    let (words, why) = ("next section".to_owned(), "it is not sure enough".to_owned());
    theatre.happen(Event::Misheard { words, score: 0.31, why });
    assert_eq!(theatre.script(), "");
    theatre.happen(heard("next section"));
    assert!(theatre.reasons().iter().any(|told| told == "Heard(\"next section\", 0.9)"));
    let told = theatre.reasons().swap_remove(0);
    assert!(
        told.contains("it is not sure enough; it is most like") && told.contains("31 %"),
        "{told}"
    );
}

#[test]
fn what_we_say_or_play_ourselves_is_not_heard() {
    let mut theatre = Theatre::new(
        "when key f9 => say \"next section\"\nwhen voice \"next section\" => log \"next\"\n",
    );
    theatre.hold_outcomes = true;
    theatre.press("f9");
    theatre.happen(heard("next section"));
    theatre.answer(Ok(None));
    theatre.happen(heard("next section"));
    assert_snapshot!(theatre.script(), @r#"
    0 say ["next section"]
    0 log "next"
    "#);
}

#[test]
fn a_stop_empties_what_waits_for_quiet() {
    let mut theatre = Theatre::new(
        "when key f9 named lamp after quiet 100ms => log \"lamp\"\nwhen key f8 => stop lamp\n",
    );
    theatre.tap("f9", 10);
    theatre.tap("f8", 10);
    theatre.wait(500);
    theatre.tap("f9", 10);
    theatre.wait(500);
    assert_snapshot!(theatre.script(), @r#"   620 log "lamp""#);
}

#[test]
fn lines_end_however_they_like_and_come_in_pieces() {
    let mut theatre = Theatre::new(
        "device p = serial \"/dev/ttyACM0\" at 9600\nwhen line from p as said => log \"[{said.text}]\"\n",
    );
    theatre.happen(bytes("p", b"one\ntwo\r\nthr"));
    theatre.happen(bytes("p", b"ee\r"));
    theatre.happen(bytes("p", b"\nfour\r\r\n\n"));
    theatre.happen(bytes("p", b"f\xff\xfeve \xe2\x82"));
    theatre.happen(bytes("p", b"\xac\n"));
    theatre.happen(bytes("other", b"six\n"));
    theatre.happen(bytes("p", &[b'x'; 5000]));
    theatre.happen(bytes("p", b"\n"));
    let script = theatre.script();
    let (short, long) = script.split_at(script.find("[xxx").expect("it came"));
    assert_snapshot!(short, @r#"
    0 log "[one]"
    0 log "[two]"
    0 log "[three]"
    0 log "[four]"
    0 log "[f��ve €]"
    0 log "
    "#);
    assert_eq!(long.matches('x').count(), 4096);
}

#[test]
fn every_rule_that_matches_a_line_fires() {
    let mut theatre = Theatre::new(
        "device p = serial \"/dev/ttyACM0\" at 9600
when line from p is \"left\" => log \"is\"
when line from p contains \"ef\" => log \"contains\"
when line from p matches `^(?<side>l)(.*)t$` as said => log \"{said.side} {said.part-2}\"
when line from p contains \"right\" => log \"other\"
",
    );
    theatre.happen(bytes("p", b" left \nleft\n"));
    assert_snapshot!(theatre.script(), @r#"
    0 log "is"
    0 log "contains"
    0 log "l ef"
    0 log "is"
    0 log "contains"
    "#);
}

#[test]
fn messages_and_calls_find_their_rules() {
    let mut theatre = Theatre::new(
        "device hut = broker \"mqtt://127.0.0.1\"
device door = listener \"127.0.0.1:4711\"
when message \"saw/+/state\" on hut as said => log \"{said.topic}={said.text}\"
when message \"saw/#\" on hut => log \"any\"
when call \"/bell\" on door as said => log \"bell {said.text}\"
",
    );
    let message = |topic: &str| Event::Message {
        device: "hut".to_owned(),
        topic: topic.to_owned(),
        text: "on".to_owned(),
    };
    theatre.happen(message("saw/2/state"));
    theatre.happen(message("saw"));
    theatre.happen(message("lamp"));
    for path in ["/bell", "/bells"] {
        let (device, text) = ("door".to_owned(), "x".to_owned());
        let (number, caller, path) = (0, "ilva".to_owned(), path.to_owned());
        theatre.happen(Event::Call { call: number, device, caller, path, text });
    }
    assert_snapshot!(theatre.script(), @r#"
    0 log "saw/2/state=on"
    0 log "any"
    0 log "any"
    0 log "bell x"
    "#);
}

#[test]
fn an_abbreviation_is_typed_from_the_start_of_a_word() {
    let mut theatre = Theatre::new(
        "when typed \"sct\" => type \"section\"\nwhen typed \"ct\" passing => log \"passing\"\nwhen typed \";b\" => type \"bag\"\n",
    );
    let type_text = |theatre: &mut Theatre, text: &str| {
        text.chars().for_each(|letter| theatre.happen(Event::TextInput(Some(letter))));
    };
    type_text(&mut theatre, "a sct xsct ct");
    type_text(&mut theatre, "sc");
    theatre.happen(Event::TextInput(None));
    type_text(&mut theatre, "t");
    type_text(&mut theatre, " sx\u{8}ct");
    type_text(&mut theatre, "x;b");
    assert_snapshot!(theatre.script(), @r#"
    0 tap backspace, tap backspace, tap backspace
    0 type "section"
    0 log "passing"
    0 tap backspace, tap backspace, tap backspace
    0 type "section"
    "#);
}

#[test]
fn windows_fire_all_that_want_them() {
    let mut theatre = Theatre::new(
        "when window opened app \"scanner\" as w => log \"{w.title}\"
when window focused title \"draft\" => log \"draft\"
when window focused => log \"any\"
",
    );
    let app = |window: u64, title: &str| App {
        window,
        names: vec!["scanner".to_owned()],
        title: title.to_owned(),
        ..App::default()
    };
    theatre.happen(Event::WindowOpened(app(3, "Scanner")));
    theatre.happen(Event::Focus(app(3, "A Draft")));
    theatre.happen(Event::Focus(app(3, "Another draft")));
    assert_snapshot!(theatre.script(), @r#"
    0 log "Scanner"
    0 log "draft"
    0 log "any"
    "#);
}

#[test]
fn nothing_fires_while_locked_but_what_says_so_and_runs_make_no_input() {
    let mut theatre = Theatre::new(
        "when voice \"next section\" => log \"next\"
when key f9 even when locked => log \"even\"
when key f8 { wait 1s; tap a }
when key f7 even when locked { tap b }
when every 10s => log \"round\"
",
    );
    theatre.happen(Event::Started);
    theatre.press("f8");
    theatre.happen(Event::Locked(true));
    theatre.happen(heard("next section"));
    theatre.press("f9");
    theatre.press("f7");
    theatre.wait(11_000);
    theatre.happen(Event::Locked(false));
    theatre.happen(heard("next section"));
    assert_snapshot!(theatre.script(), @r#"
        0 arm f7 f9 shift+ctrl+alt+escape
        0 log "even"
        0 tap b
    11000 arm f7 f8 f9 shift+ctrl+alt+escape
    11000 log "next"
    "#);
}

#[test]
fn throttled_quiet_and_paused_rules() {
    let mut theatre = Theatre::new(
        "device p = serial \"/dev/ttyACM0\" at 9600
when key f9 at most once per 2s => log \"throttled\"
when line from p as said after quiet 30ms => log \"{said.text}\"
when key f8 named lamp => log \"lamp\"
when key f7 => pause lamp
when key f6 => resume lamp
",
    );
    for _ in 0..5 {
        theatre.tap("f9", 10);
        theatre.wait(500);
    }
    for text in [&b"1\n"[..], b"2\n", b"3\n"] {
        theatre.happen(bytes("p", text));
        theatre.wait(20);
    }
    theatre.wait(100);
    for name in ["f8", "f7", "f8", "f6", "f8"] {
        theatre.tap(name, 10);
    }
    assert_snapshot!(theatre.script(), @r#"
       0 log "throttled"
    2040 log "throttled"
    2620 log "3"
    2710 log "lamp"
    2730 give back f8
    2750 log "lamp"
    "#);
}

/// What is logged while the clock is set to each time in turn.
fn alarms(rules: &str, tellings: &[(WallTime, u64)]) -> String {
    let mut theatre = Theatre::new(rules);
    for (wall, seconds) in tellings {
        theatre.happen(Event::WallClock(*wall));
        theatre.wait(seconds * 1000);
    }
    theatre.script()
}

#[test]
fn times_of_day_come_once_a_day_across_midnight() {
    let evening = WallTime::from_civil(2031, 12, 31, 23, 59, 58);
    let script = alarms(
        "when at 00:00 => log \"{now.year} {now.weekday} {now.time}\"\n",
        &[(evening, 90_000)],
    );
    assert_snapshot!(script, @r#"
      2000 log "2032 thursday 00:00"
    86402000 log "2032 friday 00:00"
    "#);
}

#[test]
fn the_hour_that_summer_leaves_out_is_made_up_for_and_the_one_that_winter_repeats_counts_once() {
    let rules = "when at 02:30 => log \"half past two\"\n";
    let hour = |wall: WallTime, offset: i32| WallTime { offset: offset * 3600, ..wall };
    let spring = [
        (hour(WallTime::from_civil(2031, 3, 30, 1, 59, 0), 1), 60),
        (hour(WallTime::from_civil(2031, 3, 30, 3, 0, 0), 2), 7200),
    ];
    assert_snapshot!(alarms(rules, &spring), @r#" 60000 log "half past two""#);
    let autumn = [
        (hour(WallTime::from_civil(2031, 10, 26, 2, 0, 0), 2), 3600),
        (hour(WallTime::from_civil(2031, 10, 26, 2, 0, 0), 1), 7200),
    ];
    assert_snapshot!(alarms(rules, &autumn), @r#"1800000 log "half past two""#);
}

#[test]
fn what_was_slept_through_fires_only_if_it_was_just_now() {
    let rules = "when at 06:30 => log \"shift\"\n";
    let at = |hour, minute, second| WallTime::from_civil(2031, 6, 21, hour, minute, second);
    let just_now = alarms(rules, &[(at(6, 0, 0), 1), (at(6, 30, 40), 1)]);
    let long_ago = alarms(rules, &[(at(6, 0, 0), 1), (at(6, 31, 40), 1)]);
    assert_snapshot!(format!("{just_now}|{long_ago}"), @r#"  1000 log "shift"|"#);
}

#[test]
fn rounds_begin_with_the_start_and_started_fires_once() {
    let mut theatre =
        Theatre::new("when every 5min => log \"round\"\nwhen started => log \"go\"\n");
    theatre.wait(1000);
    theatre.happen(Event::Started);
    theatre.wait(601_000);
    theatre.replace(crate::theatre::rules(
        "when every 1min => log \"new\"\nwhen started => log \"again\"\n",
    ));
    theatre.wait(61_000);
    assert_snapshot!(theatre.script(), @r#"
      1000 log "go"
    301000 log "round"
    601000 log "round"
    662000 log "new"
    "#);
}
