//! On a real X server: a key on the server's own keyboard goes down, a program receives.

use std::time::Duration;

use lantern_stage::{Display, Person, Stage, Target};
use x11rb::protocol::xproto::{ConnectionExt as _, GrabMode, ModMask};

use crate::running::Running;

/// Long enough that what was on its way has come.
const QUIET: Duration = Duration::from_millis(150);
/// The X keycode of `a`.
const A: u8 = 38;

#[test]
fn x11_a_hotkey_types_exactly_its_text_into_the_terminal() {
    let mut stage = Stage::set("us");
    let running = Running::start(
        &stage.display,
        "when key f9 => type \"Section 12, {{x}} [ok]\"\n",
    );
    stage.person.tap("f9");
    assert_eq!(stage.terminal.read(20), "Section 12, {x} [ok]");
    assert_eq!(stage.terminal.read_rest(QUIET), "");
    running.stop();
}

/// Every sign of ASCII, signs of the layouts, and some that none of them has.
const HARD_TEXT: &str = "azqwAZ 09 !\"#$%&'()*+,-./:;<=>?@[\\]^_`{|}~ éüß€ °−Жλ";

fn types_the_hard_text_under(layout: &str) {
    let mut stage = Stage::set(layout);
    let text = HARD_TEXT.replace('`', "");
    let rules = format!("when key ctrl+shift+f9 {{ type `{text}`; type \"`\" }}\n");
    let expected = format!("{text}`");
    for (caps, num) in [(false, false), (true, true)] {
        stage.person.set_locks(caps, num);
        let running = Running::start(&stage.display, &rules);
        stage.person.press("left-ctrl");
        stage.person.press("right-shift");
        stage.person.tap("f9");
        assert_eq!(
            stage.terminal.read(expected.len()),
            expected,
            "{layout}, caps {caps}"
        );
        assert_eq!(stage.terminal.read_rest(QUIET), "");
        let down = stage.person.keys_down();
        assert_eq!(
            down.into_iter().collect::<Vec<_>>(),
            [37, 62],
            "the modifiers are still down"
        );
        stage.person.release("right-shift");
        stage.person.release("left-ctrl");
        assert!(stage.person.keys_down().is_empty());
        running.stop();
    }
}

#[test]
fn x11_text_arrives_whatever_is_held_and_locked_under_us() {
    types_the_hard_text_under("us");
}

#[test]
fn x11_text_arrives_whatever_is_held_and_locked_under_de() {
    types_the_hard_text_under("de");
}

#[test]
fn x11_text_arrives_whatever_is_held_and_locked_under_fr() {
    types_the_hard_text_under("fr");
}

#[test]
fn x11_text_arrives_whatever_is_held_and_locked_under_us_intl() {
    types_the_hard_text_under("us -variant intl");
}

#[test]
fn x11_the_layout_may_change_while_running() {
    let mut stage = Stage::set("us");
    let mut running = Running::start(&stage.display, "when key q => type \"yz#\"\n");
    stage.person.tap("q");
    assert_eq!(stage.terminal.read(3), "yz#");
    // On a French board the key that gives q is where a US board has a.
    stage.display.set_layout("fr");
    running.wait_for("another layout");
    stage.person.tap("a");
    assert_eq!(stage.terminal.read(3), "yz#");
    stage.person.tap("q");
    assert_eq!(stage.terminal.read(1), "a");
    running.stop();
}

#[test]
fn x11_the_number_pad_is_not_the_main_row() {
    let mut stage = Stage::set("us");
    let rules =
        "when key pad-1 => type \"P\"\nwhen key f20 => type \"T\"\nwhen key 1 => type \"M\"\n";
    for num in [false, true] {
        stage.person.set_locks(false, num);
        let running = Running::start(&stage.display, rules);
        for (key, text) in [("pad-1", "P"), ("f20", "T"), ("1", "M"), ("2", "2")] {
            stage.person.tap(key);
            assert_eq!(stage.terminal.read(1), text, "num lock {num}");
        }
        running.stop();
    }
}

