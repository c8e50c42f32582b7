//! The twelve scenes on the simulated desk, on a real X server and in a real sway session.

use std::fmt::Write;
use std::time::Duration;

use lantern_model::{Key, KeyKind, Layout, ShiftLevel};
use lantern_stage::{ReceivedKey, WaylandPerson, WaylandSession, pass_time, wait_until};
use serde_json::Value;

use crate::desktop::bare;
use crate::home::Home;
use crate::running::Running;
use crate::twelve_scenes::{BETWEEN, Hand, TWELVE};

#[test]
fn the_twelve_scenes_come_out_on_the_simulated_desk() {
    for scene in &TWELVE {
        let home = Home::new();
        let mut lines = String::from("at 0s window opens app \"receiver\"\n");
        let mut held = Vec::new();
        for hand in scene.hands {
            let (wait, act) = match hand {
                Hand::Tap(keys) => (BETWEEN.as_millis(), format!("key {keys}")),
                Hand::Press(key) => {
                    held.push(*key);
                    (BETWEEN.as_millis(), format!("presses {key}"))
                }
                Hand::Release(key) => (BETWEEN.as_millis(), format!("lets go {key}")),
                Hand::Rest(millis) => {
                    writeln!(lines, "at +{millis}ms").expect("a text takes it");
                    continue;
                }
            };
            writeln!(lines, "at +{wait}ms {act}").expect("a text takes it");
        }
        lines.push_str("at +2s\n");
        home.write("rules.lantern", format!("{}\n", scene.rules));
        home.write("hands.scene", &lines);
        let called = home.call(&["rehearse", "rules.lantern", "hands.scene", "--json"]);
        let data: Value = serde_json::from_str(&called.stdout)
            .unwrap_or_else(|_| panic!("{}: {}{}", scene.name, called.stdout, called.stderr));
        assert_eq!(data["scenes"][0]["fields"]["receiver"], scene.text, "{}", scene.name);
    }
}

#[test]
fn x11_the_twelve_scenes_come_out() {
    for scene in &TWELVE {
        let (display, mut person, target) = bare();
        let _running = Running::start(&display, scene.rules);
        for hand in scene.hands {
            pass_time(BETWEEN);
            match hand {
                Hand::Tap(keys) => person.tap(keys),
                Hand::Press(key) => person.press(key),
                Hand::Release(key) => person.release(key),
                Hand::Rest(millis) => pass_time(Duration::from_millis(*millis)),
            }
        }
        let mut text = String::new();
        while text != scene.text {
            write_into(&mut text, &target.expect(1)[0]);
        }
        // A letter that no rule names comes after all that the rules type.
        person.tap("z");
        while !text.ends_with('z') {
            write_into(&mut text, &target.expect(1)[0]);
        }
        assert_eq!(text.trim_end_matches('z'), scene.text, "{}", scene.name);
    }
}

#[test]
fn wlroots_the_twelve_scenes_come_out() {
    for scene in &TWELVE {
        let mut session = WaylandSession::start();
        let mut person = WaylandPerson::join(&session, "us");
        let terminal = session.open_receiver("receiver");
        // The first key of a fresh keyboard makes it the one of the seat.
        person.tap("left-shift");
        let _running = crate::wlroots::run(&session, &format!("{}\n", scene.rules));
        for hand in scene.hands {
            pass_time(BETWEEN);
            match hand {
                Hand::Tap(keys) => person.tap(keys),
                Hand::Press(key) => person.press(key),
                Hand::Release(key) => person.release(key),
                Hand::Rest(millis) => pass_time(Duration::from_millis(*millis)),
            }
        }
        let field = || field_of(&terminal.received());
        wait_until(scene.name, || field() == scene.text);
        // A letter that no rule names comes after all that the rules type.
        person.tap("z");
        wait_until("the last letter", || field().ends_with('z'));
        assert_eq!(field().trim_end_matches('z'), scene.text, "{}", scene.name);
    }
}

/// What stands in a field after the bytes that a terminal received.
fn field_of(received: &str) -> String {
    let mut text = String::new();
    let mut characters = received.chars();
    while let Some(character) = characters.next() {
        match character {
            '\r' => text.push('\n'),
            '\u{7f}' => drop(text.pop()),
            // A key without a character: `ESC O S`, `ESC [ 2 3 ~`; escape alone at the end.
            '\u{1b}' => {
                if characters.next() == Some('[') {
                    characters.by_ref().find(|c| c.is_ascii_alphabetic() || *c == '~');
                } else {
                    characters.next();
                }
            }
            other => text.push(other),
        }
    }
    text
}

/// A press as it changes the text of a field.
fn write_into(text: &mut String, got: &ReceivedKey) {
    let key = Key::from_kernel(u16::from(got.detail) - 8);
    let Some(key) = key.filter(|key| got.down && !got.button && key.kind() != KeyKind::Modifier)
    else {
        return;
    };
    if got.state & (4 | 8 | 64) != 0 {
        return;
    }
    match key.name() {
        "enter" => text.push('\n'),
        "backspace" => drop(text.pop()),
        _ => text.extend(
            Layout::us()
                .group()
                .character(key, ShiftLevel::from_modifiers(got.state & 1 != 0, false)),
        ),
    }
}
