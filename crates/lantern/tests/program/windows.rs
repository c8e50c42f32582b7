//! Windows, menus and the clipboard of real programs: a terminal and an editor.

use std::time::{Duration, Instant};

use lantern_stage::{Display, Editor, Person, Terminal};

use crate::desktop::QUIET;
use crate::running::Running;

/// A managed display with a bus, on which programs tell of their menus.
fn desk() -> (Display, Person) {
    let mut display = Display::start("us");
    display.manage();
    display.start_bus();
    display.start_accessibility();
    let person = Person::sit_down(&display);
    (display, person)
}

#[test]
fn x11_menus_are_chosen_by_their_titles() {
    let (mut display, mut person) = desk();
    let editor = Editor::open(&mut display, "shift.txt");
    let rules = "when key f6 => type \"core 12\"
when key f7 { choose \"edit\", \"Select All\"; choose \"Edit\", \"Convert\", \"to uppercase\"; log \"x\" }
when key f8 => choose \"Edit\", \"Melt\"
when key f9 => choose \"Ice\", \"Melt\"
when key f10 => choose \"Edit\", \"Redo\"
";
    let mut running = Running::start(&display, rules);
    person.tap("f6");
    running.wait_for(": ended");
    let begin = Instant::now();
    person.tap("f7");
    running.wait_for(": ended");
    let took = begin.elapsed();
    assert!(took < Duration::from_secs(5), "{took:?}");
    assert_eq!(editor.text(&display, &mut person).trim_end(), "CORE 12");
    person.tap("f8");
    let line = running.wait_for("failed");
    assert!(line.contains("mousepad has no `Melt`; there are Undo, Redo, Cut"), "{line}");
    person.tap("f9");
    let line = running.wait_for("failed");
    assert!(line.contains("mousepad has no `Ice`; there are File, Edit"), "{line}");
    person.tap("f10");
    let line = running.wait_for("failed");
    assert!(line.contains("`Edit, Redo` cannot be chosen now"), "{line}");
    running.stop();
}

#[test]
fn x11_a_program_without_menus_is_said_to_tell_nothing() {
    let (mut display, mut person) = desk();
    let _terminal = Terminal::open(&mut display);
    let mut running = Running::start(&display, "when key f7 => choose \"Edit\", \"Copy\"\n");
    person.tap("f7");
    let line = running.wait_for("failed");
    assert!(line.contains("corelog tells nothing of its menus and buttons"), "{line}");
    running.stop();
}

#[test]
fn x11_programs_come_to_the_front_and_the_person_goes_back() {
    let (mut display, mut person) = desk();
    let mut terminal = Terminal::open(&mut display);
    let editor = Editor::open(&mut display, "shift.txt");
    let rules = "when key f5 => focus app \"corelog\"
when key f6 => focus app \"no-such-saw\"
when key f7 { with app \"corelog\" { type \"12\" }; log \"x\" }
when key f8 in app \"corelog\" => type \"terminal\"
when key f8 in app \"mousepad\" => type \"editor\"
when key f9 => close app \"mousepad\"
when key f10 in title \"shift\" => type \"!\"
";
    let mut running = Running::start(&display, rules);
    person.tap("f7");
    assert_eq!(terminal.read(2), "12");
    running.wait_for(": ended");
    person.tap("f8");
    running.wait_for(": ended");
    person.tap("f10");
    running.wait_for(": ended");
    assert_eq!(editor.text(&display, &mut person).trim_end(), "editor!");
    person.tap("f6");
    let line = running.wait_for("failed");
    assert!(line.contains("no-such-saw"), "{line}");
    person.tap("f5");
    running.wait_for(": ended");
    person.tap("f8");
    assert_eq!(terminal.read(8), "terminal");
    running.wait_for(": ended");
    person.tap("f9");
    running.wait_for(": ended");
    assert_eq!(terminal.read_rest(QUIET), "");
    running.stop();
}

#[test]
fn x11_typing_with_nothing_in_front_is_said() {
    let (display, mut person) = desk();
    let mut running =
        Running::start(&display, "when key f7 => type \"12\"\nwhen key f8 => paste \"12\"\n");
    for key in ["f7", "f8"] {
        person.tap(key);
        let line = running.wait_for("failed");
        assert!(line.contains("nothing"), "{line}");
    }
    running.stop();
}

#[test]
fn x11_a_text_is_pasted_and_the_clipboard_keeps_what_it_held() {
    let (mut display, mut person) = desk();
    let editor = Editor::open(&mut display, "shift.txt");
    let mut running =
        Running::start(&display, "when key f7 { paste \"Kern 12: −31 °C ❄\"; log \"x\" }\n");
    display.copy("what was there", "UTF8_STRING");
    let begin = Instant::now();
    person.tap("f7");
    running.wait_for(": ended");
    let took = begin.elapsed();
    assert_eq!(display.clipboard("UTF8_STRING"), b"what was there");
    assert_eq!(editor.text(&display, &mut person).trim_end(), "Kern 12: −31 °C ❄");
    assert!(took < Duration::from_millis(1500), "{took:?}");
    let large: Vec<u8> = (0..5_000_000u32).map(|at| b'a' + (at * 7 % 25) as u8).collect();
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
    assert_eq!(terminal.read_rest(QUIET), "");
    running.stop();
}