#[test]
fn x11_locks_may_change_while_running() {
    let display = Display::start("us");
    let mut person = Person::sit_down(&display);
    let target = Target::open(&display);
    let running = Running::start(&display, "when key f9 => tap a\n");
    for (caps, num) in [(true, false), (true, true), (false, true), (false, false)] {
        person.set_locks(caps, num);
        // The keys are taken anew under the new locks; a press that is faster reaches the window.
        let fired = (0..200).any(|_| {
            person.tap("f9");
            let got = target.expect(2);
            target.rest(Duration::from_millis(5));
            got.iter().all(|got| got.detail == A)
        });
        assert!(fired, "caps {caps}, num {num}");
    }
    running.stop();
}

#[test]
fn x11_neither_press_nor_release_nor_repeat_of_the_trigger_reaches_the_program() {
    let display = Display::start("us");
    let mut person = Person::sit_down(&display);
    let target = Target::open(&display);
    let running = Running::start(&display, "when key f9 => tap a\n");
    person.press("f9");
    let got = target.expect(2);
    assert!(
        got.iter().all(|got| got.detail == A && got.state == 0),
        "{got:?}"
    );
    // Longer than the delay after which the server repeats a held key.
    assert_eq!(target.rest(Duration::from_millis(900)), []);
    person.release("f9");
    assert_eq!(target.rest(QUIET), []);
    assert!(person.keys_down().is_empty());
    running.stop();
}

#[test]
fn x11_what_is_typed_fires_no_rule() {
    let mut stage = Stage::set("us");
    let rules = "when key f9 => type \"abc\"\nwhen key b => type \"NO\"\nwhen key f8 => tap f7\nwhen key f7 => type \"NO\"\n";
    let running = Running::start(&stage.display, rules);
    stage.person.tap("f9");
    assert_eq!(stage.terminal.read(3), "abc");
    stage.person.tap("f8");
    let rest = stage.terminal.read_rest(QUIET);
    assert!(
        !rest.contains("NO") && rest.contains('\u{1b}'),
        "the terminal got f7: {rest:?}"
    );
    stage.person.tap("b");
    assert_eq!(stage.terminal.read(2), "NO");
    running.stop();
}

#[test]
fn x11_a_rule_waits_for_its_program_and_a_condition_gives_the_key_back() {
    let mut stage = Stage::set("us");
    let rules = "let lamp = false\n\
                 when key f9 in app \"corelog\" => type \"IN\"\n\
                 when key f8 in app \"drill\" => type \"NO\"\n\
                 when key x if lamp => type \"ON\"\n\
                 when key f5 => set lamp = true\n";
    let running = Running::start(&stage.display, rules);
    stage.person.tap("f9");
    assert_eq!(stage.terminal.read(2), "IN");
    stage.person.tap("f8");
    assert!(!stage.terminal.read_rest(QUIET).contains("NO"));
    stage.person.tap("x");
    assert_eq!(
        stage.terminal.read(1),
        "x",
        "the program gets the key that no rule wants"
    );
    stage.person.tap("f5");
    stage.person.tap("x");
    assert_eq!(stage.terminal.read(2), "ON");
    assert!(stage.person.keys_down().is_empty());
    running.stop();
}

#[test]
fn x11_a_key_that_passes_does_both_and_a_release_is_told_from_a_press() {
    let mut stage = Stage::set("us");
    let rules = "when key x passing => type \"P\"\nwhen key f9 released => type \"R\"\n";
    let running = Running::start(&stage.display, rules);
    stage.person.tap("x");
    let got = stage.terminal.read(2);
    assert!(got == "xP" || got == "Px", "{got}");
    stage.person.press("f9");
    assert_eq!(stage.terminal.read_rest(QUIET), "");
    stage.person.release("f9");
    assert_eq!(stage.terminal.read(1), "R");
    running.stop();
}

