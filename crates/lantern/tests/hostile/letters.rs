//! What the person types, looked for where it could be read.

use std::os::unix::fs::{MetadataExt, PermissionsExt, chown};
use std::os::unix::process::CommandExt;
use std::process::Stdio;

use lantern_stage::Talking;
use serde_json::Value;

use super::receiver::TestDesktop;
use crate::home::Home;
use crate::running::{Running, lantern};

/// The number of a user whom no test runs as.
const NOBODY: u32 = 65_534;

#[test]
fn x11_rules_on_letters_tell_nobody_which_letters_were_typed() {
    let mut desk = TestDesktop::set_up();
    let log = desk.display.folder().join("lantern.log");
    let rules = "when key [a..z] as k passing again overlaps { }\n\
                 when key 5 => log \"five\"\nwhen key f9 => log \"nine\"\n";
    let running = Running::start_with(&desk.display, rules, |command| {
        *command = desk.display.command(env!("CARGO_BIN_EXE_lantern"));
        command.args(["run", "--log-level", "debug", "--log-file"]).arg(&log);
        command.arg(desk.display.folder().join("bench.lantern"));
        command.stdout(Stdio::null()).stderr(Stdio::piped());
    });
    for letter in ["q", "j", "v"] {
        desk.person.tap(letter);
    }
    desk.person.tap("5");
    desk.person.tap("f9");
    desk.display.wait_until("the last rule to have fired", |display| {
        let answer = lantern(display, &["why", "--json"]).stdout;
        String::from_utf8_lossy(&answer).contains("fired by f9")
    });
    let mut told = String::new();
    for back in 1..=5 {
        let back = back.to_string();
        let answer = lantern(&desk.display, &["why", &back]);
        told += &String::from_utf8_lossy(&answer.stdout);
    }
    assert_eq!(told.matches("fired by a key that types").count(), 3, "{told}");
    for letter in ["q", "j", "v"] {
        let answer = lantern(&desk.display, &["why", letter, "--json"]).stdout;
        let why: Value = serde_json::from_slice(&answer).expect("it is JSON");
        assert_eq!(why["seen"], Value::Null, "{why}");
    }
    running.stop();
    told += &std::fs::read_to_string(&log).expect("it was written");
    assert!(told.contains("pressed a key that types") && told.contains("pressed f9"), "{told}");
    for letter in ["q", "j", "v"] {
        for words in ["fired by", "pressed", "let go"] {
            assert!(!told.contains(&format!("{words} {letter}\n")), "{told}");
        }
    }
}

/// The kernel gives what it shows of a process that may not be dumped to root.
#[test]
fn the_memory_of_a_session_is_in_no_core_dump_and_open_to_no_other_process() {
    let home = Home::new();
    home.write("bench.lantern", "when started => log \"here\"\n");
    let program = home.path().join("lantern");
    std::fs::copy(env!("CARGO_BIN_EXE_lantern"), &program).expect("there is room");
    let mut command = home.command_of(&program);
    command.args(["run", "--backend", "simulated", "bench.lantern"]);
    // Root may see everything, and owns its processes either way.
    if rustix::process::geteuid().is_root() {
        std::fs::set_permissions(&program, PermissionsExt::from_mode(0o755)).expect("it is ours");
        give_to(home.path(), NOBODY);
        command.uid(NOBODY).gid(NOBODY);
    }
    let mut run = Talking::start(&mut command);
    run.expect("here");
    let about = std::fs::metadata(format!("/proc/{}/environ", run.pid().as_raw_nonzero()));
    assert_eq!(about.expect("it runs").uid(), 0);
    run.stop();
}

fn give_to(path: &std::path::Path, user: u32) {
    chown(path, Some(user), Some(user)).expect("we are root");
    if path.is_dir() {
        let files = std::fs::read_dir(path).expect("it is there").flatten();
        files.for_each(|file| give_to(&file.path(), user));
    }
}
