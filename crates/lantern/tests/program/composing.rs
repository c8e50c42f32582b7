//! Input methods at work: keys fire rules, texts arrive whole, and what one would make something else of is
//! said or pasted.

use lantern_stage::{Composer, Display, Editor, Person, Terminal};

use crate::running::{Running, lantern, read_arrived};
use crate::text::{foreign, mixed};

const RULES: &str = "when key f5 => type \"Kern 12\"
when key ctrl+f6 => type \"e'a'\"
when key f7 => type \"e'a' \" anyway
when key f8 => paste \"e'a'\"
";

fn desk(composer: Composer) -> (Display, Person) {
    let mut display = Display::start("us");
    display.manage();
    display.start_bus();
    composer.start(&mut display);
    let person = Person::sit_down(&display);
    (display, person)
}

/// Keys, plain and foreign text, in a program that hands its keys to the input method by the display and in
/// one that does so by the bus.
fn texts_arrive(composer: Composer) {
    let (mut display, mut person) = desk(composer);
    let mut terminal = Terminal::open(&mut display);
    let (few, all) = (&foreign()[..14], foreign());
    let long = mixed(few, 300, 8) + &mixed(&all, 200, 9);
    let rules = format!("{RULES}when key f9 => type `{long}`\n");
    let mut running = Running::start(&display, &rules);
    let mut fire = |person: &mut Person, key: &str| {
        person.tap(key);
        running.wait_long_for(": ended");
    };
    fire(&mut person, "f9");
    same_text(&terminal.read(long.len()), &long);
    fire(&mut person, "left-ctrl+f6");
    assert_eq!(terminal.read("e'a'".len()), "e'a'", "{composer:?}");
    assert_eq!(read_arrived(&display, &mut person, &mut terminal), "");
    let editor = Editor::open(&mut display, "shift.txt");
    fire(&mut person, "f5");
    fire(&mut person, "f9");
    let text = editor.text(&display, &mut person);
    same_text(text.trim_end(), &format!("Kern 12{long}"));
    running.stop();
}

/// Compares two texts, and shows the first place where they differ: a long text hides it.
#[track_caller]
fn same_text(came: &str, typed: &str) {
    let Some(at) = came.chars().zip(typed.chars()).position(|(came, typed)| came != typed) else {
        return assert_eq!(came.chars().count(), typed.chars().count(), "ends with {came:?}");
    };
    let near =
        |text: &str| -> String { text.chars().skip(at.saturating_sub(8)).take(24).collect() };
    panic!("differs at character {at}: {:?} in place of {:?}", near(came), near(typed));
}

#[test]
fn x11_texts_arrive_whole_while_an_input_method_is_at_work() {
    texts_arrive(Composer::Ibus);
}

#[test]
fn x11_texts_arrive_whole_while_an_input_method_of_the_other_sort_is_at_work() {
    texts_arrive(Composer::Fcitx);
}

/// What an input method would make something else of is not typed, unless the rule says so.
fn is_not_composed(composer: Composer) {
    let (mut display, mut person) = desk(composer);
    let mut terminal = Terminal::open(&mut display);
    let mut running = Running::start(&display, RULES);
    composer.compose(&display, true);
    let doctor = String::from_utf8(lantern(&display, &["doctor"]).stdout).expect("it is text");
    assert!(doctor.contains("input method") && doctor.contains("latn-post makes"), "{doctor}");
    person.tap("f5");
    let line = running.wait_for("failed at line 1: the input method ");
    assert!(line.contains("latn-post would make something else of it"), "{line}");
    person.tap("left-ctrl+f6");
    running.wait_for("failed at line 2: the input method ");
    assert_eq!(
        read_arrived(&display, &mut person, &mut terminal),
        "",
        "{composer:?}: nothing of it was typed"
    );
    person.tap("f8");
    assert_eq!(terminal.read("e'a'".len()), "e'a'", "{composer:?}: it goes past");
    running.wait_for(": ended");
    person.tap("f7");
    // Of both forms it has as many bytes; a method that still starts hands keys on. Some give back the
    // space, which they hand on, before the letters that they made.
    let typed = terminal.read("éá ".len()).replace(' ', "");
    assert!(["éá", "e'a'"].contains(&typed.as_str()), "{composer:?}: {typed:?}");
    running.wait_for(": ended");
    // With permission the text bypasses the input method.
    let allowed = format!("settings {{ clipboard = true }}\n{RULES}");
    std::fs::write(&running.file, allowed).expect("it is ours");
    running.wait_for("reloaded");
    person.tap("left-ctrl+f6");
    assert_eq!(terminal.read("e'a'".len()), "e'a'", "{composer:?}: by the clipboard");
    running.wait_for(": ended");
    // And as soon as nothing is composed any more, keys are typed.
    std::fs::write(&running.file, RULES).expect("it is ours");
    running.wait_for("reloaded");
    composer.compose(&display, false);
    person.tap("f5");
    assert_eq!(terminal.read("Kern 12".len()), "Kern 12", "{composer:?}");
    running.stop();
}

#[test]
fn x11_what_an_input_method_would_compose_is_pasted_or_said() {
    is_not_composed(Composer::Ibus);
}

#[test]
fn x11_what_an_input_method_of_the_other_sort_would_compose_is_pasted_or_said() {
    is_not_composed(Composer::Fcitx);
}
