//! What must never happen to who has the keyboard to itself.

use std::os::unix::process::ExitStatusExt;
use std::time::{Duration, Instant};

use lantern_stage::{Came, Console, Plugged, Talking};
use rustix::process::Signal;

use crate::passing::press_until_fired;
use crate::running::{Running, Who};

const SCREEN: (i32, i32) = (1280, 800);
const F6: u16 = 64;
const F9: u16 = 67;
const A: u16 = 30;
const SHIFT: u16 = 42;
const END: u16 = 107;

/// Five at a time, each with a keyboard and a key of its own.
pub fn fifty_times_killed_with_keys_held_leaves_nothing_down() {
    const AT_ONCE: usize = 5;
    let letters = ["b", "c", "d", "e", "f"];
    let mut boards: Vec<Plugged> =
        (0..AT_ONCE).map(|number| Plugged::keyboard(&format!("Bench {number}"))).collect();
    let mut console = Console::open(SCREEN);
    for round in 0..50 / AT_ONCE {
        let mut running: Vec<Running> = (0..AT_ONCE)
            .map(|number| {
                let letter = letters[number];
                let rules =
                    format!("when key f6 {{ hold shift+ctrl {{ press {letter}; wait }} }}\n");
                let board = format!("Bench {number}");
                Running::begin(&rules, &["--device", &board], &Who::default())
            })
            .collect();
        running.iter_mut().for_each(|running| drop(running.expect("active on")));
        // Their keyboards are opened before a key comes from them: what came earlier is nobody's.
        console.read();
        boards.iter_mut().for_each(|board| board.keys(&[(F6, 1), (F6, 0)]));
        let held = AT_ONCE + 2;
        console.until("what the rules hold", |console| console.keys_down().len() == held);
        if round % 2 == 0 {
            boards[0].key(A, 1);
            console.until("the finger's key", |console| console.keys_down().len() == held + 1);
        }
        running.iter().for_each(|running| running.send(Signal::KILL));
        for running in &mut running {
            running.wait();
        }
        console.until("the release", |console| console.keys_down().is_empty());
        boards[0].key(A, 0);
        for board in &mut boards {
            console.clear();
            board.keys(&[(A, 1), (A, 0)]);
            console.until("typing", |console| console.text() == "a");
        }
    }
}

pub fn one_that_is_stopped_gives_the_keyboard_back_within_a_second() {
    let mut board = Plugged::keyboard("Bench keyboard");
    let mut running = Running::start("when key f9 => type \"x\"\n", "Bench");
    let mut console = Console::open(SCREEN);
    console.clear();
    running.send(Signal::STOP);
    let began = Instant::now();
    while console.text().is_empty() {
        assert!(began.elapsed() < Duration::from_secs(1), "the keyboard is dead");
        board.keys(&[(A, 1), (A, 0)]);
        console.read_for(Duration::from_millis(20));
    }
    running.expect("it was ended, and the keyboard is free");
    assert_eq!(running.wait().signal(), Some(9));
}

pub fn the_panic_keys_give_the_keyboard_back_at_once() {
    let mut board = Plugged::keyboard("Bench keyboard");
    let rules = "when key f6 { hold shift { wait } }\nwhen key f9 => type \"x\"\n";
    let mut running = Running::start(rules, "Bench");
    let mut console = Console::open(SCREEN);
    board.keys(&[(F6, 1), (F6, 0)]);
    console.until("what the rule holds", |console| !console.keys_down().is_empty());
    let panic = [29, 56, SHIFT, 1];
    panic.iter().for_each(|code| board.key(*code, 1));
    running.expect("panic");
    panic.iter().rev().for_each(|code| board.key(*code, 0));
    console.until("the release", |console| console.keys_down().is_empty());
    console.clear();
    // It is nobody's now: the key itself comes, from the person's own board.
    assert!(!is_taken(&board), "no program has it");
    board.keys(&[(F9, 1), (F9, 0)]);
    let itself = [Came { code: F9, value: 1 }, Came { code: F9, value: 0 }];
    console.until("the key itself", |console| console.keys() == itself);
    let resumed = std::process::Command::new(crate::LANTERN)
        .arg("resume")
        .env("XDG_RUNTIME_DIR", running.home())
        .output()
        .expect("it starts");
    assert!(resumed.status.success());
    press_until_fired(&mut board, &mut console, "x");
    console.clear();
    board.keys(&[(F9, 1), (F9, 0)]);
    console.until("the text", |console| console.text() == "x");
    // The combination pressed again and held resumes as the command does.
    panic.iter().for_each(|code| board.key(*code, 1));
    running.expect("panic: 0 runs");
    panic.iter().rev().for_each(|code| board.key(*code, 0));
    panic.iter().for_each(|code| board.key(*code, 1));
    running.expect("rules are active again");
    panic.iter().rev().for_each(|code| board.key(*code, 0));
    console.rest(Duration::from_millis(300));
    press_until_fired(&mut board, &mut console, "x");
}

