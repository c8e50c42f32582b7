//! One file per command.

mod add;
mod bound;
pub mod capture;
mod check;
mod demo;
mod doctor;
mod explain;
mod fixes;
mod fmt;
mod free;
mod installed;
mod key_words;
mod keys;
mod manual;
mod new;
pub mod orders;
mod own_files;
#[cfg(feature = "wayland")]
mod portal;
#[cfg(feature = "net")]
mod ports;
pub mod question;
mod record;
mod rehearse;
pub mod run;
mod service;
mod shape;
pub mod sheet;
#[cfg(feature = "net")]
mod standin;
pub mod status;
mod take;
mod voice;
mod watch;
pub mod why;
mod windows;

use serde::Serialize;

use crate::arguments::{Arguments, ProgramCommand};
use crate::failure::{Failure, Status};
use crate::guardian;

/// Does what the command line says.
pub fn run(arguments: Arguments) -> Result<Status, Failure> {
    match arguments.command {
        ProgramCommand::Demo(arguments) => demo::run(&arguments),
        ProgramCommand::New(arguments) => new::run(&arguments),
        ProgramCommand::Keys(arguments) => keys::run(&arguments),
        ProgramCommand::Capture(arguments) => capture::run(&arguments),
        ProgramCommand::Windows(arguments) => windows::run(&arguments),
        ProgramCommand::Doctor(arguments) => doctor::run(&arguments),
        ProgramCommand::Check(arguments) => check::run(&arguments),
        ProgramCommand::Fmt(arguments) => fmt::run(arguments),
        #[cfg(feature = "net")]
        ProgramCommand::Ports(arguments) => ports::run(arguments),
        #[cfg(feature = "net")]
        ProgramCommand::Standin(arguments) => standin::run(arguments.command),
        #[cfg(not(feature = "net"))]
        ProgramCommand::Ports(_) | ProgramCommand::Standin(_) => {
            Err(Failure::NotBuilt { what: "devices", feature: "net" })
        }
        ProgramCommand::Voice(arguments) => voice::run(arguments.command),
        ProgramCommand::Shape(arguments) => shape::run(arguments.command),
        ProgramCommand::Explain(arguments) => explain::run(&arguments),
        ProgramCommand::Rehearse(arguments) => rehearse::run(&arguments),
        ProgramCommand::Run(arguments) => run::run(arguments),
        ProgramCommand::Add(arguments) => add::run(&arguments),
        ProgramCommand::Sheet(arguments) => sheet::run(&arguments),
        ProgramCommand::Service(arguments) => service::run(&arguments),
        ProgramCommand::Status(arguments) => status::run(&arguments),
        ProgramCommand::Watch(arguments) => watch::run(&arguments),
        ProgramCommand::Record(arguments) => record::run(&arguments),
        ProgramCommand::Fire(arguments) => orders::fire(&arguments),
        ProgramCommand::Stop(arguments) => orders::stop(&arguments),
        ProgramCommand::Pause(arguments) => orders::pause(&arguments),
        ProgramCommand::Resume(arguments) => orders::resume(&arguments),
        ProgramCommand::End(arguments) => orders::end(&arguments),
        ProgramCommand::Reload => orders::reload(),
        ProgramCommand::Quit => orders::quit(),
        ProgramCommand::Files(arguments) => own_files::run(&arguments),
        ProgramCommand::Why(arguments) => why::run(&arguments),
        ProgramCommand::Completions { shell } => manual::completions(shell),
        ProgramCommand::Man { folder } => manual::write_pages(&folder),
        ProgramCommand::Question(arguments) => question::run(arguments),
        ProgramCommand::Guardian(arguments) => guardian::watch(&arguments),
    }
}

/// Prints data on standard output. A reader that went away is no fault.
fn print_json(data: &impl Serialize) {
    use std::io::Write;
    let text = serde_json::to_string_pretty(data).expect("our data has only text for keys");
    let _ = writeln!(std::io::stdout().lock(), "{text}");
}
