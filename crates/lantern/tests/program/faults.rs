//! On a real X server, when something is not as it should be: the rest works, no key stays down, and
//! nothing wakes that need not.

use std::process::Stdio;
use std::time::Duration;

use lantern_stage::{Display, Person, Stage, Target, pass_time, wait_until};
use rustix::process::Signal;
use x11rb::connection::Connection as _;
use x11rb::protocol::xproto::{ConnectionExt as _, GrabMode, ModMask};
use x11rb::rust_connection::RustConnection;

use crate::desktop::bare;
use crate::running::{Running, lantern, read_arrived, send, typed_rest};

/// Rules that hold a key, a modifier and a button.
const HOLDING: &str = "when key f9 { hold ctrl+a { press left-button; wait } }\n";

#[test]
fn x11_no_key_stays_down_after_a_signal_or_a_kill() {
    for signal in [Signal::TERM, Signal::INT, Signal::HUP, Signal::KILL] {
        let (display, mut person, target) = bare();
        let mut running = Running::start(&display, HOLDING);
        person.tap("f9");
        target.expect(3);
        assert_eq!(person.keys_down().len(), 2);
        running.signal(signal);
        running.wait_end();
        let mut up = 0;
        while up < 3 {
            let got = target.next(Duration::from_secs(10));
            up += u32::from(!got.expect("every key is let go").down);
        }
        assert!(person.keys_down().is_empty() && !person.buttons_down(), "after {signal:?}");
    }
}

#[test]
fn x11_keys_that_both_processes_left_down_are_let_go_at_the_next_start() {
    let (display, mut person, target) = bare();
    let mut running = Running::start(&display, HOLDING);
    person.tap("f9");
    target.expect(3);
    // Stopped, it cannot start another guardian.
    let (guardian, child) = (running.guardian(), running.child.id());
    send(child, Signal::STOP);
    for pid in [guardian, child] {
        send(pid, Signal::KILL);
    }
    running.wait_end();
    assert_eq!(person.keys_down().len(), 2, "with both dead no process releases them");
    let running = Running::start(&display, HOLDING);
    assert!(person.keys_down().is_empty() && !person.buttons_down());
    running.stop();
}

#[test]
fn x11_a_guardian_that_dies_is_followed_by_another() {
    let (display, mut person, target) = bare();
    let mut running = Running::start(&display, HOLDING);
    let first = running.guardian();
    send(first, Signal::KILL);
    running.wait_for("another one watches now");
    assert_ne!(running.guardian(), first);
    person.tap("f9");
    target.expect(3);
    running.signal(Signal::KILL);
    running.wait_end();
    display.wait_until("the keys to be let go", |_| {
        person.keys_down().is_empty() && !person.buttons_down()
    });
}

#[test]
fn x11_the_panic_key_is_heard_among_ten_thousand_busy_runs_while_all_else_happens() {
    let (display, mut person, target) = bare();
    let busy = "when every 2ms again overlaps { repeat { wait 500ms } }\n".repeat(20);
    let rules = format!(
        "{busy}when key f9 {{ hold ctrl+a {{ run \"sleep\", \"100\" }} }}\nwhen key f8 => tap b\n"
    );
    let mut running = Running::start_with(&display, &rules, |command| {
        // Tens of thousands of lines are of no use.
        *command = display.command(env!("CARGO_BIN_EXE_lantern"));
        command.arg("run").arg(display.folder().join("bench.lantern")).stderr(Stdio::piped());
    });
    let status = |display: &Display| -> serde_json::Value {
        let told = lantern(display, &["status", "--json"]).stdout;
        serde_json::from_slice(&told).unwrap_or_default()
    };
    person.tap("f9");
    target.expect(2);
    display.wait_until("ten thousand runs", |display| {
        status(display)["run_count"].as_u64().is_some_and(|runs| runs >= 10_000)
    });
    // The file is reloaded all the while, and a started program hangs.
    let (stop, file) = (std::sync::atomic::AtomicBool::new(false), running.file.clone());
    std::thread::scope(|scope| {
        scope.spawn(|| {
            while !stop.load(std::sync::atomic::Ordering::Relaxed) {
                std::fs::write(&file, &rules).expect("it is ours");
                pass_time(Duration::from_millis(40));
            }
        });
        running.wait_for("reloaded");
        person.tap("ctrl+alt+shift+escape");
        person.expect_no_keys_down();
        stop.store(true, std::sync::atomic::Ordering::Relaxed);
    });
    let told = status(&display);
    assert_eq!((&told["run_count"], &told["paused"]["all"]), (&0.into(), &true.into()));
    running.stop();
}

