//! Output that is not read.

use std::fs::File;
use std::io::{Read, Write};
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::process::{Child, Command, Stdio};

use lantern_stage::{Display, wait_until};
use rustix::process::Signal;
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};

use super::receiver::{FIRES, TestDesktop};
use crate::running::{lantern, send, wait_for_end};

/// Stops and continues the output of a terminal.
const CTRL_S: &[u8] = b"\x13";
const CTRL_Q: &[u8] = b"\x11";

/// A terminal with its two ends.
pub struct Terminal {
    master: File,
    slave: File,
    read: String,
}

impl Terminal {
    pub fn open() -> Terminal {
        let master = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).expect("there are terminals");
        grantpt(&master).expect("it is ours");
        unlockpt(&master).expect("it is ours");
        let name = ptsname(&master, Vec::new()).expect("it has a name");
        let path = std::ffi::OsStr::from_bytes(name.as_bytes());
        let slave = File::options().read(true).write(true).open(path).expect("it can be opened");
        Terminal { master: File::from(master), slave, read: String::new() }
    }

    /// The three standard streams of a program in it.
    pub fn ends(&self) -> [Stdio; 3] {
        let end = || self.slave.try_clone().expect("it can be cloned");
        [end(), end(), end()].map(|end| Stdio::from(OwnedFd::from(end)))
    }

    /// Presses a key.
    pub fn press(&mut self, key: &[u8]) {
        self.master.write_all(key).expect("the terminal is there");
    }

    /// Everything that came until this does.
    pub fn read_until(&mut self, words: &str) -> String {
        let mut bytes = [0; 4096];
        while !self.read.contains(words) {
            let count = self.master.read(&mut bytes).expect("the terminal is there");
            self.read.push_str(&String::from_utf8_lossy(&bytes[..count]));
        }
        std::mem::take(&mut self.read)
    }
}

fn command(display: &Display, rules: &str) -> Command {
    let file = display.folder().join("bench.lantern");
    std::fs::write(&file, rules).expect("the file can be written");
    let mut command = display.command(env!("CARGO_BIN_EXE_lantern"));
    command.args(["run", "--verbose"]).arg(&file);
    command
}

/// Starts the program with its output thrown away.
pub fn start(display: &Display, rules: &str) -> Child {
    let mut command = command(display, rules);
    command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("it starts")
}

pub fn wait_for_work(display: &Display) {
    display.wait_until("the rules to be at work", |display| {
        lantern(display, &["status"]).status.success()
    });
}

/// Ends the program, which must end well.
pub fn expect_end(mut child: Child) {
    send(child.id(), Signal::TERM);
    let status = wait_for_end(&mut child);
    assert!(status.success(), "{status:?}");
}

#[test]
fn x11_a_terminal_that_is_stopped_with_ctrl_s_stops_nothing_else() {
    let mut desk = TestDesktop::set_up();
    let mut terminal = Terminal::open();
    let rules = format!("{FIRES}let n = 0\nwhen key f7 {{ set n = n + 1; log \"seven {{n}}\" }}\n");
    let mut command = command(&desk.display, &rules);
    let [stdin, stdout, stderr] = terminal.ends();
    let child = command.stdin(stdin).stdout(stdout).stderr(stderr).spawn().expect("it starts");
    wait_for_work(&desk.display);
    terminal.press(CTRL_S);
    for _ in 0..3 {
        desk.person.tap("f7");
        desk.expect_keys_at_once(child.id());
    }
    terminal.press(CTRL_Q);
    let read = terminal.read_until("seven 3");
    assert!(read.contains("seven 1") && !read.contains("left out"), "{read}");
    terminal.press(CTRL_S);
    desk.person.tap("f7");
    desk.expect_panic();
    expect_end(child);
}

#[test]
fn x11_a_pipe_that_nobody_reads_stops_nothing_else() {
    let mut desk = TestDesktop::set_up();
    let line = "core ".repeat(200);
    let rules = format!("{FIRES}when every 1ms => log \"{line}\"\n");
    let mut command = command(&desk.display, &rules);
    let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn();
    let mut child = child.expect("it starts");
    let mut out = child.stdout.take().expect("it is a pipe");
    let mut err = child.stderr.take().expect("it is a pipe");
    wait_for_work(&desk.display);
    wait_until("the pipe to be full", || {
        rustix::io::ioctl_fionread(&out).is_ok_and(|bytes| bytes > 60_000)
    });
    desk.expect_keys_at_once(child.id());
    desk.expect_panic();
    // More was written than the queue holds; it is counted once the pipe is read.
    let reader = std::thread::spawn(move || {
        let mut text = String::new();
        out.read_to_string(&mut text).map(|_| text)
    });
    let said = std::thread::spawn(move || {
        let mut text = String::new();
        err.read_to_string(&mut text).map(|_| text)
    });
    expect_end(child);
    let text = reader.join().expect("it reads").expect("it is text");
    assert!(text.lines().all(|part| part == line.trim_end() || part == line), "whole lines only");
    let said = said.join().expect("it reads").expect("it is text");
    assert!(said.contains("stopped, every key is let go"), "{said}");
}