#[test]
fn x11_the_pointer_is_nudged_pixel_by_pixel_as_long_as_the_key_is_down() {
    let display = Display::start("us");
    let mut person = Person::sit_down(&display);
    let target = Target::open(&display);
    let rules = "when key right repeating { move by 1, 0; tap a }\n\
                 when key f9 { move to 200, 100; tap a }\n";
    let running = Running::start(&display, rules);
    person.tap("f9");
    target.expect(2);
    assert_eq!(person.pointer(), (200, 100));
    person.press("right");
    target.expect(8);
    person.release("right");
    let more = target.rest(QUIET).len() / 2;
    let (x, y) = person.pointer();
    assert_eq!(
        (x, y),
        (204 + more as i16, 100),
        "one pixel for each time it fired"
    );
    running.stop();
}

#[test]
fn x11_a_click_loop_stops_at_its_key_and_at_the_panic_key() {
    let display = Display::start("us");
    let mut person = Person::sit_down(&display);
    let target = Target::open(&display);
    let rules = "when key f6 again stops { repeat { click left } }\n\
                 when key f7 { repeat every 1ms { click left } }\n";
    let mut running = Running::start(&display, rules);
    for (start, stop) in [("f6", "f6"), ("f7", "ctrl+alt+shift+escape")] {
        person.tap(start);
        target.expect(200);
        person.tap(stop);
        running.wait_for(if start == stop { "stopped" } else { "panic" });
        target.rest(QUIET);
        assert_eq!(target.rest(QUIET), [], "nothing more comes after {stop}");
        assert!(!person.buttons_down() && person.keys_down().is_empty());
    }
    running.stop();
}

#[test]
fn x11_while_held_ends_with_the_key_and_lets_go() {
    let display = Display::start("us");
    let mut person = Person::sit_down(&display);
    let target = Target::open(&display);
    let running = Running::start(&display, "when key f7 while held { hold a { wait } }\n");
    person.press("f7");
    assert!(target.expect(1)[0].down);
    person.release("f7");
    let got = target.rest(QUIET);
    let last = got.last().expect("the key is let go");
    assert!(last.detail == A && !last.down);
    assert!(person.keys_down().is_empty());
    running.stop();
}

/// Rules that hold a key, a modifier and a button.
const HOLDING: &str = "when key f9 { hold ctrl+a { press left-button; wait } }\n";

#[test]
fn x11_no_key_stays_down_after_a_signal_or_a_kill() {
    for signal in ["TERM", "INT", "HUP", "KILL"] {
        let display = Display::start("us");
        let mut person = Person::sit_down(&display);
        let target = Target::open(&display);
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
        assert!(
            person.keys_down().is_empty() && !person.buttons_down(),
            "after {signal}"
        );
    }
}

#[test]
fn x11_keys_that_both_processes_left_down_are_let_go_at_the_next_start() {
    let display = Display::start("us");
    let mut person = Person::sit_down(&display);
    let target = Target::open(&display);
    let mut running = Running::start(&display, HOLDING);
    person.tap("f9");
    target.expect(3);
    for pid in [running.guardian(), running.child.id()] {
        let status = std::process::Command::new("kill")
            .args(["-KILL", &pid.to_string()])
            .status();
        assert!(status.expect("kill is there").success());
    }
    running.wait_end();
    assert_eq!(person.keys_down().len(), 2, "with both dead nobody lets go");
    let running = Running::start(&display, HOLDING);
    assert!(person.keys_down().is_empty() && !person.buttons_down());
    running.stop();
}

#[test]
fn x11_a_display_that_goes_away_ends_it_with_a_word() {
    let mut display = Display::start("us");
    let mut person = Person::sit_down(&display);
    let target = Target::open(&display);
    let mut running = Running::start(&display, HOLDING);
    person.tap("f9");
    target.expect(3);
    display.kill();
    running.wait_for("the display went away");
    assert_eq!(running.wait_end().code(), Some(1));
}