#[test]
fn x11_a_display_that_goes_away_is_waited_for() {
    let (mut display, mut person, target) = bare();
    let mut running = Running::start(&display, HOLDING);
    person.tap("f9");
    target.expect(3);
    display.kill();
    running.wait_for("the display went away");
    display.revive();
    let target = Target::open(&display);
    let mut person = Person::sit_down(&display);
    running.wait_for("active on");
    assert!(person.keys_down().is_empty(), "the new one begins with nothing down");
    person.tap("f9");
    target.expect(3);
    display.kill();
    running.wait_for("the display went away");
    running.signal(Signal::TERM);
    assert_eq!(running.wait_end().code(), Some(1));
}

/// Takes a key by its keycode, as another program does.
pub fn take_key(other: &RustConnection, code: u8) {
    let root = other.setup().roots[0].root;
    let taken = other.grab_key(true, root, ModMask::ANY, code, GrabMode::ASYNC, GrabMode::ASYNC);
    taken.expect("it listens").check().expect("the key is free");
}

#[test]
fn x11_a_key_that_another_program_holds_is_named_and_the_rest_works() {
    let mut stage = Stage::set("us");
    let other = stage.display.connect();
    take_key(&other, 75);
    let rules = "## Next section\nwhen key f9 => type \"9\"\nwhen key f10 => type \"YES\"\n";
    let mut running = Running::start_unready(&stage.display, rules);
    let line = running.wait_for("taken by another program");
    assert!(line.contains("Next section") && line.contains("f9"), "{line}");
    running.wait_for("it is taken up when it comes free");
    stage.person.tap("f9");
    stage.person.tap("f10");
    assert_eq!(stage.terminal.read(3), "YES");
    // Once the other program lets it go, it is ours.
    drop(other);
    let display = &stage.display;
    let (person, terminal) = (&mut stage.person, &mut stage.terminal);
    display.wait_until("the key to be taken", |_| {
        person.tap("f9");
        read_arrived(display, person, terminal).contains('9')
    });
    running.stop();
}

#[test]
fn x11_a_key_that_the_keyboard_lacks_is_named_and_the_rest_works() {
    let mut stage = Stage::set("us");
    let rules = "## Mute\nwhen key mic-mute => type \"NO\"\nwhen key 'ö' => type \"NO\"\nwhen key f10 => type \"YES\"\n";
    let mut running = Running::start_unready(&stage.display, rules);
    let line = running.wait_for("2: Mute");
    assert!(line.ends_with("not on this keyboard: mic-mute"), "{line}");
    let line = running.wait_for("3: when key 'ö'");
    assert!(line.ends_with("not on this keyboard: 'ö'"), "{line}");
    stage.person.tap("f10");
    assert_eq!(stage.terminal.read(3), "YES");
    running.stop();
}

#[test]
fn x11_programs_are_launched_run_and_missed_by_name() {
    let mut stage = Stage::set("us");
    let folder = stage.display.folder().to_owned();
    let entries = folder.join("data/applications");
    std::fs::create_dir_all(&entries).expect("it can be made");
    let entry = format!(
        "[Desktop Entry]\nType=Application\nName=Log\nExec=touch {}/entry %U\n",
        folder.display()
    );
    std::fs::write(entries.join("core-log.desktop"), entry).expect("it can be written");
    let rules = format!(
        "when key f1 {{ run \"touch\", \"{0}/run\"; type \"1\" }}\n\
         when key f2 {{ launch \"core-log\"; type \"2\" }}\n\
         ## Missing\n\
         when key f3 {{ launch \"no-such-drill\"; type \"NO\" }}\n\
         when key f4 {{ run \"sleep\", \"60\" at most 100ms; type \"NO\" }}\n",
        folder.display()
    );
    let mut running = Running::start(&stage.display, &rules);
    stage.person.tap("f1");
    assert_eq!(stage.terminal.read(1), "1");
    assert!(folder.join("run").exists(), "the step after `run` comes after its end");
    stage.person.tap("f2");
    assert_eq!(stage.terminal.read(1), "2");
    stage.person.tap("f3");
    let line = running.wait_for("no-such-drill");
    assert!(
        line.contains("bench.lantern:4: Missing") && line.contains("failed at line 4"),
        "{line}"
    );
    stage.person.tap("f4");
    running.wait_for("took too long");
    assert_eq!(typed_rest(&mut stage), "");
    running.stop();
}

