//! The clipboard: what is pasted arrives, and copied content stays after its program has ended.

use std::collections::BTreeMap;
use std::fs::DirEntry;
use std::path::Path;

use lantern_stage::{Display, Editor, Terminal};
use rustix::process::Signal;

use crate::desktop::bare;
use crate::running::{Running, read_arrived};
use crate::windows::desk;

/// Five million letters.
fn large_text() -> Vec<u8> {
    (0..5_000_000u32).map(|at| b'a' + (at * 7 % 25) as u8).collect()
}

#[test]
fn x11_a_text_is_pasted_and_the_clipboard_keeps_what_it_held() {
    let (mut display, mut person) = desk();
    let editor = Editor::open(&mut display, "shift.txt");
    let mut running =
        Running::start(&display, "when key f7 { paste \"Kern 12: −31 °C ❄\"; log \"x\" }\n");
    display.copy("what was there", "UTF8_STRING");
    person.tap("f7");
    running.wait_for(": ended");
    assert_eq!(display.clipboard("UTF8_STRING"), b"what was there");
    assert_eq!(editor.text(&display, &mut person).trim_end(), "Kern 12: −31 °C ❄");
    let large = large_text();
    display.copy(&large, "UTF8_STRING");
    person.tap("f7");
    running.wait_for(": ended");
    assert!(display.clipboard("UTF8_STRING") == large, "the large text is back");
    let picture: Vec<u8> = (0..200_000u32).map(|at| (at * 7 % 251) as u8).collect();
    display.copy(&picture, "image/png");
    person.tap("f7");
    running.wait_for(": ended");
    assert!(display.clipboard("image/png") == picture, "the picture is back");
    running.stop();
}

#[test]
fn x11_all_forms_of_what_was_copied_in_a_program_are_back_after_a_paste() {
    let (mut display, mut person) = desk();
    let editor = Editor::open(&mut display, "shift.txt");
    let mut running = Running::start(
        &display,
        "when key f6 => type \"Kern 12 — Tiefe ü\"\nwhen key f7 { paste \"core 13\"; log \"x\" }\n",
    );
    person.tap("f6");
    running.wait_for(": ended");
    for key in ["a", "c"] {
        person.tap(&format!("left-ctrl+{key}"));
    }
    // What the toolkit tells only to itself is no form for others.
    let about = ["TARGETS", "MULTIPLE", "TIMESTAMP", "SAVE_TARGETS", "GTK_TEXT_BUFFER_CONTENTS"];
    let forms = |display: &Display| -> BTreeMap<String, Vec<u8>> {
        let listed = String::from_utf8(display.clipboard("TARGETS")).expect("they are names");
        let names = listed.lines().filter(|name| !about.contains(name));
        names.map(|name| (name.to_owned(), display.clipboard(name))).collect()
    };
    display.wait_until("the copy", |display| {
        display.clipboard("UTF8_STRING") == "Kern 12 — Tiefe ü".as_bytes()
    });
    let copied = forms(&display);
    assert!(copied.len() >= 5, "it is offered in several: {:?}", copied.keys());
    person.tap("end");
    person.tap("f7");
    running.wait_for(": ended");
    assert_eq!(forms(&display), copied);
    assert_eq!(editor.text(&display, &mut person).trim_end(), "Kern 12 — Tiefe ücore 13");
    running.stop();
}

#[test]
fn x11_what_was_copied_is_there_for_who_asks_for_several_forms_at_once() {
    let (mut display, mut person) = desk();
    let mut running = Running::start(&display, "when key f7 { paste \"core 12\"; log \"x\" }\n");
    let _editor = Editor::open(&mut display, "shift.txt");
    display.copy("what was there", "UTF8_STRING");
    person.tap("f7");
    running.wait_for(": ended");
    let forms = ["UTF8_STRING", "image/png", "TIMESTAMP", "TARGETS"];
    let mut came = display.clipboard_at_once(&forms).into_iter();
    assert_eq!(came.next(), Some(Some(b"what was there".to_vec())));
    assert_eq!(came.next(), Some(None), "no picture was copied");
    let since = came.next().flatten().expect("its timestamp is offered");
    assert!(since.len() == 4 && since != [0; 4], "{since:?}");
    let listed = String::from_utf8(display.clipboard("TARGETS")).expect("they are names");
    assert_eq!(came.next().flatten().map(|atoms| atoms.len() / 4), Some(listed.lines().count()));
    running.stop();
}

