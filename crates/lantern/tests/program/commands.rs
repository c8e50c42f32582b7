//! Each command on the shipped example: what it prints, where, and its exit status.

use insta::assert_snapshot;

use crate::home::Home;

#[test]
fn demo_plays_the_shipped_example_with_no_display() {
    assert_snapshot!(Home::new().shown(&["demo"]));
}

#[test]
fn demo_gives_the_same_as_data() {
    let called = Home::new().call(&["demo", "--json"]);
    let data: serde_json::Value = serde_json::from_str(&called.stdout).expect("it is JSON");
    let rows = data["rows"].as_array().expect("it has rows");
    assert_eq!(rows[0]["came_in"], "key f9");
    assert_eq!(rows[0]["went_out"], "starts corelog");
    assert!(rows.len() > 15);
}

#[test]
fn keys_are_listed_by_kind_range_and_exception() {
    let home = Home::new();
    assert_snapshot!(home.shown(&["keys", "c..f", "pad-plus", "f24", "--except", "d"]));
    let line = |words: &[&str]| home.call(&[&["keys"], words].concat()).stdout;
    assert_eq!(line(&["3..8", "--separator", " "]), "3 4 5 6 7 8\n");
    assert_eq!(line(&["F5..F10", "--except", "f7,f8", "--separator", ", "]), "f5, f6, f9, f10\n");
    assert_eq!(
        line(&["KeyQ", "mouse", "--except", "middle-button", "--separator", "|"]),
        "q|left-button|right-button|back-button|forward-button\n"
    );
    assert_eq!(line(&["a..c", "--separator", "\\n"]), "a\nb\nc\n");
    for kind in
        ["letters", "digits", "punctuation", "pad", "function", "mouse", "modifiers", "media"]
    {
        assert!(!line(&[kind, "--separator", " "]).trim().is_empty(), "{kind}");
    }
}

#[test]
fn keys_are_the_same_as_data() {
    let called = Home::new().call(&["keys", "pad-plus", "wheel-up", "--json"]);
    let data: serde_json::Value = serde_json::from_str(&called.stdout).expect("it is JSON");
    let plus = &data["keys"][0];
    assert_eq!(plus["code"], "NumpadAdd");
    assert_eq!((plus["keysym"].as_u64(), plus["kernel"].as_u64()), (Some(0xffab), Some(78)));
    assert_eq!(data["keys"][1]["button"], 4);
}

#[test]
fn keys_that_are_none_are_said_with_the_nearest() {
    let home = Home::new();
    assert_snapshot!(home.shown(&["keys", "pad-pls"]));
    assert_snapshot!(home.shown(&["keys", "a..3"]));
    let nothing = home.call(&["keys", "a", "--except", "letters"]);
    assert_eq!(nothing.status, 1, "nothing matched");
}

#[test]
fn check_says_all_at_once_as_text_and_as_data() {
    let home = Home::new();
    home.write(
        "bench.lantern",
        "let spare = 1\nwhen key f25 => type \"core\"\nwhen key f9 => typ \"core\"\nwhen key f9 => tap a\n",
    );
    assert_snapshot!(home.shown(&["check", "bench.lantern"]));
    assert_snapshot!(home.shown(&["check", "bench.lantern", "--json"]));
}

#[test]
fn check_writes_the_fixes_that_are_certain() {
    let home = Home::new();
    let file = home.write(
        "bench.lantern",
        "when key esc -> tap return\nwhen key f1 {\n    sleep 1s\n    print \"core\"\n}\n",
    );
    home.write("drawers.lantern", "when key win+e { launch xterm }\n");
    assert_snapshot!(home.shown(&["check", "drawers.lantern"]));
    assert_snapshot!(home.shown(&[
        "check",
        "--fix",
        "bench.lantern",
        "missing.lantern",
        "drawers.lantern"
    ]));
    let text = std::fs::read_to_string(file).expect("it is there");
    assert!(
        text.starts_with("when key escape => tap enter\nwhen key f1 {\n    wait 1s\n"),
        "{text}"
    );
    let again = home.call(&["check", "--fix", "bench.lantern", "--json"]).stdout;
    let again: serde_json::Value = serde_json::from_str(&again).expect("it is JSON");
    assert_eq!(again["fixed"], serde_json::Value::Null, "nothing is left to fix");
}

