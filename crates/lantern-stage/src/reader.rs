//! A screen reader's ears: what programs announce on the accessibility bus.

use std::io::{BufRead, BufReader};
use std::process::{ChildStdout, Stdio};

use crate::Display;

/// A screen reader at work. It ends with its display.
#[derive(Debug)]
pub struct ScreenReader {
    heard: BufReader<ChildStdout>,
}

impl ScreenReader {
    /// Says in the session that a screen reader is at work, and listens. The display needs a bus and
    /// accessibility.
    ///
    /// # Panics
    /// When the accessibility bus does not answer.
    pub fn listen(display: &mut Display) -> ScreenReader {
        let call = |method: &str, words: &[&str]| {
            let bus =
                ["call", "--session", "-d", "org.a11y.Bus", "-o", "/org/a11y/bus", "-m", method];
            display.ask("gdbus", &[&bus, words].concat())
        };
        let set = "org.freedesktop.DBus.Properties.Set";
        call(set, &["org.a11y.Status", "ScreenReaderEnabled", "<true>"]);
        let said = call("org.a11y.Bus.GetAddress", &[]);
        let address = said.split('\'').nth(1).expect("it gives an address").to_owned();
        let mut output = display
            .silent("dbus-monitor")
            .args(["--address", &address, "type='signal',member='Announcement'"])
            .stdout(Stdio::piped())
            .spawn()
            .expect("dbus-monitor is installed");
        let mut reader =
            ScreenReader { heard: BufReader::new(output.stdout.take().expect("it is a pipe")) };
        display.keep(output);
        // It says that it listens by what it sees of itself first.
        reader.hear("NameAcquired");
        reader
    }

    /// Waits until something is announced that contains these words.
    ///
    /// # Panics
    /// When the bus goes away before.
    pub fn hear(&mut self, words: &str) -> String {
        loop {
            let mut line = String::new();
            let count = self.heard.read_line(&mut line).expect("it can be read");
            assert!(count > 0, "the bus went away before {words:?} was heard");
            if line.contains(words) {
                return line;
            }
        }
    }
}