#[test]
fn x11_a_macro_that_calls_itself_for_ever_ends_and_the_rest_goes_on() {
    let mut stage = Stage::set("us");
    let rules = "macro dig() { dig() }\nwhen key f9 => dig()\nwhen key f10 => type \"on\"\n";
    let mut running = Running::start(&stage.display, rules);
    stage.person.tap("f9");
    running.wait_for("calls itself without end");
    stage.person.tap("f10");
    assert_eq!(stage.terminal.read(2), "on");
    running.stop();
}

#[test]
fn x11_a_second_run_on_the_display_says_who_works_already() {
    let display = Display::start("us");
    let running = Running::start(&display, "when key f9 => tap a\n");
    let second = display
        .command(env!("CARGO_BIN_EXE_lantern"))
        .arg("run")
        .arg(&running.file)
        .output()
        .expect("the program starts");
    let words = String::from_utf8_lossy(&second.stderr);
    assert_eq!(second.status.code(), Some(2));
    assert!(words.contains(&running.child.id().to_string()), "{words}");
    running.stop();
}

/// How often any thread of a process has gone to sleep of itself.
fn sleeps(pid: u32) -> u64 {
    let tasks = std::fs::read_dir(format!("/proc/{pid}/task")).expect("the process lives");
    let status = tasks.flatten().map(|task| task.path().join("status"));
    let count = |path| {
        let text = std::fs::read_to_string(path).unwrap_or_default();
        let line = text.lines().find_map(|line| line.strip_prefix("voluntary_ctxt_switches:"));
        line.map_or(0, |count| count.trim().parse::<u64>().expect("it is a number"))
    };
    status.map(count).sum()
}

#[test]
fn x11_keys_and_movements_that_no_rule_needs_wake_nothing() {
    let (display, mut person, target) = bare();
    let running = Running::start(&display, "when key f9 => tap a\nwhen key ctrl+f9 => tap a\n");
    person.tap("f9");
    target.expect(2);
    let guardian = running.guardian();
    let count = || (sleeps(running.child.id()), sleeps(guardian));
    // The guardian may still be starting, and the first key after an injected one makes the server
    // tell of another keyboard in use; a wake-up for each key would show in every round.
    let quiet_round = (0..10).find(|_| {
        let before = count();
        for _ in 0..50 {
            person.tap("b");
            person.move_pointer(3, 1);
        }
        target.expect(100);
        before == count()
    });
    assert!(quiet_round.is_some(), "every round of 50 keys woke something");
    running.stop();
}

#[test]
fn x11_a_kill_at_any_moment_leaves_no_key_down() {
    let (display, mut person, target) = bare();
    let rules = "when key f9 { repeat { hold ctrl+a { press left-button; type \"xY\"; release left-button } } }\n";
    for round in 0..25 {
        let mut running = Running::start(&display, rules);
        person.tap("f9");
        target.expect(20 + round * 7);
        running.signal(Signal::KILL);
        running.wait_end();
        wait_until(&format!("all to be up in round {round}"), || {
            target.take_all();
            person.keys_down().is_empty() && !person.buttons_down()
        });
    }
}

#[test]
fn x11_more_than_300_combinations_at_once_are_warned_of() {
    let display = Display::start("us");
    let modifiers = ["ctrl", "alt", "shift", "super", "ctrl+alt", "ctrl+shift", "ctrl+super"];
    let more = ["alt+shift", "alt+super", "shift+super", "ctrl+alt+shift", "ctrl+alt+super"];
    let rules: String = modifiers
        .iter()
        .chain(&more)
        .map(|held| format!("when key {held}+[f1..f24] or key {held}+[1..3] => tap a\n"))
        .collect();
    let mut running = Running::start_unready(&display, &rules);
    running.wait_for("325 combinations are taken at once");
    running.wait_for("in app");
    running.wait_for("active on");
    running.stop();
}

#[test]
fn x11_a_display_without_what_is_needed_is_named() {
    let display = Display::start_with("us", &["-extension", "XTEST"]);
    let mut running = Running::start_unready(&display, "when key f9 => tap a\n");
    running.wait_for("has no XTEST extension");
    running.wait_for("help");
    assert_eq!(running.wait_end().code(), Some(2));
}

#[test]
fn x11_rules_for_programs_are_warned_of_where_nobody_tells_the_program() {
    let display = Display::start("us");
    let rules = "when key f9 in app \"corelog\" => tap a\n";
    let mut running = Running::start_unready(&display, rules);
    running.wait_for("no window manager tells");
    running.wait_for("active on");
    running.stop();
}
