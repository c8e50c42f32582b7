//! `lantern new`: the shipped example as files to start from.

use std::fs::{self, OpenOptions};
use std::io::Write;
use std::path::Path;

use crate::arguments::NewArguments;
use crate::commands::demo::{DEVICE_RULES, EXAMPLE_RULES, EXAMPLE_SCENE, SPOKEN_RULES};
use crate::failure::{Failure, Status};
use crate::output::say;

/// What is written, each by its name.
const EXAMPLE: [(&str, &str); 6] = [
    ("bench.lantern", EXAMPLE_RULES),
    ("night.scene", EXAMPLE_SCENE),
    ("devices.lantern", DEVICE_RULES),
    ("spoken.lantern", SPOKEN_RULES),
    ("shapes.lantern", include_str!("../../../../examples/shapes.lantern")),
    ("drawn.csv", include_str!("../../../../examples/drawn.csv")),
];

pub fn run(arguments: &NewArguments) -> Result<Status, Failure> {
    let files = EXAMPLE.map(|(name, text)| (arguments.folder.join(name), text));
    if let Some((path, _)) = files.iter().find(|(path, _)| fs::exists(path).unwrap_or(false)) {
        return Err(Failure::Exists { path: path.clone() });
    }
    fs::create_dir_all(&arguments.folder)
        .map_err(|source| Failure::Write { path: arguments.folder.clone(), source })?;
    files.iter().try_for_each(|(path, text)| write_new(path, text))?;
    let names = files.map(|(path, _)| path.display().to_string());
    let [rules, scene, devices, spoken, shapes, drawn] = names;
    say!("wrote {rules} and {scene}, {devices} to try with boards that are stood in for,");
    say!("{spoken} to speak to, and {shapes} and {drawn} to draw with");
    say!("next: lantern rehearse {rules} {scene}");
    Ok(Status::Done)
}

fn write_new(path: &Path, text: &str) -> Result<(), Failure> {
    let failed = |source| Failure::Write { path: path.to_owned(), source };
    let mut file = OpenOptions::new().write(true).create_new(true).open(path).map_err(failed)?;
    file.write_all(text.as_bytes()).map_err(failed)
}
