//! Files that block on opening, never end, or lead elsewhere.

use std::path::Path;
use std::process::Stdio;

use rustix::fs::{CWD, Mode, mkfifoat};

use super::receiver::{FIRES, TestDesktop};
use crate::home::Home;
use crate::running::Running;

/// Puts a pipe without another end, and ways to devices that never end, into a folder.
fn lay_traps(folder: &Path) {
    for name in ["pipe.lantern", "pipe.csv", "pipe.scene"] {
        mkfifoat(CWD, folder.join(name), Mode::from_raw_mode(0o600)).expect("it can be made");
    }
    for (name, device) in
        [("zero.csv", "/dev/zero"), ("zero.lantern", "/dev/zero"), ("noise.svg", "/dev/urandom")]
    {
        std::os::unix::fs::symlink(device, folder.join(name)).expect("it can be made");
    }
}

/// Lines that lead into a trap each.
const LINES: [&str; 7] = [
    "use \"pipe.lantern\" as x\n",
    "use \"zero.lantern\" as x\n",
    "use \"/dev/zero\" as x\n",
    "shape s = drawn \"pipe.csv\"\n",
    "shape s = drawn \"zero.csv\"\n",
    "shape s = drawn \"noise.svg\"\n",
    "shape s = drawn \"/dev/zero\"\n",
];

#[test]
fn a_file_that_never_comes_or_never_ends_is_a_finding() {
    let home = Home::new();
    lay_traps(home.path());
    for line in LINES {
        home.write("bench.lantern", line);
        let called = home.call(&["check", "bench.lantern"]);
        assert_eq!(called.status, 1, "{line}: {}{}", called.stdout, called.stderr);
    }
}

#[test]
fn drawings_of_any_numbers_are_read_or_refused() {
    let home = Home::new();
    home.write("bench.lantern", "shape s = drawn \"d.csv\"\nshape t = drawn \"d.svg\"\n");
    let csv = ["drawing,stroke,x,y\n0,0,1,1\n0,0,9,9\n", "x,y\n1e39,1\n1,2\n", "x,y\nNaN,1\n"];
    let svg = ["<svg><path d=\"M0 0 L1e999 5\"/></svg>", "<svg><path d=\"L1 1\"/></svg>", "<svg>"];
    for (csv, svg) in csv.into_iter().zip(svg) {
        home.write("d.csv", csv);
        home.write("d.svg", svg);
        let called = home.call(&["check", "bench.lantern"]);
        assert_eq!(called.status, 1, "{csv}{svg}{}{}", called.stdout, called.stderr);
    }
}

#[test]
fn x11_rules_that_lead_into_a_pipe_or_a_device_stop_no_running_set() {
    let mut desk = TestDesktop::set_up();
    lay_traps(desk.display.folder());
    let mut running = Running::start(&desk.display, FIRES);
    for line in LINES {
        std::fs::write(&running.file, format!("{line}{FIRES}")).expect("it is ours");
        running.wait_for("rules from before");
        desk.expect_plain_keys();
    }
    desk.expect_keys_at_once(running.child.id());
    // The file itself becomes a pipe.
    std::fs::rename(desk.display.folder().join("pipe.lantern"), &running.file)
        .expect("they are ours");
    running.wait_for("is no regular file");
    desk.expect_keys_at_once(running.child.id());
    desk.expect_panic();
    running.stop();
}

#[test]
fn x11_a_large_set_that_is_saved_and_asked_for_again_delays_no_key() {
    let mut desk = TestDesktop::set_up();
    let mut running = Running::start(&desk.display, FIRES);
    let macros: String = (0..5_000)
        .map(|number| format!("macro shelve-{number}(core) {{ log \"{{core}} {number}\" }}\n"))
        .collect();
    std::fs::write(&running.file, format!("{FIRES}{macros}")).expect("it is ours");
    desk.expect_keys_at_once(running.child.id());
    running.wait_for("reloaded: 2 rules");
    // Requests that come while the files are read are answered when they were read after that.
    let asked: Vec<_> = (0..8)
        .map(|_| {
            let mut command = desk.display.command(env!("CARGO_BIN_EXE_lantern"));
            command.arg("reload").stdout(Stdio::piped()).spawn().expect("it starts")
        })
        .collect();
    desk.expect_keys_at_once(running.child.id());
    for child in asked {
        let answer = child.wait_with_output().expect("it ends");
        let said = String::from_utf8_lossy(&answer.stdout);
        assert!(answer.status.success() && said.contains("2 rules"), "{said}");
    }
    desk.expect_panic();
    running.stop();
}

/// Shapes of turns that differ, each drawn by a rule.
fn shapes(count: usize) -> String {
    let words = ["up", "right", "down-left", "left", "down-right"];
    let shape = |number: usize| {
        let turns = [1, 5, 25, 125].map(|scale| words[number / scale % words.len()]);
        let path = turns.join(" ");
        format!(
            "shape s{number} = path \"{path}\" mirrored\nwhen gesture s{number} while holding f8 => log \"x\"\n"
        )
    };
    (0..count).map(shape).collect()
}

/// Small files that stand for a great deal: each is refused or read within a gigabyte of memory.
#[test]
fn a_file_that_stands_for_a_great_deal_is_read_in_bounded_memory() {
    let home = Home::new();
    let voices: String =
        (0..500).map(|number| format!("when voice \"core {number}\" => log \"x\"\n")).collect();
    let any: Vec<String> = (0..10_000).map(|number| format!("voice \"core {number}\"")).collect();
    let files = [
        ("sum", format!("let n = {}1\n", "1 + ".repeat(10_000)), 1),
        ("truth", format!("when key f9 if {}true => log \"x\"\n", "true and ".repeat(10_000)), 1),
        ("keys", format!("when keys a{} within 1s => log \"x\"\n", ", b".repeat(100_000)), 1),
        ("sets", "when keys [a..z], [a..z], [a..z], [a..z] within 1s => log \"x\"\n".to_owned(), 1),
        ("typed", format!("when typed \"{}\" => log \"x\"\n", "x".repeat(1_000_000)), 1),
        ("path", format!("shape s = path \"{}\"\n", "right ".repeat(200_000)), 1),
        ("shapes", shapes(300), 1),
        ("many-shapes", shapes(301), 1),
        // A warning for each.
        ("alike", voices, 1),
        ("any", format!("when {} => log \"x\"\n", any.join(" or ")), 0),
    ];
    for (name, text, status) in files {
        home.write(&format!("{name}.lantern"), text);
        let program = env!("CARGO_BIN_EXE_lantern");
        let line = format!("ulimit -v 1000000; exec '{program}' check {name}.lantern");
        let mut shell = std::process::Command::new("sh");
        let called = shell.args(["-c", &line]).current_dir(home.path()).output();
        let called = called.expect("there is a shell");
        let words = String::from_utf8_lossy(&called.stderr);
        assert_eq!(called.status.code(), Some(status), "{name}: {words}");
    }
}
