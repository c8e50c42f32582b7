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

/// How long the main thread of a process was ready to run without a processor so far.
fn processor_wait(process: u32) -> Duration {
    let path = format!("/proc/{process}/schedstat");
    let text = std::fs::read_to_string(&path).expect("the program runs");
    let wait = text.split_ascii_whitespace().nth(1).and_then(|field| field.parse().ok());
    Duration::from_nanos(wait.expect("the kernel counts the wait"))
}

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

    /// Expects that the program fires rules of keys at once, and that other keys arrive as they are.
    ///
    /// Time in which the program could run but other processes had the processors is not counted. Three
    /// quarters of the presses may be late, since the X server and the receiver wait for processors too.
    pub fn expect_keys_at_once(&mut self, program: u32) {
        let mut spans = Vec::new();
        for _ in 0..PRESSES {
            for key in ["f9", "f8"] {
                let (began, waited) = (Instant::now(), processor_wait(program));
                self.person.tap(key);
                self.target.expect_press(B);
                let waited = processor_wait(program).saturating_sub(waited);
                spans.push(began.elapsed().saturating_sub(waited));
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