#[test]
fn x11_a_key_that_another_program_holds_is_named_and_the_rest_works() {
    let mut stage = Stage::set("us");
    let other = stage.display.connect();
    let root = x11rb::connection::Connection::setup(&other).roots[0].root;
    other
        .grab_key(
            true,
            root,
            ModMask::ANY,
            75,
            GrabMode::ASYNC,
            GrabMode::ASYNC,
        )
        .expect("it listens")
        .check()
        .expect("f9 is free");
    let rules = "## Next section\nwhen key f9 => type \"NO\"\nwhen key f10 => type \"YES\"\n";
    let mut running = Running::start_unready(&stage.display, rules);
    let line = running.wait_for("taken by another program");
    assert!(
        line.contains("Next section") && line.contains("f9"),
        "{line}"
    );
    stage.person.tap("f10");
    assert_eq!(stage.terminal.read(3), "YES");
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
fn x11_saving_the_file_changes_the_rules_and_a_broken_file_changes_nothing() {
    let mut stage = Stage::set("us");
    let mut running = Running::start(&stage.display, "when key f9 => type \"one\"\n");
    std::fs::write(&running.file, "when key f10 => type \"two\"\n").expect("it can be written");
    running.wait_for("read anew");
    stage.person.tap("f10");
    assert_eq!(stage.terminal.read(3), "two");
    std::fs::write(&running.file, "when key f10 => typ \"three\"\n").expect("it can be written");
    running.wait_for("stay in force");
    stage.person.tap("f10");
    assert_eq!(stage.terminal.read(3), "two");
    // As many editors save: a new file in the place of the old.
    let fresh = stage.display.folder().join("fresh");
    std::fs::write(&fresh, "when key f10 => type \"four\"\n").expect("it can be written");
    std::fs::rename(&fresh, &running.file).expect("it can be renamed");
    running.wait_for("read anew");
    stage.person.tap("f10");
    assert_eq!(stage.terminal.read(4), "four");
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
    assert!(
        folder.join("run").exists(),
        "the step after `run` comes after its end"
    );
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
    assert_eq!(stage.terminal.read_rest(QUIET), "");
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
        let line = text
            .lines()
            .find_map(|line| line.strip_prefix("voluntary_ctxt_switches:"));
        line.map_or(0, |count| {
            count.trim().parse::<u64>().expect("it is a number")
        })
    };
    status.map(count).sum()
}

#[test]
fn x11_keys_and_movements_that_no_rule_needs_wake_nothing() {
    let display = Display::start("us");
    let mut person = Person::sit_down(&display);
    let target = Target::open(&display);
    let running = Running::start(
        &display,
        "when key f9 => tap a\nwhen key ctrl+f9 => tap a\n",
    );
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
    assert!(
        quiet_round.is_some(),
        "every round of 50 keys woke something"
    );
    running.stop();
}

#[test]
fn x11_a_kill_at_any_moment_leaves_no_key_down() {
    let display = Display::start("us");
    let mut person = Person::sit_down(&display);
    let target = Target::open(&display);
    let rules = "when key f9 { repeat { hold ctrl+a { press left-button; type \"xY\"; release left-button } } }\n";
    for round in 0..25 {
        let mut running = Running::start(&display, rules);
        person.tap("f9");
        target.expect(20 + round * 7);
        running.signal("KILL");
        running.wait_end();
        let patient = std::time::Instant::now() + Duration::from_secs(10);
        while !person.keys_down().is_empty() || person.buttons_down() {
            target.rest(Duration::from_millis(5));
            let down = person.keys_down();
            assert!(
                std::time::Instant::now() < patient,
                "round {round}: {down:?} stays down"
            );
        }
    }
}

#[test]
fn x11_more_than_300_combinations_at_once_are_warned_of() {
    let display = Display::start("us");
    let modifiers = [
        "ctrl",
        "alt",
        "shift",
        "super",
        "ctrl+alt",
        "ctrl+shift",
        "ctrl+super",
    ];
    let more = [
        "alt+shift",
        "alt+super",
        "shift+super",
        "ctrl+alt+shift",
        "ctrl+alt+super",
    ];
    let rules: String = modifiers
        .iter()
        .chain(&more)
        .map(|held| format!("when key {held}+[f1..f24] or key {held}+[1..3] => tap a\n"))
        .collect();
    let mut running = Running::start_unready(&display, &rules);
    running.wait_for("325 combinations are taken at once");
    running.wait_for("in app");
    running.wait_for("at work");
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
    running.wait_for("at work");
    running.stop();
}
