//! What a set can do, listed before it runs.

use lantern_script::{Source, check, powers};

/// The powers of the second of two files, in words; the first uses it.
fn powers_of_used(used: &str) -> Vec<String> {
    powers_within("use \"rack.lantern\" as rack\n", used)
}

fn powers_within(main: &str, used: &str) -> Vec<String> {
    let mut source = Source::new("bench.lantern", main);
    source.add("rack.lantern", used);
    let checked = check(&source);
    let rules = checked.rules.unwrap_or_else(|| panic!("{:?}", checked.findings));
    let found = powers(&rules).into_iter().filter(|power| power.place.file == 1);
    found.map(|power| format!("{} {}", power.kind.words(), power.what).trim().to_owned()).collect()
}

#[test]
fn a_trigger_on_what_is_typed_sees_it_passing_or_not() {
    for trigger in [
        "key [a..z] as k passing",
        "key a",
        "key shift+a",
        "key 'ß' passing",
        "key <KeyQ> in app \"log\"",
        "key pad-7 passing",
        "key a+b",
        "keys f9, a within 1s",
    ] {
        let found = powers_of_used(&format!("when {trigger} => wait 1ms\n"));
        assert_eq!(found, ["sees what is typed"], "{trigger}");
    }
}

#[test]
fn a_hotkey_that_is_taken_sees_nothing_else_and_one_that_passes_sees_keys() {
    for trigger in
        ["key ctrl+a", "key f9", "key super+f1 released", "key escape", "key left-button"]
    {
        assert_eq!(powers_of_used(&format!("when {trigger} => wait 1ms\n")), [""; 0], "{trigger}");
    }
    for trigger in ["key ctrl+a passing", "key enter passing", "key left-button passing"] {
        let found = powers_of_used(&format!("when {trigger} => wait 1ms\n"));
        assert_eq!(found, ["sees which keys are down"], "{trigger}");
    }
}

#[test]
fn other_triggers_and_questions_about_the_world_are_listed() {
    for (text, power) in [
        ("when key f9 in app \"x\" passing => wait 1ms\n", "sees which keys are down"),
        ("when voice \"next core section\" => wait 1ms\n", "opens the microphone"),
        ("when gesture check-mark while holding f8 => wait 1ms\n", "sees where the pointer goes"),
        ("when window focused => wait 1ms\n", "sees which windows are in front and their titles"),
        ("when key f9 if is-down(shift) => wait 1ms\n", "sees which keys are down"),
        (
            "when key f9 => log \"{window.title}\"\n",
            "sees which windows are in front and their titles",
        ),
        ("when key f9 => log \"{pointer.x}\"\n", "sees where the pointer goes"),
        ("when key f9 => listen freely\n", "opens the microphone"),
        ("remap caps-lock to ctrl\n", "remaps caps-lock to ctrl"),
    ] {
        assert_eq!(powers_of_used(text), [power], "{text}");
    }
    // An abbreviation is taken back with the backspace key.
    let typed = powers_of_used("when typed \"sct\" => wait 1ms\n");
    assert_eq!(typed, ["presses keys, clicks and types in any program", "sees what is typed"]);
    for quiet in ["when every 1s => wait 1ms\n", "when started => hint \"x\"\n"] {
        assert_eq!(powers_of_used(quiet), [""; 0], "{quiet}");
    }
}

#[test]
fn input_is_listed_with_the_program_that_it_goes_to() {
    let input = "presses keys, clicks and types in";
    for (steps, program) in [
        ("tap a", "any program"),
        ("type \"ls\\n\"", "any program"),
        ("paste \"ls\"", "any program"),
        ("click left", "any program"),
        ("move to 1, 1", "any program"),
        ("hold ctrl { wait 1s }", "any program"),
        ("repeat 2 times { tap a }", "any program"),
    ] {
        let found = powers_of_used(&format!("when key f9 {{ {steps} }}\n"));
        assert_eq!(found, [format!("{input} {program}")], "{steps}");
    }
    let scoped = powers_of_used("in app \"editor\" { when key f9 => tap a }\n");
    assert_eq!(scoped, [format!("{input} editor")]);
    let within = powers_of_used(
        "when key f9 { with app \"xterm\" { repeat 2 times { type \"ls\\n\" } }; tap b }\n",
    );
    let in_both = [
        format!("{input} any program"),
        format!("{input} xterm"),
        "brings to the front or closes xterm".to_owned(),
    ];
    assert_eq!(within, in_both);
}

#[test]
fn steps_that_reach_beyond_the_rules_are_listed() {
    for (steps, power) in [
        ("launch \"saw\"", "starts saw"),
        ("run \"saw\", \"-x\"", "starts saw -x"),
        ("shell `date`", "gives the shell date"),
        ("open \"a.desktop\"", "opens, by whatever program is set for it, a.desktop"),
        ("focus app \"log\"", "brings to the front or closes log"),
        ("close app \"log\"", "brings to the front or closes log"),
        ("choose \"File\", \"Quit\"", "presses buttons and menus of programs"),
        ("tally", "presses buttons and menus of programs"),
        ("play \"ding.wav\"", "plays ding.wav"),
        ("let answer = ask \"Password?\"; log answer", "asks you questions"),
        ("let sure = confirm \"Go?\"; log \"{sure}\"", "asks you questions"),
        ("let copied = read clipboard; log copied", "reads the clipboard"),
    ] {
        assert_eq!(powers_of_used(&format!("when key f9 {{ {steps} }}\n")), [power], "{steps}");
    }
    for quiet in ["notify \"x\"", "say \"x\"", "volume up 5%", "log \"x\"", "stop all"] {
        assert_eq!(powers_of_used(&format!("when key f9 {{ {quiet} }}\n")), [""; 0], "{quiet}");
    }
}

#[test]
fn values_that_no_step_changes_are_shown_in_a_power() {
    let used = "let cmd = \"true\"\nlet name = \"core {cmd}\"\nwhen key f9 => run (name)\n";
    assert_eq!(powers_of_used(used), ["starts core true"]);
    let main = "use \"rack.lantern\" as rack with cmd = \"sync\"\n";
    assert_eq!(powers_within(main, used), ["starts core sync"]);
    let changed = "let cmd = \"true\"\nwhen key f9 { run (cmd); set cmd = \"sync\" }\n";
    assert_eq!(powers_of_used(changed), ["starts …"]);
}

#[test]
fn a_device_of_another_file_is_listed_with_its_use() {
    let main = "use \"rack.lantern\"\ndevice fans = web \"http://127.0.0.1:4710\"\n";
    for used in [
        "when key f9 => post fans \"/on\" body \"1\"\n",
        "when key f9 { let speed = get fans \"/fan\"; log speed }\n",
    ] {
        assert_eq!(powers_within(main, used), ["uses the device fans"], "{used}");
    }
}
