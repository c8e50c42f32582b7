//! Which running program a command speaks to, and the order in which failures are reported.

use lantern_stage::Talking;

use crate::at_work;
use crate::home::Home;

/// A `run` in the session that a variable names, once it is at work.
fn run_in(home: &Home, file: &str, session: (&str, &str)) -> Talking {
    home.write(file, "when key f9 => tap a\n");
    let words = ["run", "--backend", "simulated", file];
    let mut running = Talking::start(home.command().args(words).env(session.0, session.1));
    running.expect("active on");
    running
}

fn status_in(home: &Home, session: (&str, &str)) -> String {
    let output = home.command().arg("status").env(session.0, session.1).output();
    String::from_utf8_lossy(&output.expect("it starts").stdout).into_owned()
}

#[test]
fn two_sessions_without_an_x_display_do_not_meet() {
    for variable in ["WAYLAND_DISPLAY", "XDG_SESSION_ID", "DISPLAY"] {
        let home = Home::new();
        let (north, south) = ((variable, "7"), (variable, "8"));
        let first = run_in(&home, "north.lantern", north);
        let second = run_in(&home, "south.lantern", south);
        assert!(status_in(&home, north).contains("north.lantern"), "{variable}");
        assert!(status_in(&home, south).contains("south.lantern"), "{variable}");
        let again = home
            .command()
            .args(["run", "--backend", "simulated", "north.lantern"])
            .env(north.0, north.1)
            .output()
            .expect("it starts");
        assert!(!again.status.success(), "{variable}: one session has one");
        first.stop();
        assert!(!status_in(&home, north).contains("lantern runs"), "{variable}");
        assert!(status_in(&home, south).contains("south.lantern"), "{variable}");
        second.stop();
    }
}

#[test]
fn a_command_finds_the_one_that_runs_by_either_display() {
    let home = Home::new();
    let running = run_in(&home, "north.lantern", ("DISPLAY", ":7"));
    // A terminal of the same session may also know its Wayland display.
    let output = home
        .command()
        .arg("status")
        .env("DISPLAY", ":7.0")
        .env("WAYLAND_DISPLAY", "wayland-1")
        .output()
        .expect("it starts");
    let told = String::from_utf8_lossy(&output.stdout);
    assert!(told.contains("north.lantern"), "{told}");
    running.stop();
}

#[test]
fn steps_that_fail_at_one_moment_are_told_in_their_order() {
    let home = Home::new();
    let rules: String = (0..20).map(|n| format!("when started => run \"no-such-{n}\"\n")).collect();
    let mut running = at_work::run(&home, &rules);
    for n in 0..20 {
        let line = running.expect("no-such-");
        assert!(line.contains(&format!("no-such-{n}`")), "the {n}th was {line}");
    }
    running.stop();
}
