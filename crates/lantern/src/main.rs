//! `lantern`: rules for the desktop.
//!
//! The program itself: arguments, commands, the one event loop, and the thin places where files,
//! the terminal and signals are touched. What can be decided without them is decided in the other
//! crates.

mod agreement;
mod arguments;
mod commands;
mod desks;
mod drawings;
mod errands;
mod failure;
mod files;
mod findings;
mod foreign;
mod guardian;
mod ipc;
mod journal;
mod listening;
mod output;
mod pictures;
mod player;
mod pronunciation;
mod recording;
mod runtime;
mod sayable;
mod session;
mod signals;
mod style;
mod supervisor;
mod table;
mod taught;
mod timeline;
mod told_desk;
mod wording;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    let arguments = arguments::Arguments::parse();
    let code = match commands::run(arguments) {
        Ok(status) => status.into(),
        Err(failure) => failure.report(),
    };
    output::finish();
    code
}
