//! Commands that look at the desktop: `windows`, `capture`, `doctor`, `keys --take`.

use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Command, Stdio};

use lantern_stage::{Display, Person, Stage, Terminal};

use crate::home::Home;
use crate::running::lantern;

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

fn data(bytes: &[u8]) -> serde_json::Value {
    serde_json::from_slice(bytes).expect("it is JSON")
}

#[test]
fn x11_windows_are_listed_with_the_clause_that_means_each() {
    let mut stage = Stage::set("us");
    let shown = text(&lantern(&stage.display, &["windows"]).stdout);
    assert!(shown.contains("in app \"corelog\"  "), "{shown}");
    std::fs::remove_file(stage.display.folder().join("received")).expect("it is there");
    let _second = Terminal::open(&mut stage.display);
    let found = data(&lantern(&stage.display, &["windows", "--json"]).stdout);
    let windows = found["windows"].as_array().expect("it is a list");
    assert_eq!((found["version"].as_u64(), windows.len()), (Some(1), 2));
    // Two windows of one program differ by their titles, and the clause is one that `check`
    // accepts.
    let rule = windows[0]["rule"].as_str().expect("it is text");
    assert!(rule.starts_with("in app \"corelog\" in title \""), "{rule}");
    let home = Home::new();
    home.write("bench.lantern", format!("when key f9 {rule} => type \"x\"\n"));
    assert_eq!(home.call(&["check", "bench.lantern"]).status, 0);
}

#[test]
fn windows_needs_a_display() {
    let home = Home::new();
    let called = home.call(&["windows"]);
    assert_eq!(called.status, 2);
    assert!(called.stderr.contains("DISPLAY is not set"), "{}", called.stderr);
}

/// What `capture` prints for a combination.
fn captured(
    display: &Display,
    person: &mut Person,
    words: &[&str],
    press: impl FnOnce(&mut Person),
) -> String {
    let mut command = display.command(env!("CARGO_BIN_EXE_lantern"));
    command.arg("capture").args(words).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = command.spawn().expect("the program starts");
    let mut said = BufReader::new(child.stderr.take().expect("it is a pipe"));
    let mut line = String::new();
    said.read_line(&mut line).expect("it asks");
    assert!(line.contains("press a key"), "{line}");
    press(person);
    let output = child.wait_with_output().expect("it ends");
    assert!(output.status.success());
    text(&output.stdout)
}

#[test]
fn x11_a_combination_is_captured_with_its_names_and_its_owner() {
    let (display, mut person, target) = crate::desktop::bare();
    let rules = display.folder().join("bench.lantern");
    std::fs::write(&rules, "when key f9+ctrl named stamp => type \"x\"\n").expect("written");
    let file = rules.display().to_string();
    let shown = captured(&display, &mut person, &[&file], |person| {
        person.press("left-ctrl");
        person.tap("f9");
        person.release("left-ctrl");
    });
    assert!(shown.starts_with("ctrl+f9\n  in a rule  when key ctrl+f9 => "), "{shown}");
    for part in ["W3C F9", "keysym 0xffc6", "kernel 67", "X 75", "Xvfb keyboard", "stamp", "nobody"]
    {
        assert!(shown.contains(part), "{part}: {shown}");
    }
    let pad = captured(&display, &mut person, &["--json"], |person| person.tap("pad-5"));
    assert_eq!(data(pad.as_bytes())["combo"], "pad-5");
    let letter = captured(&display, &mut person, &["--json"], |person| {
        person.press("left-shift");
        person.tap("q");
        person.release("left-shift");
    });
    assert_eq!(
        (&data(letter.as_bytes())["combo"], &data(letter.as_bytes())["types"]),
        (&"shift+q".into(), &"Q".into())
    );
    let alone = captured(&display, &mut person, &["--json"], |person| person.tap("alt-gr"));
    assert_eq!(data(alone.as_bytes())["combo"], "alt-gr");
    let button = captured(&display, &mut person, &["--json"], |person| {
        person.press("middle-button");
        person.release("middle-button");
    });
    assert_eq!(data(button.as_bytes())["combo"], "middle-button");
    person.wait_for_server();
    let mut got = target.take_all();
    got.retain(|got| got.down);
    assert!(got.is_empty(), "nothing of it reached the program: {got:?}");
}

#[test]
fn x11_a_key_that_another_program_holds_is_said_to_be_taken() {
    let (display, mut person, _target) = crate::desktop::bare();
    let running = crate::running::Running::start(&display, "when key f9 => type \"x\"\n");
    let shown = captured(&display, &mut person, &[], |person| person.tap("f9"));
    assert!(shown.contains("taken by   lantern at work, or another program"), "{shown}");
    running.stop();
}

