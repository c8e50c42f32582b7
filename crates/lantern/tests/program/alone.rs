//! With no program in PATH: whatever rules ask of the desktop is done by this program itself.

use lantern_stage::{Display, Editor, Person, Terminal};

use crate::running::Running;

const RULES: &str = "when key f5 { type \"Kern 12 ❄\"; paste \" −31 °C\"; choose \"Edit\", \"Select All\"; log \"x\" }
when key f6 { focus app \"corelog\"; type \"back\" }
when key f7 { notify \"core 12\"; volume set 40%; volume up 3%; hint \"stored\"; log \"x\" }
when key f8 { open \"~/rack.txt\"; log \"x\" }
when key f9 { close app \"mousepad\"; log \"x\" }
";

#[test]
fn x11_no_helper_program_is_needed() {
    let mut display = Display::start("us");
    display.manage();
    display.start_bus();
    display.start_accessibility();
    display.start_notices();
    display.start_sound();
    let mut person = Person::sit_down(&display);
    let mut terminal = Terminal::open(&mut display);
    let editor = Editor::open(&mut display, "shift.txt");
    let folder = display.folder().to_owned();
    let empty = folder.join("empty");
    for new in ["empty", "data/applications", "config"] {
        std::fs::create_dir_all(folder.join(new)).expect("the folder can be made");
    }
    let write = |name: &str, text: &str| {
        std::fs::write(folder.join(name), text).expect("the file can be written");
    };
    let opened = folder.join("opened");
    let entry = format!(
        "[Desktop Entry]\nType=Application\nName=Reader\nExec=/usr/bin/cp %f {}\nMimeType=text/plain;\n",
        opened.display()
    );
    write("data/applications/reader.desktop", &entry);
    write("config/mimeapps.list", "[Default Applications]\ntext/plain=reader.desktop\n");
    write("rack.txt", "rack 4\n");
    let mut running = Running::start_with(&display, RULES, |command| {
        command.env("PATH", &empty);
    });
    display.copy("what was there", "UTF8_STRING");
    let mut fire = |person: &mut Person, key: &str| {
        person.tap(key);
        running.wait_for(": ended");
    };
    fire(&mut person, "f5");
    assert_eq!(display.clipboard("UTF8_STRING"), b"what was there");
    assert_eq!(editor.text(&display, &mut person).trim_end(), "Kern 12 ❄ −31 °C");
    // All of it is selected: the next letter takes its place.
    person.tap("x");
    assert_eq!(editor.text(&display, &mut person).trim_end(), "x");
    fire(&mut person, "f7");
    assert!(display.notices().contains("core 12"));
    assert!(display.ask("pactl", &["get-sink-volume", "bench"]).contains("43%"));
    fire(&mut person, "f8");
    display
        .wait_until("the file", |_| std::fs::read(&opened).is_ok_and(|read| read == b"rack 4\n"));
    fire(&mut person, "f6");
    assert_eq!(terminal.read(4), "back");
    fire(&mut person, "f9");
    running.stop();
}
