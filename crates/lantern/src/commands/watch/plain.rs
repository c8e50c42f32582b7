//! `lantern watch --plain`: a line for each decision, for pipes and screen readers; the same keys,
//! if there is a terminal to press them in.

use std::io::Read;
use std::sync::mpsc::{Receiver, Sender};
use std::thread;

use serde_json::json;

use super::model::{Action, Model, ShownDecision, Weight};
#[cfg(feature = "tui")]
use super::terminal::read_keys;
use super::{Happening, gone};
use crate::capture_input::terminal::QuietTerminal;
use crate::failure::{Failure, Status};
use crate::ipc::client::IpcClient;
use crate::output::say;
use crate::signals;
use crate::style;

pub(super) fn watch(
    sender: Sender<Happening>,
    happenings: &Receiver<Happening>,
) -> Result<Status, Failure> {
    let quiet = QuietTerminal::new();
    if quiet.is_there() {
        let of_signals = sender.clone();
        let mut endings = signals::endings()?;
        thread::spawn(move || {
            let _ = endings.read(&mut [0; 1]);
            // If the receiver is gone, the view has ended.
            let _ = of_signals.send(Happening::Ended);
        });
        #[cfg(feature = "tui")]
        thread::spawn(move || read_keys(&sender));
    }
    let result = tell(happenings);
    drop(quiet);
    result
}

fn tell(happenings: &Receiver<Happening>) -> Result<Status, Failure> {
    let mut orders = IpcClient::reach()?;
    let mut model = Model::new(true);
    for happening in happenings {
        match happening {
            Happening::Decided(decided) if model.shows(&decided) => say!("{}", line(&decided)),
            Happening::Decided(_) | Happening::Resized => {}
            Happening::Ended => return Ok(Status::Done),
            Happening::Gone => return Err(gone()),
            Happening::Key(key) => {
                model.take_status(&orders.ask("status", &json!({}))?);
                let before = (model.chosen, model.failures_only);
                match model.take_key(key) {
                    Some(Action::Leave) => return Ok(Status::Done),
                    Some(order) => order.give(&mut orders, &mut model)?,
                    None => answer(&mut model, before),
                }
                if !model.said.is_empty() {
                    say!("{}{}{0:#}", style::WARNING, std::mem::take(&mut model.said));
                }
            }
        }
    }
    Ok(Status::Done)
}

/// Says what a key changed that a view would show.
fn answer(model: &mut Model, before: (usize, bool)) {
    if std::mem::take(&mut model.help) {
        say!("arrows choose a run or program, Enter ends it, s stops all, p pauses and resumes,");
        say!("f shows failures only, q leaves");
    } else if model.failures_only != before.1 {
        say!("{}", if model.failures_only { "failures only" } else { "everything" });
    } else {
        let chosen = model.choice().map(|row| row.cells.join(", "));
        say!("chosen: {}", chosen.as_deref().unwrap_or("nothing runs"));
    }
}

/// A decision in a line.
fn line(decided: &ShownDecision) -> String {
    let ink = match decided.weight() {
        Weight::Good => style::WENT_OUT,
        Weight::Bad => style::ERROR,
        Weight::Odd => style::WARNING,
        Weight::Faint => style::FAINT,
    };
    format!("{}  {ink}{}{ink:#}  {}", decided.time, decided.what, decided.rule)
        .trim_end()
        .to_owned()
}