/// Whether a program has the keyboard to itself.
fn is_taken(board: &Plugged) -> bool {
    let mut device = evdev::Device::open(board.node()).expect("it is there");
    // The kernel ends a grab with the descriptor.
    device.grab().is_err()
}

pub fn a_reader_that_fell_behind_knows_what_is_down() {
    let mut board = Plugged::keyboard("Bench keyboard");
    let rules =
        "when key f9 => type \"x\"\nwhen key shift+f6 => type \"s\"\nwhen key f6 => type \"n\"\n";
    let running = Running::start(rules, "Bench");
    let mut console = Console::open(SCREEN);
    running.send(Signal::STOP);
    // More than the kernel keeps for a reader.
    for _ in 0..600 {
        board.keys(&[(A, 1), (A, 0)]);
    }
    board.key(SHIFT, 1);
    running.send(Signal::CONT);
    console
        .until("shift", |console| console.keys_down().iter().any(|key| key.name() == "left-shift"));
    // Behind what the kernel kept.
    board.keys(&[(END, 1), (END, 0)]);
    let end = Came { code: END, value: 0 };
    console.until("the last key", |console| console.keys().contains(&end));
    console.clear();
    board.keys(&[(F6, 1), (F6, 0)]);
    console.until("the answer", |console| console.text() == "s");
    board.key(SHIFT, 0);
    board.keys(&[(F6, 1), (F6, 0)]);
    console.until("the answer", |console| console.text() == "sn");
    console.until("the release", |console| console.keys_down().is_empty());
}

pub fn a_port_that_belongs_to_others_names_their_group() {
    const INPUT: u32 = 104;
    let folder = tempfile::tempdir().expect("it can be made");
    let rules = "device drill = serial \"/dev/ttyS0\" at 9600\nwhen line from drill => log \"x\"\n";
    std::fs::write(folder.path().join("rules.lantern"), rules).expect("it can be written");
    for path in [std::path::Path::new("/dev/ttyS0"), folder.path()] {
        std::os::unix::fs::chown(path, None, Some(INPUT)).expect("we are root");
        let mode = std::os::unix::fs::PermissionsExt::from_mode(0o750);
        std::fs::set_permissions(path, mode).expect("we are root");
    }
    std::os::unix::fs::chown(folder.path(), Some(65534), None).expect("we are root");
    let mut command = std::process::Command::new(crate::LANTERN);
    command
        .args(["run", "--backend", "simulated", "rules.lantern"])
        .current_dir(folder.path())
        .env("HOME", folder.path())
        .env("XDG_RUNTIME_DIR", folder.path());
    std::os::unix::process::CommandExt::uid(&mut command, 65534);
    std::os::unix::process::CommandExt::gid(&mut command, 65534);
    let mut running = Talking::start(&mut command);
    let said = running.expect("may not be opened");
    assert!(said.contains("belongs to the group input"), "{said}");
    assert!(said.contains("usermod -aG input"), "{said}");
}

pub fn an_ordinary_user_of_the_group_may_and_others_are_told_how() {
    const NOBODY: u32 = 65534;
    const INPUT: u32 = 104;
    let mut board = Plugged::keyboard("Bench keyboard");
    let nobody = Who { user: Some(NOBODY), group: Some(NOBODY) };
    let mut refused = Running::begin("when key f9 => type \"x\"\n", &[], &nobody);
    refused.expect("cannot use /dev/uinput");
    let help = refused.expect("help");
    assert!(help.contains("usermod -aG input") && help.contains("udev rule"), "{help}");
    assert_eq!(refused.wait().code(), Some(2));
    // What the udev rule and the system's own rules do.
    let nodes = std::fs::read_dir("/dev/input").expect("it is there").flatten();
    for path in nodes.map(|node| node.path()).chain(["/dev/uinput".into()]) {
        std::os::unix::fs::chown(&path, None, Some(INPUT)).expect("we are root");
        let mode = std::os::unix::fs::PermissionsExt::from_mode(0o660);
        std::fs::set_permissions(&path, mode).expect("we are root");
    }
    let member = Who { user: Some(NOBODY), group: Some(INPUT) };
    let mut running =
        Running::begin("when key f9 => type \"x\"\n", &["--device", "Bench"], &member);
    running.expect("active on");
    let mut console = Console::open(SCREEN);
    console.clear();
    board.keys(&[(F9, 1), (F9, 0)]);
    console.until("the text", |console| console.text() == "x");
}
