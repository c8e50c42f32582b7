//! `lantern demo`: the shipped example on a simulated desktop, and a few rules with devices that are stood in for.

use std::io::{BufRead, BufReader};
use std::process::{Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::thread;
use std::time::Duration;

use lantern_devices::{Pedals, serve_fans};
use lantern_script::scene::parse_scene;
use lantern_script::{Source, check};
use rustix::process::{Pid, Signal, kill_process};
use serde::Serialize;

use crate::arguments::DemoArguments;
use crate::commands::print_json;
use crate::failure::{Failure, Status};
use crate::guardian::OWN_PROGRAM;
use crate::timeline::Row;
use crate::{player, style};

/// The shipped example: the logging bench of an ice-core store.
pub const EXAMPLE_RULES: &str = include_str!("../../../../examples/bench.lantern");
/// What happens at the bench in one night.
pub const EXAMPLE_SCENE: &str = include_str!("../../../../examples/night.scene");
/// Rules for a pedal board and a fan controller.
pub const DEVICE_RULES: &str = include_str!("../../../../examples/devices.lantern");

/// How often the contact of the pedal bounces.
const BOUNCES: usize = 5;
/// The longest that anything of the devices is waited for.
const PATIENCE: Duration = Duration::from_secs(10);

#[derive(Serialize)]
struct Report {
    version: u32,
    rows: Vec<Row>,
    devices: Vec<String>,
}

pub fn run(arguments: &DemoArguments) -> Result<Status, Failure> {
    let checked = check(&Source::new("bench.lantern", EXAMPLE_RULES));
    let rules = checked.rules.expect("the shipped example is checked by the tests");
    let (scene, _) = parse_scene(&Source::new("night.scene", EXAMPLE_SCENE));
    let played = player::play(&rules, &scene);
    if arguments.json {
        let rows = played.timeline.rows();
        print_json(&Report { version: 1, rows, devices: with_devices().unwrap_or_default() });
        return Ok(Status::Done);
    }
    crate::style::say!(
        "The logging bench of an ice-core store, on a simulated desktop: {} rules.\n\
         All that comes in is scripted: the keys and windows of the scene night.scene.\n",
        rules.rules.len()
    );
    played.timeline.print();
    crate::style::say!(
        "\nThe same bench with devices: a pedal board on a serial port and a fan controller on the network,\n\
         both stood in for, and both spoken with for real.\n"
    );
    match with_devices() {
        Ok(lines) => lines.iter().for_each(|line| crate::style::say!("  {line}")),
        // Where there are neither pseudo-terminals nor ports, the rest of the demo stands.
        Err(failure) => crate::style::say!("  left out here: {failure}"),
    }
    crate::style::say!(
        "\n{}Three things to try next{0:#}\n\
         \x20 lantern new my-desk\n\
         \x20     writes this example as files\n\
         \x20 lantern rehearse my-desk/bench.lantern my-desk/night.scene\n\
         \x20     plays it as a test; change it and play again\n\
         \x20 lantern run my-desk/bench.lantern\n\
         \x20     puts it to work on your desktop",
        style::HEAD
    );
    Ok(if played.unmet.is_empty() { Status::Done } else { Status::Found })
}

/// Runs rules with devices that are stood in for, and tells what came of a pedal.
fn with_devices() -> Result<Vec<String>, Failure> {
    let failed = |source| Failure::System { what: "cannot stand in for devices", source };
    let folder = tempfile::tempdir().map_err(failed)?;
    let (fans, changes) = stand_in_fans()?;
    let pedals = Pedals::plug_in(Some(&folder.path().join("pedals"))).map_err(failed)?;
    let rules = DEVICE_RULES.replace("127.0.0.1:4710", &fans);
    let file = folder.path().join("devices.lantern");
    std::fs::write(&file, rules).map_err(failed)?;
    let mut program = Command::new(OWN_PROGRAM)
        .args(["run", "--desk", "simulated"])
        .arg(&file)
        .current_dir(folder.path())
        .env("XDG_RUNTIME_DIR", folder.path())
        .env_remove("DISPLAY")
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .map_err(failed)?;
    let said = BufReader::new(program.stdout.take().expect("it is piped"));
    let (sender, lines) = channel();
    thread::spawn(move || {
        for line in said.lines().map_while(Result::ok) {
            let _ = sender.send(line);
        }
    });
    let told = press_a_pedal(&pedals, &lines, &changes);
    // Its end is all that is waited for.
    let _ = kill_process(Pid::from_child(&program), Signal::TERM);
    let _ = program.wait();
    Ok(told)
}

/// The controller, at an address of its own, and what changes there.
fn stand_in_fans() -> Result<(String, Receiver<String>), Failure> {
    let (ready, address) = channel();
    let (changed, changes) = channel();
    thread::spawn(move || {
        let zones = ["saw", "hall"].map(str::to_owned);
        let ready = move |address| ready.send(address).unwrap_or_default();
        // Where nobody may listen, the address does not come.
        let _ = serve_fans(0, &zones, ready, move |change| drop(changed.send(change.to_owned())));
    });
    let source = || std::io::Error::other("no port of this machine is free");
    let address: std::net::SocketAddr = address
        .recv_timeout(PATIENCE)
        .map_err(|_| Failure::System { what: "cannot stand in for the fans", source: source() })?;
    Ok((address.to_string(), changes))
}

fn press_a_pedal(
    pedals: &Pedals,
    lines: &Receiver<String>,
    changes: &Receiver<String>,
) -> Vec<String> {
    let next = |from: &Receiver<String>| {
        from.recv_timeout(PATIENCE).unwrap_or_else(|_| "nothing came".to_owned())
    };
    let mut told = vec![format!("at work        {}", next(lines))];
    let sent = (0..BOUNCES).filter(|_| pedals.send(b"left\r\n").is_ok()).count();
    told.push(format!("left pedal     {sent} lines came in, as its contact bounces"));
    told.push(format!("one rule       {}", next(lines)));
    told.push(format!("the fans       {}", next(changes)));
    told.push(format!("asked again    {}", next(lines)));
    told
}
