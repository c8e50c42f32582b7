//! How long a key takes through the kernel desk, in a machine of its own: `cargo bench --bench kernel`.
//!
//! The baseline is the same key from the same device to the same reader with no program between.
//! The machine is emulated, so only the ratio is meaningful, and only roughly.

use std::path::Path;
use std::process::{Command, ExitCode, Stdio};
use std::time::{Duration, Instant};

use lantern_stage::{Console, Plugged, Talking};

const INSIDE: &str = "LANTERN_MACHINE";
const LANTERN: &str = "/bin/lantern";
/// Presses in a turn, and turns.
const PRESSES: usize = 150;
const TURNS: usize = 4;
const A: u16 = 30;
const F9: u16 = 67;

fn main() -> ExitCode {
    if std::env::var_os(INSIDE).is_some() {
        measure();
        return ExitCode::SUCCESS;
    }
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let own = std::env::current_exe().expect("we are somewhere");
    let status = Command::new(root.join("scripts/machine"))
        .args(["--timeout", "300", "--file", &format!("{}:/bin/kernel-bench", own.display())])
        .args(["--file", &format!("{}:{LANTERN}", env!("CARGO_BIN_EXE_lantern"))])
        .args(["--", "env", &format!("{INSIDE}=1"), "/bin/kernel-bench"])
        .status()
        .expect("scripts/machine can be started");
    if status.success() { ExitCode::SUCCESS } else { ExitCode::FAILURE }
}

fn measure() {
    let mut board = Plugged::keyboard("Bench keyboard");
    let (mut baseline, mut passed, mut fired) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..TURNS {
        let mut console = Console::open((1280, 800));
        console.rest(Duration::from_millis(100));
        baseline.extend(ways(&mut board, &mut console, A));
        let folder = tempfile::tempdir().expect("it can be made");
        let rules = folder.path().join("rules.lantern");
        std::fs::write(&rules, "when key f9 => tap b\n").expect("it can be written");
        let mut command = Command::new(LANTERN);
        command
            .args(["run", "--backend", "evdev", "--device", "Bench"])
            .arg(&rules)
            .env("HOME", folder.path())
            .env("XDG_RUNTIME_DIR", folder.path())
            .stdin(Stdio::null());
        let mut running = Talking::start(&mut command);
        running.expect("active on");
        console.rest(Duration::from_millis(200));
        passed.extend(ways(&mut board, &mut console, A));
        fired.extend(ways(&mut board, &mut console, F9));
        running.stop();
    }
    let baseline = of("no program between", &mut baseline, None);
    of("a key without a rule", &mut passed, Some(baseline));
    of("a key that fires a tap", &mut fired, Some(baseline));
}

/// From each press to whatever comes of it at the reader.
fn ways(board: &mut Plugged, console: &mut Console, code: u16) -> Vec<Duration> {
    (0..PRESSES)
        .map(|_| {
            console.clear();
            let pressed = Instant::now();
            board.key(code, 1);
            while console.keys().is_empty() {
                console.read();
            }
            let way = pressed.elapsed();
            board.key(code, 0);
            console.rest(Duration::from_millis(4));
            way
        })
        .collect()
}

fn of(what: &str, ways: &mut [Duration], baseline: Option<Duration>) -> Duration {
    ways.sort_unstable();
    let (median, late) = (ways[ways.len() / 2], ways[ways.len() * 99 / 100]);
    let ratio = baseline.map_or_else(String::new, |baseline| {
        format!(", {:.2} of the baseline", median.as_secs_f64() / baseline.as_secs_f64())
    });
    println!("{what}: half within {median:.2?}, 99 % within {late:.2?}{ratio}");
    median
}
