//! Windows and menus of real programs: a terminal and an editor.

use lantern_stage::{Display, Editor, Form, Person, ScreenReader, Terminal};

use crate::desktop::bare;
use crate::running::{Running, lantern, read_arrived};

/// A managed display with a bus, on which programs tell of their menus.
pub fn desk() -> (Display, Person) {
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
    person.tap("f7");
    running.wait_for(": ended");
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

/// Waits until such numbers are on the screen and no more come or go between two looks.
fn wait_for_numbers(display: &Display, wanted: impl Fn(&[u32]) -> bool) -> Vec<u32> {
    let mut seen: Vec<u32> = Vec::new();
    display.wait_until("the numbers", |display| {
        let names = display.unmanaged().into_iter();
        let mut now: Vec<u32> = names.filter_map(|window| window.name.parse().ok()).collect();
        now.sort_unstable();
        let stands = now == seen;
        seen = now;
        stands && wanted(&seen)
    });
    seen
}

#[test]
fn x11_what_is_in_front_is_numbered_and_picked_by_digits_or_by_a_told_number() {
    let (mut display, mut person) = desk();
    let editor = Editor::open(&mut display, "shift.txt");
    let rules = "when key f6 => type \"core 12\"
when key f7 { tally; log \"x\" }
when key f8 => tally 2
when key f9 => tally 300
when key f10 { tally at most 2s else { log \"late\" } }
";
    let mut running = Running::start(&display, rules);
    person.tap("f6");
    running.wait_for(": ended");
    person.tap("f8");
    running.wait_for("no numbers are on the screen; `tally` shows them");
    // Of the menu bar the second is Edit, and of that the eighth selects all.
    person.tap("f7");
    let bar = wait_for_numbers(&display, |numbers| numbers.len() > 6);
    assert_eq!(bar[..3], [1, 2, 3]);
    person.tap("2");
    let entries = wait_for_numbers(&display, |numbers| numbers.len() > 8 && *numbers != bar);
    person.tap("1");
    let begins = |number: &u32| number.to_string().starts_with('1');
    let left = entries.iter().filter(|number| begins(number)).count();
    wait_for_numbers(&display, |numbers| numbers.len() == left && numbers.iter().all(begins));
    person.tap("escape");
    running.wait_for("the person gave no answer");
    wait_for_numbers(&display, <[u32]>::is_empty);
    person.tap("escape");
    assert_eq!(editor.text(&display, &mut person).trim_end(), "core 12", "no digit reached it");
    // A number that is given, as by voice.
    person.tap("f7");
    wait_for_numbers(&display, |numbers| numbers.len() > 6);
    person.tap("f9");
    running.wait_for("mousepad has no number 300; the last is");
    wait_for_numbers(&display, <[u32]>::is_empty);
    person.tap("f7");
    wait_for_numbers(&display, |numbers| numbers.len() > 6);
    person.tap("f8");
    wait_for_numbers(&display, |numbers| numbers.len() > 8);
    person.type_keys(&["1", "0"]);
    running.wait_for(": ended");
    wait_for_numbers(&display, <[u32]>::is_empty);
    // No choice.
    person.tap("f10");
    wait_for_numbers(&display, |numbers| numbers.len() > 6);
    running.wait_for(": ended");
    wait_for_numbers(&display, <[u32]>::is_empty);
    person.tap("x");
    let text = editor.text(&display, &mut person);
    assert!(text.contains('x'), "the keyboard is free again: {text:?}");
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
    assert_eq!(read_arrived(&display, &mut person, &mut terminal), "");
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
fn x11_a_menu_that_is_filled_when_it_opens_is_chosen_from() {
    let (mut display, mut person) = desk();
    let form = Form::open(&mut display);
    let mut running =
        Running::start(&display, "when key f7 { choose \"Rack\", \"Rack 4\"; log \"x\" }\n");
    person.tap("f7");
    running.wait_for(": ended");
    display.wait_until("the choice", |_| form.text() == "||Rack 4");
    running.stop();
}

#[test]
fn x11_no_text_goes_into_a_password_field_unless_the_rule_says_so() {
    let (mut display, mut person) = desk();
    let form = Form::open(&mut display);
    let rules = "when key f5 => type \"54.3\"
when key f6 => paste \"54.3\"
when key f7 => type \"ice\" anyway
when key f8 => type \"one letter at a time\" every 300ms
";
    let mut running = Running::start(&display, rules);
    person.tap("f5");
    running.wait_for(": ended");
    display.wait_until("the text", |_| form.text() == "54.3|");
    person.tap("tab");
    // The program reports the focus of the field, a moment after the key.
    running.wait_for("a password field has the keyboard");
    person.tap("f5");
    running.wait_for("a password field has the keyboard (say `anyway` to type there)");
    person.tap("f6");
    running.wait_for("a password field has the keyboard");
    person.tap("f7");
    running.wait_for(": ended");
    display.wait_until("the word", |_| form.text() == "54.3|ice");
    // And one that comes under the fingers in the middle stops the step.
    person.press("left-shift");
    person.tap("tab");
    person.release("left-shift");
    running.wait_for("no password field has the keyboard");
    person.tap("f8");
    display.wait_until("the first letters", |_| form.text().starts_with("on"));
    person.tap("tab");
    let line = running.wait_for("keyboard; ");
    assert!(line.contains(" of 20 characters were typed"), "{line}");
    assert_eq!(form.text().split('|').nth(1), Some("ice"), "none of it went there");
    running.stop();
}

/// The field had the keyboard before the program was there to be told of it.
#[test]
fn x11_a_password_field_that_has_the_keyboard_at_the_start_is_known() {
    let (mut display, mut person) = desk();
    let form = Form::open(&mut display);
    person.tap("tab");
    let rules = "when key f6 => tap a\nwhen key f7 => type \"ice\"\n";
    let mut running = Running::start(&display, rules);
    running.wait_for("a password field has the keyboard");
    person.tap("f7");
    running.wait_for("a password field has the keyboard (say `anyway` to type there)");
    person.tap("f6");
    display.wait_until("the letter of the other rule alone", |_| form.text() == "|a");
    running.stop();
}

#[test]
fn x11_hints_and_questions_are_announced_to_a_screen_reader() {
    let (mut display, mut person) = desk();
    let mut reader = ScreenReader::listen(&mut display);
    let rules = "when key f7 => hint \"core 12 lies in rack 4\"
when key f8 { let rack = pick \"Which rack?\", [\"rack 3\", \"rack 4\"]; log rack }
";
    let mut running = Running::start(&display, rules);
    person.tap("f7");
    reader.hear("core 12 lies in rack 4");
    person.tap("f8");
    reader.hear("Which rack?: rack 3, 1 of 2");
    display.wait_until_in_front("Cold Lantern asks");
    person.tap("down");
    reader.hear("Which rack?: rack 4, 2 of 2");
    person.tap("escape");
    running.wait_for("the person gave no answer");
    running.stop();
}

#[test]
fn x11_a_window_that_the_manager_still_names_after_its_end_is_not_in_front() {
    let (display, mut person, target) = bare();
    let rules = "when window focused { hint \"{window.app}\"; run \"true\", \"{window.app}\" }
when key f9 if window.app == \"nothing\" => run \"true\"
when key f8 { type \"core ❄\"; log \"typed\" }
when key f7 { type \"core\"; log \"typed\" }\n";
    let mut running = Running::start(&display, rules);
    target.pretend_active("corelog");
    running.wait_for("fired by window focused");
    // The property on the root window names it further on.
    drop(target);
    running.wait_for("fired by window focused");
    person.tap("f9");
    running.wait_for("fired by f9");
    for key in ["f8", "f7"] {
        person.tap(key);
        let line = running.wait_for("failed at");
        assert!(line.contains("no window is in front"), "{line}");
    }
    running.stop();
}

#[test]
fn x11_a_text_with_nobody_to_take_it_fails_at_once() {
    let display = Display::start("us");
    let mut person = Person::sit_down(&display);
    let rules = "when key f8 { type \"core ❄\"; log \"typed\" }
when key f7 { type \"core\"; log \"typed\" }
when key f6 { paste \"core\"; log \"typed\" }\n";
    let mut running = Running::start(&display, rules);
    for key in ["f8", "f7", "f6"] {
        person.tap(key);
        let line = running.wait_for("failed at");
        assert!(line.contains("no window is in front"), "{line}");
    }
    running.stop();
}

#[test]
fn x11_a_key_that_the_window_manager_has_is_not_free() {
    let (display, _person) = desk();
    let file = display.folder().join("bench.lantern");
    std::fs::write(&file, "when key alt+f2 => tap a\n").expect("the file can be written");
    let file = file.display().to_string();
    let said = |keys: &str| {
        let output = lantern(&display, &["keys", keys, "--free", &file]);
        (String::from_utf8_lossy(&output.stdout).into_owned(), output.status.success())
    };
    let (taken, is_free) = said("alt+f4");
    assert!(taken.contains("a setting of the desktop") && !is_free, "{taken}");
    let (taken, is_free) = said("alt+f2");
    assert!(taken.contains("bench.lantern:1") && !is_free, "{taken}");
    assert_eq!(said("alt+f3"), ("alt+f3 is free\n".to_owned(), true));
    let (listed, _) = said("alt+f1..f12");
    assert!(!listed.contains("f2 ") && !listed.contains("f4 "), "{listed}");
}
