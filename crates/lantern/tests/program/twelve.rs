//! The twelve scenes on the simulated desk and on a real X server.

use std::fmt::Write;
use std::time::Duration;

use lantern_model::{Key, KeyKind, Layout, ShiftLevel};
use lantern_stage::{ReceivedKey, pass_time};
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
