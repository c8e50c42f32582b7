//! `lantern demo`: the shipped example on a simulated desktop.

use lantern_script::scene::parse_scene;
use lantern_script::{Source, check};
use serde::Serialize;

use crate::arguments::DemoArguments;
use crate::commands::print_json;
use crate::failure::{Failure, Status};
use crate::timeline::Row;
use crate::{player, style};

/// The shipped example: the logging bench of an ice-core store.
pub const EXAMPLE_RULES: &str = include_str!("../../../../examples/bench.lantern");
/// What happens at the bench in one night.
pub const EXAMPLE_SCENE: &str = include_str!("../../../../examples/night.scene");

#[derive(Serialize)]
struct Report {
    version: u32,
    rows: Vec<Row>,
}

pub fn run(arguments: &DemoArguments) -> Result<Status, Failure> {
    let checked = check(&Source::new("bench.lantern", EXAMPLE_RULES));
    let rules = checked.rules.expect("the shipped example is checked by the tests");
    let (scene, _) = parse_scene(&Source::new("night.scene", EXAMPLE_SCENE));
    let played = player::play(&rules, &scene);
    if arguments.json {
        print_json(&Report { version: 1, rows: played.timeline.rows() });
        return Ok(Status::Done);
    }
    crate::style::say!(
        "The logging bench of an ice-core store, on a simulated desktop: {} rules.\n\
         All that comes in is scripted: the keys and windows of the scene night.scene.\n",
        rules.rules.len()
    );
    played.timeline.print();
    crate::style::say!(
        "\n{}Three things to try next{0:#}\n\
         \x20 lantern new my-desk\n\
         \x20     writes this example as files\n\
         \x20 lantern rehearse my-desk/bench.lantern my-desk/night.scene\n\
         \x20     plays it as a test; change it and play again\n\
         \x20 lantern run my-desk/bench.lantern\n\
         \x20     puts it to work on your X11 desktop",
        style::HEAD
    );
    Ok(if played.unmet.is_empty() { Status::Done } else { Status::Found })
}
