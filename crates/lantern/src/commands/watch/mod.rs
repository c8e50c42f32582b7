//! `lantern watch`: what is decided, as it happens, with what runs and what is held.
//!
//! [`model`] is what there is to see and what keys mean, [`view`] draws it; both know neither socket
//! nor terminal.

mod model;
mod plain;
#[cfg(feature = "net")]
mod port;
mod raw;
#[cfg(feature = "tui")]
mod terminal;
#[cfg(feature = "tui")]
mod view;

use std::io::BufRead;
#[cfg(feature = "tui")]
use std::io::IsTerminal;
use std::sync::mpsc::channel;
use std::thread;

use serde_json::{Value, json};

use crate::arguments::WatchArguments;
use crate::failure::{Failure, Status};
use crate::ipc::client::IpcClient;
use crate::output::say;
use model::{Action, Model, ShownDecision, ViewKey};

/// What wakes the view.
enum Happening {
    Decided(ShownDecision),
    /// A key, in a build that reads them.
    Key(ViewKey),
    Resized,
    /// A signal asks us to end.
    Ended,
    /// The one that runs went away.
    Gone,
}

pub fn run(arguments: &WatchArguments) -> Result<Status, Failure> {
    #[cfg(not(feature = "net"))]
    if arguments.port.is_some() {
        return Err(Failure::NotBuilt { what: "devices", feature: "net" });
    }
    #[cfg(feature = "net")]
    if let Some(port) = &arguments.port {
        return port::watch(port.clone(), arguments.speed, arguments.json);
    }
    if arguments.raw {
        return raw::watch(arguments.json);
    }
    let mut client = IpcClient::reach()?;
    client.ask("watch", &json!({}))?;
    let lines = client.into_listening()?.lines().map_while(Result::ok);
    let decisions = lines.filter_map(|line| decision(&line));
    if arguments.json {
        decisions.for_each(|(_, data)| say!("{data}"));
        return Ok(Status::Done);
    }
    let (sender, happenings) = channel();
    let of_keys = sender.clone();
    thread::spawn(move || {
        for (decided, _) in decisions {
            if sender.send(Happening::Decided(decided)).is_err() {
                return;
            }
        }
        let _ = sender.send(Happening::Gone);
    });
    #[cfg(feature = "tui")]
    if !arguments.plain && std::io::stdout().is_terminal() {
        return terminal::watch(of_keys, &happenings);
    }
    plain::watch(of_keys, &happenings)
}

/// The one that runs went away.
fn gone() -> Failure {
    Failure::Refused { message: "it has ended".to_owned() }
}

impl Action {
    /// Sends a request. A refusal is shown, and the view stays open.
    fn give(self, orders: &mut IpcClient, model: &mut Model) -> Result<(), Failure> {
        let Action::Order { method, params } = self else { return Ok(()) };
        match orders.ask(method, &params) {
            Ok(_) => model.said.clear(),
            Err(Failure::Refused { message }) => model.said = message,
            Err(failure) => return Err(failure),
        }
        Ok(())
    }
}

fn decision(line: &str) -> Option<(ShownDecision, Value)> {
    let mut message: Value = serde_json::from_str(line).ok()?;
    let decided = message["method"] == json!("decided");
    let data = message["params"].take();
    decided.then(|| (ShownDecision::of(&data), data))
}
