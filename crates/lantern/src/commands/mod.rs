//! One file per command.

mod add;
mod bound;
pub mod capture;
mod check;
mod demo;
mod doctor;
mod explain;
mod fmt;
mod free;
mod keys;
mod manual;
mod new;
pub mod orders;
mod ports;
pub mod question;
mod record;
mod rehearse;
pub mod run;
mod service;
mod shape;
pub mod sheet;
mod standin;
pub mod status;
mod take;
mod voice;
mod watch;
pub mod why;
mod windows;

use serde::Serialize;

use crate::arguments::{Arguments, Command};
use crate::failure::{Failure, Status};
use crate::guardian;

/// Does what the command line says.
pub fn run(arguments: Arguments) -> Result<Status, Failure> {
    match arguments.command {
        Command::Demo(arguments) => demo::run(&arguments),
        Command::New(arguments) => new::run(&arguments),
        Command::Keys(arguments) => keys::run(&arguments),
        Command::Capture(arguments) => capture::run(&arguments),
        Command::Windows(arguments) => windows::run(&arguments),
        Command::Doctor(arguments) => doctor::run(&arguments),
        Command::Check(arguments) => check::run(arguments),
        Command::Fmt(arguments) => fmt::run(arguments),
        Command::Ports(arguments) => ports::run(arguments),
        Command::Standin(arguments) => standin::run(arguments.command),
        Command::Voice(arguments) => voice::run(arguments.command),
        Command::Shape(arguments) => shape::run(arguments.command),
        Command::Explain(arguments) => explain::run(&arguments),
        Command::Rehearse(arguments) => rehearse::run(&arguments),
        Command::Run(arguments) => run::run(arguments),
        Command::Add(arguments) => add::run(&arguments),
        Command::Sheet(arguments) => sheet::run(&arguments),
        Command::Service(arguments) => service::run(&arguments),
        Command::Status(arguments) => status::run(&arguments),
        Command::Watch(arguments) => watch::run(&arguments),
        Command::Record(arguments) => record::run(&arguments),
        Command::Fire(arguments) => orders::fire(&arguments),
        Command::Stop(arguments) => orders::stop(&arguments),
        Command::Pause(arguments) => orders::pause(&arguments),
        Command::Resume(arguments) => orders::resume(&arguments),
        Command::End(arguments) => orders::end(&arguments),
        Command::Reload => orders::reload(),
        Command::Why(arguments) => why::run(&arguments),
        Command::Completions { shell } => manual::completions(shell),
        Command::Man { folder } => manual::write_pages(&folder),
        Command::Question(arguments) => question::run(arguments),
        Command::Guardian(arguments) => guardian::watch(&arguments),
    }
}

/// Prints data on standard output. A reader that went away is no fault.
fn print_json(data: &impl Serialize) {
    use std::io::Write;
    let text = serde_json::to_string_pretty(data).expect("our data has only text for keys");
    let _ = writeln!(std::io::stdout().lock(), "{text}");
}
