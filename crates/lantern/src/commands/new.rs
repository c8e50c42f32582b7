//! `lantern new`: the shipped example as files to start from.

use std::fs::{self, OpenOptions};
use std::io::Write;
use std::path::Path;

use crate::arguments::NewArguments;
use crate::commands::demo::{EXAMPLE_RULES, EXAMPLE_SCENE};
use crate::failure::{Failure, Status};

pub fn run(arguments: &NewArguments) -> Result<Status, Failure> {
    let rules = arguments.folder.join("bench.lantern");
    let scene = arguments.folder.join("night.scene");
    for path in [&rules, &scene] {
        if fs::exists(path).unwrap_or(false) {
            return Err(Failure::Exists { path: path.clone() });
        }
    }
    fs::create_dir_all(&arguments.folder)
        .map_err(|source| Failure::Write { path: arguments.folder.clone(), source })?;
    write_new(&rules, EXAMPLE_RULES)?;
    write_new(&scene, EXAMPLE_SCENE)?;
    crate::style::say!("wrote {} and {}", rules.display(), scene.display());
    crate::style::say!("next: lantern rehearse {} {}", rules.display(), scene.display());
    Ok(Status::Done)
}

fn write_new(path: &Path, text: &str) -> Result<(), Failure> {
    let failed = |source| Failure::Write { path: path.to_owned(), source };
    let mut file = OpenOptions::new().write(true).create_new(true).open(path).map_err(failed)?;
    file.write_all(text.as_bytes()).map_err(failed)
}
