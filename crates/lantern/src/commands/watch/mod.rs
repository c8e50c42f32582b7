//! `lantern watch`: what is decided, as it happens, with what runs and what is held.
//!
//! [`model`] is what there is to see and what keys mean, [`view`] draws it; both know neither socket
//! nor terminal.

mod model;
mod plain;
mod port;
mod raw;
mod view;

use std::io::{BufRead, IsTerminal};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::thread;
use std::time::Duration;

use ratatui::crossterm::event::{self, Event, KeyEventKind};
use serde_json::{Value, json};

use crate::arguments::WatchArguments;
use crate::failure::{Failure, Status};
use crate::ipc::client::IpcClient;
use crate::style::say;
use model::{Action, Model, ShownDecision};

/// How often ages are drawn anew when nothing happens.
const SECOND: Duration = Duration::from_secs(1);

/// What wakes the view.
enum Happening {
    Decided(ShownDecision),
    Key(event::KeyEvent),
    Resized,
    /// A signal asks us to end.
    Ended,
    /// The one that runs went away.
    Gone,
}

pub fn run(arguments: &WatchArguments) -> Result<Status, Failure> {
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
    if arguments.plain || !std::io::stdout().is_terminal() {
        return plain::watch(of_keys, &happenings);
    }
    thread::spawn(move || read_keys(&of_keys));
    let mut terminal = ratatui::init();
    let result = show(&mut terminal, &happenings);
    ratatui::restore();
    result
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

fn read_keys(happenings: &Sender<Happening>) {
    while let Ok(event) = event::read() {
        let happening = match event {
            Event::Key(key) if key.kind == KeyEventKind::Press => Happening::Key(key),
            Event::Resize(..) => Happening::Resized,
            _ => continue,
        };
        if happenings.send(happening).is_err() {
            return;
        }
    }
}

fn show(
    terminal: &mut ratatui::DefaultTerminal,
    happenings: &Receiver<Happening>,
) -> Result<Status, Failure> {
    let failed = |source| Failure::System { what: "cannot draw on the terminal", source };
    let mut orders = IpcClient::reach()?;
    let mut model = Model::new(std::env::var_os("NO_COLOR").is_none());
    loop {
        model.take_status(&orders.ask("status", &json!({}))?);
        terminal.draw(|frame| view::draw(&mut model, frame)).map_err(failed)?;
        let mut next = match happenings.recv_timeout(SECOND) {
            Ok(happening) => Some(happening),
            Err(RecvTimeoutError::Timeout) => None,
            Err(RecvTimeoutError::Disconnected) => return Ok(Status::Done),
        };
        // A burst is drawn once.
        while let Some(happening) = next {
            match happening {
                Happening::Decided(decided) => model.take_decision(decided),
                Happening::Resized => {}
                Happening::Ended => return Ok(Status::Done),
                Happening::Gone => return Err(gone()),
                Happening::Key(key) => match model.take_key(key) {
                    Some(Action::Leave) => return Ok(Status::Done),
                    Some(order) => order.give(&mut orders, &mut model)?,
                    None => {}
                },
            }
            next = happenings.try_recv().ok();
        }
    }
}