#[test]
fn check_names_the_programs_that_are_not_installed() {
    use std::os::unix::fs::PermissionsExt;
    let home = Home::new();
    let scanner = home.write("bin/scanner", "#!/bin/sh\n");
    std::fs::set_permissions(scanner, PermissionsExt::from_mode(0o755)).expect("it is ours");
    home.write(
        "bench.lantern",
        "let name = \"core\"\nwhen key f9 in app \"Scanner\" => launch \"scanner --cold\"\n\
         when key f8 in app \"scaner\" => launch \"sccanner\"\n\
         when key f7 { set name = \"log\"; run name, \"x\" }\n",
    );
    let mut command = home.command();
    command.env("PATH", home.path().join("bin")).args(["check", "bench.lantern", "--json"]);
    let output = command.output().expect("the program starts");
    assert!(output.status.success(), "a note is no finding");
    let report: serde_json::Value = serde_json::from_slice(&output.stdout).expect("it is JSON");
    let told: Vec<(&str, u64, &str)> = report["not_installed"]
        .as_array()
        .expect("it is a list")
        .iter()
        .map(|missing| {
            let text = |part: &str| missing[part].as_str().unwrap_or_default();
            (text("name"), missing["line"].as_u64().unwrap_or_default(), text("nearest"))
        })
        .collect();
    assert_eq!(told, [("scaner", 3, "scanner"), ("sccanner", 3, "scanner")]);
}

#[test]
fn check_of_a_good_file_is_one_line() {
    assert_snapshot!(Home::with_example().shown(&["check", "bench.lantern"]));
}

#[test]
fn the_persons_own_file_is_taken_when_none_is_named() {
    let home = Home::new();
    assert_snapshot!(home.shown(&["check"]).replace(&home.path().display().to_string(), "~"));
    home.write(".config/cold-lantern/main.lantern", "when key f9 => tap a\n");
    assert!(home.call(&["check"]).stdout.contains("1 rule, no problems"));
}

#[test]
fn explain_tells_of_one_finding_or_lists_all() {
    let home = Home::new();
    assert_snapshot!(home.shown(&["explain", "taken-twice"]));
    assert_snapshot!(home.shown(&["explain", "taken-twic"]));
    let all = home.call(&["explain"]).stdout;
    assert_eq!(all.lines().count(), lantern_script::codes::CODES.len());
    let data = home.call(&["explain", "unused", "--json"]).stdout;
    let data: serde_json::Value = serde_json::from_str(&data).expect("it is JSON");
    assert_eq!(data[0]["severity"], "warning");
}

#[test]
fn new_writes_files_that_work_and_overwrites_none() {
    let home = Home::new();
    assert_snapshot!(home.shown(&["new", "my-desk"]));
    assert_eq!(home.call(&["rehearse", "my-desk/bench.lantern", "my-desk/night.scene"]).status, 0);
    home.write("my-desk/bench.lantern", "when key f9 => tap a\n");
    assert_snapshot!(home.shown(&["new", "my-desk"]));
    assert_eq!(home.call(&["check", "my-desk/bench.lantern"]).stdout.lines().count(), 1);
}

#[test]
fn every_command_has_help_with_an_example() {
    let home = Home::new();
    let overview = home.call(&["--help"]).stdout;
    for command in ["demo", "new", "keys", "check", "explain", "rehearse", "run"] {
        assert!(overview.contains(&format!("  {command} ")), "{command}");
        let help = home.call(&[command, "--help"]).stdout;
        assert!(
            help.contains("Example") && help.contains(&format!("  lantern {command}")),
            "{help}"
        );
    }
}

#[test]
fn a_reader_that_goes_away_is_no_fault() {
    let home = Home::new();
    let mut child = home
        .command()
        .arg("keys")
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .expect("the program starts");
    drop(child.stdout.take());
    let output = child.wait_with_output().expect("it ends");
    let words = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success() && !words.contains("panicked"), "{words}");
}
