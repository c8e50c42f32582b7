//! `lantern`: rules for the desktop.
//!
//! The program itself: arguments, commands, the one event loop, and the thin places where files,
//! the terminal and signals are touched. What can be decided without them is decided in the other
//! crates.

// A build without some features leaves parts unused.
#![cfg_attr(
    not(all(
        feature = "audio",
        feature = "evdev",
        feature = "net",
        feature = "pictures",
        feature = "tui",
        feature = "wayland"
    )),
    allow(dead_code, unused_imports)
)]

mod arguments;
mod backends;
mod capture_input;
mod command_executor;
mod commands;
mod consent;
mod diagnostics;
mod drawing_error;
mod drawings;
mod escaping;
mod event_log;
mod failure;
mod files;
mod guardian;
mod ipc;
mod log_file;
mod logging_backend;
mod output;
mod pictures;
mod policy;
mod policy_error;
mod pronunciation;
mod question;
mod recording;
mod rehearsal;
mod runtime;
mod service_notify;
mod session;
mod signals;
mod spoken_rules;
mod style;
mod table;
mod text;
mod timeline;
#[cfg(feature = "audio")]
mod trained_phrases;

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
