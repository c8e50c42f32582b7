//! `lantern demo`: the shipped example on a simulated desktop, a few rules with devices that are stood in for,
//! and a few that are spoken to.

#[cfg(any(feature = "audio", feature = "net"))]
mod at_work;
#[cfg(feature = "net")]
mod devices;
#[cfg(feature = "audio")]
mod speech;

use lantern_script::scene::parse_scene;
use lantern_script::{Source, check};
use serde::Serialize;

use crate::arguments::DemoArguments;
use crate::commands::print_json;
use crate::failure::{Failure, Status};
use crate::timeline::TimelineRow;
use crate::{rehearsal, style};

/// The shipped example: the logging bench of an ice-core store.
pub const EXAMPLE_RULES: &str = include_str!("../../../../../examples/bench.lantern");
/// What happens at the bench in one night.
pub const EXAMPLE_SCENE: &str = include_str!("../../../../../examples/night.scene");
/// Rules for a pedal board and a fan controller.
pub const DEVICE_RULES: &str = include_str!("../../../../../examples/devices.lantern");
/// Rules that are spoken to.
pub const SPOKEN_RULES: &str = include_str!("../../../../../examples/spoken.lantern");

#[derive(Serialize)]
struct DemoReport {
    version: u32,
    rows: Vec<TimelineRow>,
    devices: Vec<String>,
    speech: Vec<String>,
}

pub fn run(arguments: &DemoArguments) -> Result<Status, Failure> {
    let checked = check(&Source::new("bench.lantern", EXAMPLE_RULES));
    let rules = checked.rules.expect("the shipped example is checked by the tests");
    let (scene, _) = parse_scene(&Source::new("night.scene", EXAMPLE_SCENE));
    let played = rehearsal::play(&rules, &scene);
    if arguments.json {
        let rows = played.timeline.rows();
        let devices = devices_told().unwrap_or_default();
        let speech = speech_heard().unwrap_or_default();
        print_json(&DemoReport { version: 1, rows, devices, speech });
        return Ok(Status::Done);
    }
    crate::output::say!(
        "The logging bench of an ice-core store, on a simulated desktop: {} rules.\n\
         All that comes in is scripted: the keys and windows of the scene night.scene.\n",
        rules.rules.len()
    );
    played.timeline.print();
    crate::output::say!(
        "\nThe same bench with devices: a pedal board on a serial port and a fan controller on the network,\n\
         both stood in for, and both spoken with for real.\n"
    );
    show(devices_told());
    crate::output::say!(
        "\nThe same bench by voice: two rules behind the word \"lantern\", recordings that ship with the example,\n\
         and then a program that hears in the place of a recogniser.\n"
    );
    show(speech_heard());
    crate::output::say!(
        "\n{}Three things to try next{0:#}\n\
         \x20 lantern new my-desk\n\
         \x20     writes this example as files\n\
         \x20 lantern rehearse my-desk/bench.lantern my-desk/night.scene\n\
         \x20     plays it as a test; change it and play again\n\
         \x20 lantern run my-desk/bench.lantern\n\
         \x20     puts it to work on your desktop",
        style::HEAD
    );
    Ok(if played.has_passed() { Status::Done } else { Status::Found })
}

fn devices_told() -> Result<Vec<String>, Failure> {
    #[cfg(feature = "net")]
    return devices::told();
    #[cfg(not(feature = "net"))]
    Err(Failure::NotBuilt { what: "devices", feature: "net" })
}

fn speech_heard() -> Result<Vec<String>, Failure> {
    #[cfg(feature = "audio")]
    return speech::heard();
    #[cfg(not(feature = "audio"))]
    Err(Failure::NotBuilt { what: "speech", feature: "audio" })
}

/// Shows what came of a part of the demo; where this machine has no room for it the rest stands.
fn show(part: Result<Vec<String>, Failure>) {
    match part {
        Ok(lines) => lines.iter().for_each(|line| crate::output::say!("  {line}")),
        Err(failure) => crate::output::say!("  left out here: {failure}"),
    }
}
