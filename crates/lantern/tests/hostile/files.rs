//! Files that block whoever opens them, never end, or lead elsewhere.

use std::path::Path;

use rustix::fs::{CWD, Mode, mkfifoat};

use super::receiver::{Desk, FIRES};
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
fn x11_rules_that_lead_into_a_pipe_or_a_device_stop_no_running_set() {
    let mut desk = Desk::set_up();
    lay_traps(desk.display.folder());
    let mut running = Running::start(&desk.display, FIRES);
    for line in LINES {
        std::fs::write(&running.file, format!("{line}{FIRES}")).expect("it is ours");
        running.wait_for("rules from before");
        desk.expect_plain_keys();
    }
    desk.expect_keys_at_once();
    // The file itself becomes a pipe.
    std::fs::rename(desk.display.folder().join("pipe.lantern"), &running.file)
        .expect("they are ours");
    running.wait_for("is no regular file");
    desk.expect_keys_at_once();
    desk.expect_panic();
    running.stop();
}
