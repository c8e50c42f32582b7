//! The one that runs, spoken to from outside: its socket, the commands that use it, and what comes
//! through the socket that no command sends.

use std::io::{BufRead, BufReader, Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::UnixStream;
use std::process::Stdio;
use std::time::{Duration, Instant};

use lantern_stage::{Display, Person};
use serde_json::{Value, json};
use x11rb::connection::Connection;
use x11rb::protocol::xproto::{ConnectionExt as _, GrabMode, ModMask};

use crate::desktop::{A, bare};
use crate::running::{Running, arrived, lantern};

const RULES: &str = "let section = 1
## Write one line
macro log-line(line-text, gap = 20ms) { log \"{line-text} {gap}\"; tap a }
## Cut feed
when key f6 named feed again stops { hold shift { wait } }
when key f9 if section > 3 => tap a
when key f10 => set section = section + 1
when key f11 => launch \"sleep 100\" as saw
";

fn said(display: &Display, words: &[&str]) -> String {
    let output = lantern(display, words);
    let text = [output.stdout, output.stderr].concat();
    String::from_utf8(text).expect("it is text")
}

fn status(display: &Display) -> Value {
    serde_json::from_str(&said(display, &["status", "--json"])).expect("it is data")
}

fn socket(display: &Display) -> UnixStream {
    let folder = display.folder().join("cold-lantern");
    let files = std::fs::read_dir(folder).expect("it is there").flatten();
    let is_it = |name: &str| name.starts_with("socket");
    let mut sockets = files.filter(|file| file.file_name().to_str().is_some_and(is_it));
    let path = sockets.next().expect("there is one").path();
    let mode = std::fs::metadata(&path).expect("it is there").permissions().mode();
    assert_eq!(mode & 0o777, 0o600, "other users have no access");
    UnixStream::connect(path).expect("it listens")
}

/// What comes back for a line.
fn answer(stream: &mut UnixStream, line: &str) -> Value {
    stream.write_all(line.as_bytes()).expect("it listens");
    stream.write_all(b"\n").expect("it listens");
    let mut answer = String::new();
    BufReader::new(stream).read_line(&mut answer).expect("it answers");
    serde_json::from_str(&answer).expect("it is JSON")
}

#[test]
fn x11_what_runs_is_told_and_can_be_fired_stopped_and_ended() {
    let (display, mut person, target) = bare();
    let running = Running::start(&display, RULES);
    let told = status(&display);
    assert_eq!(told["rules"], 4, "a macro is no rule that something fires");
    assert_eq!(told["process"], running.child.id());
    assert_eq!((&told["runs"], &told["held"]), (&json!([]), &json!([])));
    assert_eq!(said(&display, &["fire", "log-line", "core 12", "1s"]), "");
    target.expect_press(A);
    assert_eq!(said(&display, &["fire", "feed"]), "");
    let told = status(&display);
    assert_eq!(told["runs"][0]["rule"], "Cut feed");
    assert_eq!(told["held"], json!([{ "key": "left-shift", "by": ["Cut feed"] }]));
    let shown = said(&display, &["status"]);
    assert!(shown.contains("left-shift") && shown.contains("Cut feed"), "{shown}");
    assert_eq!(said(&display, &["stop", "feed"]), "1 run ended\n");
    person.expect_no_keys_down();
    assert_eq!(lantern(&display, &["stop", "feed"]).status.code(), Some(1), "nothing is to stop");
    person.tap("f11");
    display.wait_until("the program", |display| status(display)["programs"] != json!([]));
    let process = status(&display)["programs"][0]["process"].to_string();
    let done = said(&display, &["end", &process]);
    assert!(done.contains("is asked to end"), "{done}");
    display.wait_until("its end", |display| status(display)["programs"] == json!([]));
    let wrong = said(&display, &["end", "1"]);
    assert!(wrong.contains("no program of ours has the process 1"), "{wrong}");
    let wrong = said(&display, &["fire", "saws"]);
    assert!(wrong.contains("there are feed, log-line"), "{wrong}");
    running.stop();
}

#[test]
fn x11_a_pause_gives_the_keys_back_and_ends_when_it_is_told_or_over() {
    let (display, mut person, target) = bare();
    let running =
        Running::start(&display, "when key f9 => tap a\nwhen key f8 named other => tap a\n");
    let f9 = 75;
    said(&display, &["pause"]);
    person.tap("f9");
    assert_eq!(target.expect_press(f9).detail, f9, "it is the program's");
    let shown = said(&display, &["status"]);
    assert!(shown.contains("everything is paused: `lantern resume` continues"), "{shown}");
    said(&display, &["resume"]);
    arrived(&display, &person, &target);
    person.tap("f9");
    assert_eq!(target.expect_press(A).detail, A);
    let told = said(&display, &["pause", "--for", "300ms"]);
    assert!(told.contains("paused for 300ms"), "{told}");
    display.wait_until("the end of the pause", |display| {
        status(display)["paused"]["all"] == json!(false)
    });
    said(&display, &["pause", "other"]);
    assert_eq!(status(&display)["paused"]["rules"], json!(["other"]));
    let wrong = said(&display, &["pause", "--for", "soon"]);
    assert!(wrong.contains("90s, 20min, 1h"), "{wrong}");
    running.stop();
}

#[test]
fn x11_the_panic_combination_outlasts_a_pause_with_an_end() {
    let (display, mut person, _target) = bare();
    let rules = "settings { panic = key f12 }\nwhen key f9 named log-line => log \"x\"\n";
    let mut running = Running::start(&display, rules);
    said(&display, &["pause", "--for", "300ms"]);
    person.tap("f12");
    running.wait_for("everything is paused");
    // This pause ends later than the first one would have.
    said(&display, &["pause", "log-line", "--for", "500ms"]);
    display.wait_until("the end of the later pause", |display| {
        status(display)["paused"]["rules"] == json!([])
    });
    assert_eq!(status(&display)["paused"]["all"], json!(true));
    running.stop();
}

#[test]
fn x11_quit_ends_the_one_that_runs_and_releases_its_keys() {
    let (display, mut person, _target) = bare();
    let mut running = Running::start(&display, "when key f9 { hold shift { wait } }\n");
    person.tap("f9");
    running.wait_for("fired");
    let refused = lantern(&display, &["files", "--erase", "--yes"]);
    assert!(!refused.status.success(), "its files are in use");
    let told = said(&display, &["quit"]);
    assert!(told.contains("bench.lantern has ended"), "{told}");
    assert!(running.wait_end().success());
    person.expect_no_keys_down();
    assert!(said(&display, &["quit"]).contains("nothing runs"));
}

#[test]
fn x11_why_names_the_one_condition_and_the_last_inputs() {
    let (display, mut person, target) = bare();
    let running = Running::start(&display, RULES);
    let told = said(&display, &["why"]);
    assert!(told.contains("no input has mattered yet"), "{told}");
    let told = said(&display, &["why", "f9"]);
    assert!(told.contains("its condition `section > 3` does not hold"), "{told}");
    for _ in 0..3 {
        person.tap("f10");
    }
    display.wait_until("the condition", |display| said(display, &["why", "f9"]).contains("fires"));
    person.tap("f9");
    target.expect_press(A);
    let told = said(&display, &["why"]);
    assert!(told.contains("fired by f9"), "{told}");
    let told = said(&display, &["why", "2"]);
    assert!(told.contains("fired by f10"), "{told}");
    let told = said(&display, &["why", "f9"]);
    assert!(told.contains("fires") && told.contains("last pressed"), "{told}");
    let told = said(&display, &["why", "f11"]);
    assert!(told.contains("not pressed since the start"), "{told}");
    let none = lantern(&display, &["why", "ctrl+f12"]);
    assert_eq!(none.status.code(), Some(1));
    let told = said(&display, &["why", "ctrl+pageup"]);
    assert!(told.contains("write `page-up`"), "{told}");
    running.stop();
}

#[test]
fn x11_why_names_who_else_holds_a_key_or_the_keyboard() {
    let (display, mut person, target) = bare();
    let conn = display.connect();
    let root = conn.setup().roots[0].root;
    let mode = GrabMode::ASYNC;
    crate::faults::take_key(&conn, 75);
    let running = Running::start(&display, "when key f9 => tap a\n");
    let told = said(&display, &["why", "f9"]);
    assert!(told.contains("another program holds the key"), "{told}");
    conn.ungrab_key(75, root, ModMask::ANY).expect("it listens");
    conn.flush().expect("it listens");
    display.wait_until("the key to be taken up", |display| {
        said(display, &["why", "f9"]).contains("fires")
    });
    person.tap("f9");
    target.expect_press(A);
    let taken = conn.grab_keyboard(false, root, x11rb::CURRENT_TIME, mode, mode);
    taken.expect("it listens").reply().expect("it answers");
    let told = said(&display, &["why", "f9"]);
    assert!(told.contains("the whole keyboard is held now"), "{told}");
    drop(conn);
    display.wait_until("the keyboard to be free", |display| {
        !said(display, &["why", "f9"]).contains("keyboard is held")
    });
    running.stop();
}

#[test]
fn x11_a_second_one_says_who_runs_and_takes_over_when_asked() {
    let (display, mut person, target) = bare();
    let mut first = Running::start(&display, "when key f9 { hold shift { wait } }\n");
    person.tap("f9");
    first.wait_for("fired");
    let file = display.folder().join("second.lantern");
    std::fs::write(&file, "when key f9 => tap a\n").expect("it can be written");
    let file = file.display().to_string();
    let told = said(&display, &["run", &file]);
    assert!(told.contains("bench.lantern has run for") && told.contains("--take-over"), "{told}");
    let second = Running::start_with(&display, "when key f9 => tap a\n", |command| {
        command.arg("--take-over");
    });
    assert!(first.wait_end().success(), "it went as if it had been told to");
    person.expect_no_keys_down();
    arrived(&display, &person, &target);
    person.tap("f9");
    target.expect_press(A);
    second.stop();
}

#[test]
fn x11_a_reload_keeps_what_did_not_change_and_a_broken_file_changes_nothing() {
    let (display, mut person, target) = bare();
    let rules = "when key f6 { hold f1 { wait } }\nwhen key f7 { hold f2 { wait } }\n";
    let mut running = Running::start(&display, rules);
    for key in ["f6", "f7"] {
        person.tap(key);
        running.wait_for("fired");
    }
    let held = |display: &Display| status(display)["held"].as_array().map_or(0, Vec::len);
    display.wait_until("both holds", |display| held(display) == 2);
    let changed = rules.replace("hold f2", "hold f3") + "when key f8 => tap a\n";
    std::fs::write(&running.file, changed).expect("it can be written");
    running.wait_for("reloaded");
    assert_eq!(status(&display)["held"], json!([{ "key": "f1", "by": ["when key f6"] }]));
    std::fs::write(&running.file, "when key f6 {\n").expect("it can be written");
    running.wait_for("broken");
    assert_eq!(status(&display)["broken"], json!(true));
    let told = said(&display, &["reload"]);
    assert!(told.contains("the rules from before stay in force"), "{told}");
    assert_eq!(held(&display), 1);
    said(&display, &["stop", "--all"]);
    arrived(&display, &person, &target);
    person.tap("f8");
    target.expect_press(A);
    running.stop();
}

#[test]
fn x11_decisions_are_told_as_they_come() {
    let (display, mut person, _target) = bare();
    let running = Running::start(&display, "when key f9 => tap a\n");
    let mut stream = socket(&display);
    assert_eq!(
        answer(&mut stream, r#"{"jsonrpc":"2.0","id":1,"method":"watch"}"#)["result"],
        json!({})
    );
    person.tap("f9");
    let mut line = String::new();
    BufReader::new(&stream).read_line(&mut line).expect("it tells");
    let told: Value = serde_json::from_str(&line).expect("it is JSON");
    assert_eq!(
        (&told["method"], &told["params"]["what"]),
        (&json!("decided"), &json!("fired by f9"))
    );
    running.stop();
}

#[test]
fn x11_a_failed_run_reports_the_sort_of_failure() {
    let (display, mut person, _target) = bare();
    let rules = "when key f1 => focus app \"corelog\"\nwhen key f2 => launch \"no-such-corelog\"\n\
                 when key f3 => wait until window.app == \"corelog\" at most 20ms\n\
                 when key f4 => log \"{1 / 0}\"\n";
    let running = Running::start(&display, rules);
    let mut stream = socket(&display);
    answer(&mut stream, r#"{"jsonrpc":"2.0","id":1,"method":"watch"}"#);
    let mut lines = BufReader::new(stream).lines();
    let causes = [
        ("f1", json!("not-found")),
        ("f2", json!("not-found")),
        ("f3", json!("timed-out")),
        ("f4", json!(null)),
    ];
    for (key, cause) in causes {
        person.tap(key);
        let failed = loop {
            let line = lines.next().expect("it tells").expect("it is text");
            let decision: Value = serde_json::from_str(&line).expect("it is JSON");
            if decision["params"]["kind"] == "failed" {
                break decision;
            }
            assert_eq!(decision["params"]["cause"], json!(null), "{decision}");
        };
        assert_eq!(failed["params"]["cause"], cause, "{key}: {failed}");
    }
    running.stop();
}

#[test]
fn x11_no_line_however_odd_and_no_client_however_slow_holds_anything_up() {
    let (display, mut person, target) = bare();
    let running = Running::start(&display, "when key f9 => tap a\n");
    let mut stream = socket(&display);
    for (line, code) in [
        ("{", -32700),
        ("7", -32600),
        (r#"{"jsonrpc":"2.0","id":1,"method":"melt"}"#, -32601),
        (r#"{"jsonrpc":"2.0","id":1,"method":"fire"}"#, -32602),
        (r#"{"jsonrpc":"2.0","id":1,"method":"fire","params":{"name":"x"}}"#, -32000),
    ] {
        assert_eq!(answer(&mut stream, line)["error"]["code"], code, "{line}");
    }
    // Half a message, a hundred that say nothing, one that never reads, one that never stops.
    stream.write_all(b"{\"jsonrpc\":").expect("it listens");
    let idle: Vec<UnixStream> = (0..100).map(|_| socket(&display)).collect();
    let mut greedy = socket(&display);
    greedy.set_nonblocking(true).expect("it can be set");
    let ask = r#"{"jsonrpc":"2.0","id":1,"method":"status"}"#.to_owned() + "\n";
    while greedy.write_all(ask.repeat(100).as_bytes()).is_ok() {}
    let mut endless = socket(&display);
    endless.set_read_timeout(Some(Duration::from_secs(5))).expect("it can be set");
    let _ = endless.write_all(&vec![b'x'; 300_000]);
    let mut rest = Vec::new();
    // It is disconnected, with an error where some of it was not read, and gets no answer.
    let _ = endless.read_to_end(&mut rest);
    assert!(rest.is_empty(), "it is disconnected");
    let begin = Instant::now();
    person.tap("f9");
    target.expect_press(A);
    assert!(begin.elapsed() < Duration::from_secs(2));
    assert_eq!(status(&display)["rules"], 1);
    drop(idle);
    running.stop();
}

#[test]
fn x11_with_nobody_there_it_is_said_and_what_is_down_can_still_be_let_go() {
    let display = Display::start("us");
    let person = Person::sit_down(&display);
    for words in [&["status"][..], &["fire", "x"], &["why"], &["pause"], &["watch"]] {
        let output = lantern(&display, words);
        let told = String::from_utf8_lossy(&output.stderr).into_owned();
        assert_eq!(output.status.code(), Some(2), "{words:?}");
        assert!(
            told.contains("nothing runs on") && told.contains("`lantern run` starts it"),
            "{told}"
        );
    }
    let told = said(&display, &["stop", "--all"]);
    assert!(told.contains("what was listed as held is let go"), "{told}");
    person.expect_no_keys_down();
}

#[test]
fn x11_a_locked_screen_ends_what_runs_and_nothing_fires_until_it_is_unlocked() {
    let (mut display, mut person, target) = bare();
    display.start_bus();
    let rules = "when key f6 { hold f1 { wait } }\nwhen key f9 => tap a\n\
                 when key f10 even when locked => tap a\n";
    let mut running = Running::start(&display, rules);
    person.tap("f6");
    running.wait_for("fired");
    let lock = |locked: &str| {
        let words = [
            "emit",
            "--session",
            "--object-path",
            "/org/freedesktop/ScreenSaver",
            "--signal",
            "org.freedesktop.ScreenSaver.ActiveChanged",
            locked,
        ];
        display.ask("gdbus", &words);
    };
    // It may not listen yet when the first signal goes out.
    display.wait_until("the lock", |display| {
        lock("true");
        said(display, &["why", "f9"]).contains("the screen is locked")
    });
    running.wait_for("stopped: the screen was locked");
    person.expect_no_keys_down();
    arrived(&display, &person, &target);
    person.tap("f10");
    target.expect_press(A);
    person.tap("f9");
    assert_eq!(target.expect_press(75).detail, 75, "nobody listens");
    lock("false");
    running.wait_for("the screen is unlocked");
    person.tap("f9");
    target.expect_press(A);
    running.stop();
}

#[test]
fn x11_a_broken_edit_is_told_by_a_notice_once() {
    let mut display = Display::start("us");
    display.start_bus();
    display.start_notices();
    let mut running = Running::start(&display, "when key f9 => tap a\n");
    for _ in 0..2 {
        std::fs::write(&running.file, "when key f9 {\n").expect("it can be written");
        running.wait_for("is broken");
    }
    let mut notices = String::new();
    display.wait_until("the notice", |display| {
        notices = display.notices();
        notices.contains("The rules from before stay in force.")
    });
    assert_eq!(notices.matches("\"summary\"").count(), 1, "{notices}");
    running.stop();
}

#[test]
fn x11_who_starts_it_is_told_when_it_is_at_work() {
    use std::os::unix::net::UnixDatagram;
    let display = Display::start("us");
    let path = display.folder().join("ready");
    let socket = UnixDatagram::bind(&path).expect("it can be made");
    socket.set_read_timeout(Some(Duration::from_secs(10))).expect("it can be set");
    let running = Running::start_with(&display, "when key f9 => tap a\n", |command| {
        command.env("NOTIFY_SOCKET", &path).env("WATCHDOG_USEC", "200000");
    });
    let told = || {
        let mut said = [0; 64];
        let count = socket.recv(&mut said).expect("it is told");
        String::from_utf8_lossy(&said[..count]).into_owned()
    };
    assert_eq!(told(), "READY=1");
    for _ in 0..5 {
        assert_eq!(told(), "WATCHDOG=1", "it lives");
    }
    running.stop();
}

#[test]
fn x11_what_is_told_goes_into_a_file_as_well_with_its_time_and_level() {
    let (display, mut person, target) = bare();
    let path = display.folder().join("lantern.log");
    let text =
        "when key f9 => type \"core 12\"\nwhen key f10 => tap a\nwhen key f11 => log \"cut\"\n";
    let rules = display.folder().join("bench.lantern");
    std::fs::write(&rules, text).expect("it can be written");
    let logged = |level: &str| {
        let mut command = display.command(env!("CARGO_BIN_EXE_lantern"));
        command.arg("run").arg(&rules).arg("--log-file").arg(&path).args(["--log-level", level]);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::piped()).spawn().expect("ok");
        let mut talk = BufReader::new(child.stderr.take().expect("it is a pipe"));
        talk.read_line(&mut String::new()).expect("it is at work");
        (child, talk)
    };
    for level in ["warning", "info", "debug"] {
        let (mut child, _talk) = logged(level);
        for key in ["f9", "f11", "f10"] {
            person.tap(key);
        }
        target.expect_press(A);
        crate::running::send(child.id(), rustix::process::Signal::TERM);
        assert!(child.wait().expect("it ends").success());
        let file = std::fs::read_to_string(&path).expect("it was written");
        std::fs::remove_file(&path).expect("it is ours");
        assert!(!file.contains("core 12"), "what is typed is not told: {file}");
        assert!(file.contains("3 rules active") && file.contains(" cut\n"), "{file}");
        assert_eq!(file.contains("fired by f10"), level != "warning", "{file}");
        assert_eq!(file.contains("debug   "), level == "debug", "{file}");
        assert!(file.lines().all(|line| line.starts_with("20")), "each has its time: {file}");
    }
}

#[test]
fn x11_rules_that_others_may_write_do_not_run() {
    let display = Display::start("us");
    let file = display.folder().join("open.lantern");
    std::fs::write(&file, "when key f9 => tap a\n").expect("it can be written");
    std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o666)).expect("it is ours");
    let file = file.display().to_string();
    let told = said(&display, &["run", &file]);
    assert!(told.contains("others may write") && told.contains("chmod go-w"), "{told}");
}

/// `lantern add` at work: the person presses a key when it asks for one; what it said, with its status.
fn add(display: &Display, person: &mut Person, key: &str, words: &[&str]) -> (String, Option<i32>) {
    let mut command = display.command(env!("CARGO_BIN_EXE_lantern"));
    command.arg("add").args(words).env("NO_COLOR", "1");
    command.stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = command.spawn().expect("the program starts");
    let mut complaints = BufReader::new(child.stderr.take().expect("it is a pipe"));
    let mut told = String::new();
    complaints.read_line(&mut told).expect("it asks");
    assert!(told.contains("press the key"), "{told}");
    person.tap(key);
    // The second press is the try.
    let mut line = String::new();
    while complaints.read_line(&mut line).expect("it can be read") > 0 {
        if line.contains("to try it") {
            person.tap(key);
        }
        told.push_str(&std::mem::take(&mut line));
    }
    let output = child.wait_with_output().expect("it ends");
    told.push_str(&String::from_utf8_lossy(&output.stdout));
    (told, output.status.code())
}

#[test]
fn x11_a_first_rule_is_added_by_pressing_its_key_and_tried_at_once() {
    let (display, mut person, target) = bare();
    let own = display.folder().join("config/cold-lantern/main.lantern");
    let (told, status) = add(&display, &mut person, "f9", &["--type", "core {12} \"deep\""]);
    assert_eq!(status, Some(0), "{told}");
    assert!(told.contains("puts it to work"), "{told}");
    let text = std::fs::read_to_string(&own).expect("it was made");
    assert_eq!(text, "language 1\n\nwhen key f9 => type \"core {{12}} \\\"deep\\\"\"\n");
    // The same key again is taken, and nothing is written.
    let (told, status) = add(&display, &mut person, "f9", &["--tap", "a"]);
    assert_eq!(status, Some(1), "{told}");
    assert!(told.contains("nothing was written"), "{told}");
    assert_eq!(std::fs::read_to_string(&own).expect("it is there"), text);
    // With the file at work the new rule is tried.
    let file = own.display().to_string();
    let mut running = Running::start_with(&display, "", |command| {
        // What it is given instead of its own file.
        *command = {
            let mut other = display.command(env!("CARGO_BIN_EXE_lantern"));
            other.args(["run", "--verbose", &file]).stderr(Stdio::piped());
            other
        };
    });
    arrived(&display, &person, &target);
    let words = ["--tap", "a", "--description", "Label of a bag"];
    let (told, status) = add(&display, &mut person, "ctrl+f8", &words);
    assert_eq!(status, Some(0), "{told}");
    assert!(told.contains("fired by ctrl+f8"), "{told}");
    running.wait_for("reloaded");
    target.expect_press(A);
    let text = std::fs::read_to_string(&own).expect("it is there");
    assert!(text.ends_with("\n## Label of a bag\nwhen key ctrl+f8 => tap a\n"), "{text}");
    running.stop();
}

#[test]
fn x11_why_tells_what_became_of_what_fired() {
    let (display, mut person, target) = bare();
    let rules = "when key f5 { wait 20ms; run \"no-such-program\" }
when key f6 again stops { hold a { wait } }
when key f7 => wait\n";
    let mut running = Running::start(&display, rules);
    person.tap("f5");
    running.wait_for("failed at");
    let told = said(&display, &["why"]);
    assert!(told.contains("fired by f5") && told.contains("no-such-program"), "{told}");
    assert!(told.contains("ms later: failed at line 1"), "{told}");
    person.tap("f6");
    target.expect_press(A);
    let told = said(&display, &["why"]);
    assert!(told.contains("it still runs: it waits"), "{told}");
    person.tap("f6");
    running.wait_for("stopped: its own trigger");
    let told = said(&display, &["why"]);
    assert!(!told.contains("fired by") && told.contains("stopped: its own trigger"), "{told}");
    let told = said(&display, &["why", "2"]);
    assert!(told.contains("fired by f6") && told.contains("later: stopped"), "{told}");
    running.stop();
}
