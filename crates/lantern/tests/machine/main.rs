//! The kernel desk on a kernel of its own, with real input devices, which a machine for building seldom has.
//!
//! Run as a test it boots a small virtual machine once, with this very program and `lantern` in it. In there
//! each test plugs in a keyboard and a mouse of its own and reads what comes through; what it prints is what
//! is printed here. `cargo test --test machine NAME` runs those with NAME in theirs.

#[path = "../../../lantern-backend/tests/contract/clauses.rs"]
mod clauses;
mod contract;
mod faults;
mod passing;
mod rules;
mod running;
#[path = "../twelve/mod.rs"]
mod twelve;

use std::panic::catch_unwind;
use std::path::Path;
use std::process::{Command, ExitCode};

/// Set inside the machine.
const INSIDE: &str = "LANTERN_MACHINE";
/// Where the program under test is inside.
const LANTERN: &str = "/bin/lantern";

/// A test: its name and what it does.
type Test = (&'static str, fn());

/// The tests of a module, by their names.
macro_rules! listed {
    ($module:ident; $($name:ident)*) => {
        &[$((concat!("kernel::", stringify!($module), "::", stringify!($name)), $module::$name as fn()),)*]
    };
}

const CONTRACT: &[Test] = clauses::with_clauses! { listed; contract };
const RULES: &[Test] = listed! { rules;
    the_twelve_scenes_come_out_as_on_the_other_desks
    what_the_administrator_forbids_does_not_run
    a_mouse_button_and_the_wheel_are_keys_of_rules
    only_the_second_keyboard_counts
    a_shape_is_drawn_with_the_mouse
    a_shape_drawn_while_we_had_no_time_is_seen_whole
    a_pen_goes_through_but_for_the_parts_that_rules_want
};
const PASSING: &[Test] = listed! { passing;
    two_thousand_keys_go_through_unchanged_and_in_order_while_rules_fire
    repeats_go_through_and_lamps_are_lit
    a_keyboard_is_taken_only_when_no_key_is_down
    a_keyboard_that_comes_is_taken_and_one_that_goes_leaves_nothing_down
    devices_are_chosen_and_left_out_by_name
};
const FAULTS: &[Test] = listed! { faults;
    fifty_times_killed_with_keys_held_leaves_nothing_down
    one_that_is_stopped_gives_the_keyboard_back_within_a_second
    the_panic_keys_give_the_keyboard_back_at_once
    a_reader_that_fell_behind_knows_what_is_down
    a_port_that_belongs_to_others_names_their_group
    an_ordinary_user_of_the_group_may_and_others_are_told_how
};

/// All of them.
fn tests() -> impl Iterator<Item = &'static Test> {
    [CONTRACT, RULES, PASSING, FAULTS].into_iter().flatten()
}

fn main() -> ExitCode {
    let filter = std::env::args().skip(1).find(|word| !word.starts_with('-')).unwrap_or_default();
    let chosen: Vec<&Test> = tests().filter(|(name, _)| name.contains(&filter)).collect();
    if std::env::args().any(|word| word == "--list") {
        chosen.iter().for_each(|(name, _)| println!("{name}: test"));
        return ExitCode::SUCCESS;
    }
    if std::env::var_os(INSIDE).is_some() {
        return run(&chosen);
    }
    if chosen.is_empty() {
        println!(
            "test result: ok. 0 passed; 0 failed; 0 ignored; 0 measured; {} filtered out",
            tests().count()
        );
        return ExitCode::SUCCESS;
    }
    boot(&filter)
}

/// Boots the machine with this program in it.
fn boot(filter: &str) -> ExitCode {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let own = std::env::current_exe().expect("we are somewhere");
    // Without what only debuggers read the machine starts several times as fast.
    let folder = tempfile::tempdir().expect("it can be made");
    let stripped = |program: &Path| {
        let slim = folder.path().join(program.file_name().expect("it is a file"));
        let status =
            Command::new("strip").arg("--strip-debug").arg("-o").arg(&slim).arg(program).status();
        assert!(status.expect("strip comes with the compiler").success());
        slim.display().to_string()
    };
    let status = Command::new(root.join("scripts/machine"))
        .args(["--timeout", "500"])
        .arg("--file")
        .arg(format!("{}:/bin/machine-tests", stripped(&own)))
        .arg("--file")
        .arg(format!("{}:{LANTERN}", stripped(Path::new(env!("CARGO_BIN_EXE_lantern")))))
        .args(["--", "env", &format!("{INSIDE}=1"), "/bin/machine-tests", filter])
        .status()
        .expect("scripts/machine can be started");
    if status.success() { ExitCode::SUCCESS } else { ExitCode::FAILURE }
}

fn run(chosen: &[&Test]) -> ExitCode {
    println!("\nrunning {} tests on a kernel of their own", chosen.len());
    let began = std::time::Instant::now();
    let mut failed = 0;
    for (name, test) in chosen {
        let outcome = catch_unwind(test);
        failed += usize::from(outcome.is_err());
        println!("test {name} ... {}", if outcome.is_ok() { "ok" } else { "FAILED" });
    }
    let word = if failed == 0 { "ok" } else { "FAILED" };
    println!(
        "\ntest result: {word}. {} passed; {failed} failed; 0 ignored; 0 measured; {} filtered out; finished in {:.2}s\n",
        chosen.len() - failed,
        tests().count() - chosen.len(),
        began.elapsed().as_secs_f64()
    );
    if failed == 0 { ExitCode::SUCCESS } else { ExitCode::FAILURE }
}
