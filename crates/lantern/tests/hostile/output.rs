//! Output that is not read.

use std::fs::File;
use std::io::{Read, Write};
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::process::{Child, Command, Stdio};

use lantern_stage::{Display, wait_until};
use rustix::process::{Pid, Signal, kill_process};
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};

use super::receiver::{Desk, FIRES};
use crate::running::lantern;

/// Stops and continues the output of a terminal.
const CTRL_S: &[u8] = b"\x13";
const CTRL_Q: &[u8] = b"\x11";

/// A terminal with its two ends.
fn terminal() -> (File, File) {
    let master = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).expect("there are terminals");
    grantpt(&master).expect("it is ours");
    unlockpt(&master).expect("it is ours");
    let name = ptsname(&master, Vec::new()).expect("it has a name");
    let path = std::ffi::OsStr::from_bytes(name.as_bytes());
    let slave = File::options().read(true).write(true).open(path).expect("it can be opened");
    (File::from(master), slave)
}

fn command(display: &Display, rules: &str) -> Command {
    let file = display.folder().join("bench.lantern");
    std::fs::write(&file, rules).expect("the file can be written");
    let mut command = display.command(env!("CARGO_BIN_EXE_lantern"));
    command.args(["run", "--verbose"]).arg(&file);
    command
}

fn wait_for_work(display: &Display) {
    display.wait_until("the rules to be at work", |display| {
        lantern(display, &["status"]).status.success()
    });
}

fn expect_end(mut child: Child) {
    let pid = Pid::from_child(&child);
    kill_process(pid, Signal::TERM).expect("it runs");
    let mut status = None;
    wait_until("the program to end", || {
        status = child.try_wait().expect("it can be waited for");
        status.is_some()
    });
    assert!(status.is_some_and(|status| status.success()), "{status:?}");
}

#[test]
fn x11_a_terminal_that_is_stopped_with_ctrl_s_stops_nothing_else() {
    let mut desk = Desk::set_up();
    let (mut master, slave) = terminal();
    let end = || Stdio::from(OwnedFd::from(slave.try_clone().expect("it can be cloned")));
    let rules = format!("{FIRES}when key f7 => log \"seven\"\n");
    let mut command = command(&desk.display, &rules);
    let child = command.stdin(end()).stdout(end()).stderr(end()).spawn().expect("it starts");
    wait_for_work(&desk.display);
    master.write_all(CTRL_S).expect("the terminal is there");
    for _ in 0..3 {
        desk.person.tap("f7");
        desk.expect_keys_at_once();
    }
    master.write_all(CTRL_Q).expect("the terminal is there");
    let mut read = String::new();
    let mut bytes = [0; 4096];
    while read.matches("seven").count() < 3 {
        let count = master.read(&mut bytes).expect("the terminal is there");
        read.push_str(&String::from_utf8_lossy(&bytes[..count]));
    }
    assert!(!read.contains("left out"), "{read}");
    master.write_all(CTRL_S).expect("the terminal is there");
    desk.person.tap("f7");
    desk.expect_panic();
    expect_end(child);
}

#[test]
fn x11_a_pipe_that_nobody_reads_stops_nothing_else() {
    let mut desk = Desk::set_up();
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
    desk.expect_keys_at_once();
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
