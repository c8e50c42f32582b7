//! A person at a display with a program in front that receives what rules send.

use std::path::PathBuf;
use std::time::{Duration, Instant};

use lantern_stage::{Display, Person, Target, pass_time};
use serde_json::Value;

use crate::desktop::{B, bare};
use crate::running::lantern;

/// X keycode of the letter that no rule names.
const Z: u8 = 52;
/// Number of presses of which the latency is taken.
const PRESSES: usize = 20;
/// Maximum latency of a key during an attack.
const AT_ONCE: Duration = Duration::from_millis(20);

/// Rules that an attack must not stop: one whose press waits for its release, and one that fires at once.
pub const FIRES: &str = "when key f8 tapped => tap b\nwhen key f9 => tap b\n";

/// The display, the person and the program in front.
pub struct TestDesktop {
    pub display: Display,
    pub person: Person,
    pub target: Target,
}

impl TestDesktop {
    /// Starts a display with a bare window in front.
    pub fn set_up() -> TestDesktop {
        let (display, person, target) = bare();
        TestDesktop { display, person, target }
    }

    /// Expects that keys fire rules at once, and that others arrive as they are.
    ///
    /// A quarter of the presses may be late, since other processes want the processors as well.
    pub fn expect_keys_at_once(&mut self) {
        let mut spans = Vec::new();
        for _ in 0..PRESSES {
            for key in ["f9", "f8"] {
                let began = Instant::now();
                self.person.tap(key);
                self.target.expect_press(B);
                spans.push(began.elapsed());
            }
            self.expect_plain_keys();
        }
        spans.sort();
        let late = spans[spans.len() / 4];
        assert!(late <= AT_ONCE, "presses fired after {spans:?}");
    }

    /// Expects that keys which no rule names arrive as they are.
    pub fn expect_plain_keys(&mut self) {
        self.person.tap("z");
        self.target.expect_press(Z);
    }

    /// Presses keys while the keyboard may be frozen, so that no press is seen to have come.
    pub fn press_blindly(&mut self, keys: &[&str]) {
        let mut blind = Person::at(self.display.name()).unchecked();
        keys.iter().for_each(|key| blind.tap(key));
        blind.wait_for_server();
    }

    /// Lets the person rest until the server counts them as idle for a second and more.
    pub fn wait_until_idle(&self) {
        pass_time(Duration::from_millis(1300));
    }

    /// The file in which the program marks the keys that it holds.
    pub fn list_of_held_keys(&self) -> PathBuf {
        let folder = self.display.folder().join("cold-lantern");
        let mut files = std::fs::read_dir(folder).expect("it is there").flatten();
        let list = files.find(|file| file.file_name().to_string_lossy().starts_with("held"));
        list.expect("it is there").path()
    }

    /// Presses the panic combination, and expects that everything is paused and keys are the program's.
    pub fn expect_panic(&mut self) {
        self.person.tap("ctrl+alt+shift+escape");
        self.display.wait_until("the panic to pause everything", |display| {
            let answer = lantern(display, &["status", "--json"]).stdout;
            let status: Value = serde_json::from_slice(&answer).unwrap_or_default();
            status["paused"]["all"] == true
        });
        self.person.expect_no_keys_down();
        self.person.tap("f9");
        self.target.expect_press(75);
    }
}