#[test]
fn x11_what_the_person_copies_during_a_paste_stays() {
    let (display, mut person, _target) = bare();
    let mut running = Running::start(&display, "when key f7 => paste \"core 12\"\n");
    display.copy("what was there", "UTF8_STRING");
    person.tap("f7");
    // The window in front never asks for the text.
    display.wait_until("the text", |display| display.clipboard("UTF8_STRING") == b"core 12");
    display.copy("copied just now", "UTF8_STRING");
    running.wait_for("something was copied just then, and stays in the clipboard");
    assert_eq!(display.clipboard("UTF8_STRING"), b"copied just now");
    person.tap("f7");
    running.wait_for("did not take the text");
    assert_eq!(display.clipboard("UTF8_STRING"), b"copied just now");
    running.stop();
}

/// Processes that keep the clipboard for that display.
fn keepers(display: &Display) -> usize {
    let home = format!("HOME={}", display.folder().display());
    let read = |path: &Path| std::fs::read(path).unwrap_or_default();
    let holds = |bytes: Vec<u8>, word: &str| {
        bytes.split(|byte| *byte == 0).any(|part| part == word.as_bytes())
    };
    let processes = std::fs::read_dir("/proc").expect("it is there").flatten();
    let is_one = |process: &DirEntry| {
        holds(read(&process.path().join("cmdline")), "--keep")
            && holds(read(&process.path().join("environ")), &home)
    };
    processes.filter(is_one).count()
}

#[test]
fn x11_what_was_copied_is_there_still_when_who_pasted_is_gone() {
    let (mut display, mut person) = desk();
    let editor = Editor::open(&mut display, "shift.txt");
    let large = large_text();
    for (how, copied) in [(Signal::TERM, b"what was there".to_vec()), (Signal::KILL, large)] {
        let mut running =
            Running::start(&display, "when key f7 { paste \"core 12\"; log \"x\" }\n");
        display.copy(&copied, "UTF8_STRING");
        person.tap("f7");
        running.wait_for(": ended");
        running.signal(how);
        running.wait_end();
        display.wait_until("the keeper", |display| keepers(display) == 1);
        display
            .wait_until("what was copied", |display| display.clipboard_is(&copied, "UTF8_STRING"));
        display.copy("copied since", "UTF8_STRING");
        display.wait_until("the keeper's end", |display| keepers(display) == 0);
        assert_eq!(display.clipboard("UTF8_STRING"), b"copied since");
    }
    assert_eq!(editor.text(&display, &mut person).trim_end(), "core 12core 12");
    // A session that pasted nothing leaves no process behind.
    Running::start(&display, "when key f7 => paste \"core 12\"\n").stop();
    assert_eq!(keepers(&display), 0);
}

#[test]
fn x11_what_was_copied_is_back_when_a_paste_is_killed() {
    let (display, mut person, _target) = bare();
    let mut running = Running::start(&display, "when key f7 => paste \"core 12\"\n");
    display.copy("what was there", "UTF8_STRING");
    person.tap("f7");
    // The window in front never asks for the text.
    display.wait_until("the text", |display| display.clipboard("UTF8_STRING") == b"core 12");
    running.signal(Signal::KILL);
    running.wait_end();
    display.wait_until("the keeper", |display| keepers(display) == 1);
    display.wait_until("what was there", |display| {
        display.clipboard_is(b"what was there", "UTF8_STRING")
    });
}

#[test]
fn x11_foreign_text_is_typed_by_the_clipboard_when_the_person_allows_it() {
    let (mut display, mut person) = desk();
    let editor = Editor::open(&mut display, "shift.txt");
    let rules = "settings { clipboard = true }
when key f7 { type \"Kern 12: ❄Ж\"; type \" plain\" }
";
    let mut running = Running::start(&display, rules);
    display.copy("what was there", "UTF8_STRING");
    person.tap("f7");
    running.wait_for(": ended");
    assert_eq!(editor.text(&display, &mut person).trim_end(), "Kern 12: ❄Ж plain");
    assert_eq!(display.clipboard("UTF8_STRING"), b"what was there");
    running.stop();
}

#[test]
fn x11_a_text_is_pasted_into_a_terminal() {
    let (mut display, mut person) = desk();
    let mut terminal = Terminal::open(&mut display);
    let mut running = Running::start(&display, "when key f7 { paste \"core 12 ❄\"; log \"x\" }\n");
    person.tap("f7");
    running.wait_for(": ended");
    assert_eq!(terminal.read("core 12 ❄".len()), "core 12 ❄");
    assert_eq!(read_arrived(&display, &mut person, &mut terminal), "");
    running.stop();
}
