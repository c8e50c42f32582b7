//! Looking without taking part: `watch --raw` and `record`.

use std::io::{BufRead, BufReader, Read};
use std::os::unix::fs::PermissionsExt;
use std::process::{Child, Stdio};
use std::time::Duration;

use lantern_stage::{Display, Person, pass_time, wait_until};
use rustix::process::Signal;
use serde_json::Value;

use crate::desktop::bare;
use crate::running::{lantern, send};

/// Starts the program, and waits until it says so on standard error.
fn start(display: &Display, words: &[&str]) -> (Child, BufReader<impl Read>) {
    let mut command = display.command(env!("CARGO_BIN_EXE_lantern"));
    command.current_dir(display.folder()).args(words);
    let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn();
    let mut child = child.expect("the program starts");
    let mut talk = BufReader::new(child.stderr.take().expect("it is a pipe"));
    talk.read_line(&mut String::new()).expect("it says that it looks");
    (child, talk)
}

/// Ends it as Ctrl+C does; what it printed, and what it said.
fn end(child: Child, mut talk: BufReader<impl Read>) -> (String, String) {
    send(child.id(), Signal::INT);
    let output = child.wait_with_output().expect("it ends");
    assert!(output.status.success());
    let mut said = String::new();
    talk.read_to_string(&mut said).expect("it is text");
    (String::from_utf8(output.stdout).expect("it is text"), said)
}

/// Some of everything.
fn act(person: &mut Person) {
    person.tap("f9");
    person.type_keys(&["c", "o", "r", "e", "1"]);
    person.tap("ctrl+f10");
    person.move_pointer(300, 200);
    person.tap("middle-button");
    person.press("f6");
    pass_time(Duration::from_millis(450));
    person.release("f6");
}

/// The lines of a scene without their times, and those that last without how long.
fn acts(scene: &str) -> Vec<&str> {
    let lines = scene.lines().filter(|line| line.starts_with("at "));
    let act = |line: &'_ str| line.splitn(3, ' ').nth(2).map(str::len);
    lines
        .filter_map(|line| Some(line[line.len() - act(line)?..].trim_start()))
        .map(|act| act.split_once(" for ").map_or(act, |(act, _)| act))
        .collect()
}

#[test]
fn x11_what_is_done_becomes_a_scene_that_plays() {
    let (display, mut person, target) = bare();
    target.pretend_active("corelog");
    let (child, talk) = start(&display, &["record", "night.scene"]);
    act(&mut person);
    let (_, said) = end(child, talk);
    assert!(said.contains("7 lines"), "{said}");
    let path = display.folder().join("night.scene");
    let scene = std::fs::read_to_string(&path).expect("it was written");
    assert_eq!(
        acts(&scene),
        [
            "window opens app \"corelog\"",
            "key f9",
            "types \"xxxx0\"",
            "key ctrl+f10",
            "moves to 940, 600",
            "key middle-button",
            "holds f6"
        ],
        "{scene}"
    );
    let rules = display.folder().join("bench.lantern");
    std::fs::write(&rules, "when key f9 => type \"section 4\"\n").expect("it can be written");
    let rules = rules.to_str().expect("it is text");
    let played = lantern(&display, &["rehearse", rules, path.to_str().expect("it is text")]);
    assert!(played.status.success(), "{played:?}");
    let mode = std::fs::metadata(&path).expect("it is written").permissions().mode();
    assert_eq!(mode & 0o777, 0o600);
    let again = lantern(&display, &["record", path.to_str().expect("it is text")]);
    assert_eq!(again.status.code(), Some(2), "what is there is not overwritten");
    assert_eq!(std::fs::read_to_string(&path).expect("it is there"), scene);
}

#[test]
fn x11_strokes_are_recorded_and_draw_the_same_shape_again() {
    let (display, mut person, _target) = bare();
    let (child, talk) = start(&display, &["record", "drawn.scene"]);
    person.move_pointer(300, 200);
    person.press("right-button");
    person.draw(&[[(3, 3); 20], [(3, -3); 20]].concat());
    person.release("right-button");
    person.tap("f9");
    end(child, talk);
    let path = display.folder().join("drawn.scene");
    let scene = std::fs::read_to_string(&path).expect("it is there");
    let [drawn, tapped] = acts(&scene)[..] else { panic!("{scene}") };
    assert!(
        drawn.starts_with("draws along \"") && drawn.ends_with("holding right-button"),
        "{drawn}"
    );
    assert_eq!(tapped, "key f9");
    let rules = "when gesture check-mark while holding right-button => log \"seen\"\n";
    std::fs::write(display.folder().join("r.lantern"), rules).expect("it can be written");
    std::fs::write(&path, format!("{scene}at +1s expect logged \"seen\"\n")).expect("it may");
    let rules = display.folder().join("r.lantern");
    let words = ["rehearse", rules.to_str().expect("text"), path.to_str().expect("text")];
    let played = lantern(&display, &words);
    let told = String::from_utf8_lossy(&played.stdout).into_owned();
    assert!(played.status.success(), "{told}");
}

#[test]
fn x11_characters_are_recorded_when_asked_for_and_it_ends_by_itself() {
    let (display, mut person, _target) = bare();
    let words = ["record", "night.scene", "--letters", "--for", "2s"];
    let (mut child, _talk) = start(&display, &words);
    person.type_keys(&["c", "o", "r", "e", "1"]);
    assert!(child.wait().expect("it ends").success());
    let scene = std::fs::read_to_string(display.folder().join("night.scene"));
    let scene = scene.expect("it was written");
    assert!(scene.contains("types \"core1\""), "{scene}");
    assert!(scene.starts_with("# recorded from the desktop\n"), "{scene}");
}

#[test]
fn x11_every_key_is_shown_with_all_its_names() {
    let (display, mut person, _target) = bare();
    let (child, talk) = start(&display, &["watch", "--raw"]);
    act(&mut person);
    let (shown, _) = end(child, talk);
    let line = |words: &[&str]| {
        let has = |line: &&str| words.iter().all(|word| line.contains(word));
        assert!(shown.lines().any(|line| has(&line)), "{words:?}: {shown}");
    };
    line(&["down", "f9", "cap F9", "W3C F9", "keysym 0xffc6", "kernel 67", "X 75"]);
    line(&["down", "types 'c'", "W3C KeyC"]);
    line(&["up", "middle-button"]);
    let (display, mut person, _target) = bare();
    let mut command = display.command(env!("CARGO_BIN_EXE_lantern"));
    command.args(["watch", "--raw", "--json"]).stdout(Stdio::piped());
    let mut child = command.spawn().expect("the program starts");
    let mut lines = BufReader::new(child.stdout.take().expect("it is a pipe")).lines();
    // With data nothing is said before the first key.
    let first = std::thread::scope(|scope| {
        let reader = scope.spawn(|| lines.next());
        wait_until("the first key", || {
            person.tap("f9");
            reader.is_finished()
        });
        reader.join().expect("it reads")
    });
    let line = first.expect("it tells").expect("it is text");
    let data: Value = serde_json::from_str(&line).expect("it is data");
    assert_eq!((&data["key"], &data["kernel"]), (&"f9".into(), &67.into()), "{data}");
    send(child.id(), Signal::TERM);
    assert!(child.wait().expect("it ends").success());
}