/// Has a desktop's settings give super+e to something, as the real settings program keeps them: a folder
/// for GSETTINGS_SCHEMA_DIR.
fn write_settings(folder: &Path) {
    let schema = "<schemalist><schema id=\"org.icestore.keys\" path=\"/org/icestore/keys/\">\
                  <key name=\"open-racks\" type=\"as\"><default>['&lt;Super&gt;e', '&lt;Super&gt;r']\
                  </default></key></schema></schemalist>";
    std::fs::write(folder.join("icestore.gschema.xml"), schema).expect("it can be written");
    let compiler = "/usr/lib/x86_64-linux-gnu/glib-2.0/glib-compile-schemas";
    let made = Command::new(compiler).arg(folder).status().expect("libglib2.0-bin is installed");
    assert!(made.success());
}

#[test]
fn a_key_that_a_setting_owns_is_freed_and_can_be_given_back() {
    let home = Home::new();
    write_settings(home.path());
    let run = |program: &str, words: &[&str]| {
        let mut command = home.command();
        if program != "lantern" {
            command = Command::new("sh");
            command.args(["-c", program]).env("HOME", home.path());
        }
        command
            .env("GSETTINGS_SCHEMA_DIR", home.path())
            .env("GSETTINGS_BACKEND", "keyfile")
            .env("XDG_CONFIG_HOME", home.path().join("config"));
        let output = command.args(words).output().expect("it starts");
        (text(&output.stdout), output.status.code())
    };
    let (shown, status) = run("lantern", &["keys", "--take", "super+e"]);
    assert_eq!(status, Some(0), "{shown}");
    assert!(
        shown.contains("super+e belongs to the desktop's setting org.icestore.keys open-racks")
    );
    let now = || run("gsettings get org.icestore.keys open-racks", &[]).0;
    assert_eq!(now().trim(), "['<Super>r']");
    let back = shown.lines().find_map(|line| line.trim().strip_prefix("give it back: "));
    run(back.expect("it says how"), &[]);
    assert_eq!(now().trim(), "['<Super>e', '<Super>r']");
    let (_, status) = run("lantern", &["keys", "--take", "super+f12"]);
    assert_eq!(status, Some(1));
    let (_, status) = run("lantern", &["keys", "--take", "ice+f12"]);
    assert_eq!(status, Some(2));
}

#[test]
fn x11_who_has_a_key_by_the_desktops_settings_is_named_at_start_and_at_reload() {
    let mut display = Display::start("us");
    write_settings(display.folder());
    let folder = display.folder().display().to_string();
    display.set_variable("GSETTINGS_SCHEMA_DIR", &folder);
    let desktop = display.connect();
    // e and r, as the desktop takes them.
    for code in [26, 27] {
        crate::faults::take_key(&desktop, code);
    }
    let mut running =
        crate::running::Running::start_unready(&display, "when key super+e => type \"core\"\n");
    let mut named = |key: &str, left: &str| {
        running.wait_for(&format!("taken by another program: super+{key}"));
        let whose =
            format!("super+{key} belongs to the desktop's setting org.icestore.keys open-racks");
        running.wait_for(&whose);
        let set = "gsettings set org.icestore.keys open-racks";
        running.wait_for(&format!("help: free it: {set} \"['<Super>{left}']\""));
        running.wait_for(&format!("give it back: {set} \"['<Super>e', '<Super>r']\""));
    };
    named("e", "r");
    let file = display.folder().join("bench.lantern");
    std::fs::write(&file, "when key super+r => type \"core\"\n").expect("it is ours");
    named("r", "e");
    running.stop();
}

#[test]
fn x11_the_doctor_names_what_works_and_what_mends_the_rest() {
    let mut stage = Stage::set("us");
    let bare = lantern(&stage.display, &["doctor"]);
    let shown = text(&bare.stdout);
    assert_eq!(bare.status.code(), Some(1));
    for part in [
        "works    window manager  Openbox",
        "works    keyboards       Xvfb keyboard",
        "missing  sound           no sound server answers",
        "What you can do\n",
        "What an administrator can do\n",
        "sound, microphone: install and start a sound server",
        "missing  notices         there is no session bus",
        "`lantern new` writes an example",
    ] {
        assert!(shown.contains(part), "{part}: {shown}");
    }
    stage.display.start_bus();
    stage.display.start_notices();
    stage.display.start_accessibility();
    stage.display.start_sound();
    stage.person.set_sticky_keys(true);
    let whole = lantern(&stage.display, &["doctor", "--json"]);
    assert_eq!(whole.status.code(), Some(0), "{}", text(&whole.stdout));
    let checks = data(&whole.stdout);
    let found = |part: &str| {
        let all = checks["checks"].as_array().expect("it is a list");
        let check = all.iter().find(|check| check["part"] == part).expect("it is checked");
        check["found"].as_str().expect("it is text").to_owned()
    };
    assert!(found("notices").starts_with("dunst"));
    assert_eq!(found("sound"), "Null Output");
    assert_eq!(found("typing helps"), "sticky keys on");
}

#[test]
fn the_doctor_works_without_a_display() {
    let home = Home::new();
    let called = home.call(&["doctor"]);
    assert_eq!(called.status, 1);
    assert!(called.stdout.contains("missing  back end        no display is named"));
}
