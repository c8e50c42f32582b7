//! `lantern watch --raw`: every key with all its names, to find out what an odd key sends.

use std::time::Duration;

use lantern_x11::ObservedKey;
use serde_json::json;

use crate::capture_input::terminal::QuietTerminal;
use crate::capture_input::{SceneListener, SceneObservation};
use crate::commands::capture::sent_names;
use crate::failure::{Failure, Status};
use crate::output::{complain, say};
use crate::style;

pub fn watch(json: bool) -> Result<Status, Failure> {
    let mut listener = SceneListener::open(None)?;
    let _quiet = QuietTerminal::new();
    if !json {
        complain!(
            "{}press keys and buttons; they still reach the program in front. Ctrl+C here ends it{0:#}",
            style::FAINT
        );
    }
    let mut began = None;
    while let Some(noticed) = listener.next()? {
        match noticed {
            SceneObservation::Moved(..) => {}
            SceneObservation::Input(seen) => {
                let since = seen.time.saturating_sub(*began.get_or_insert(seen.time));
                if json { say!("{}", data(&seen, since)) } else { print(&seen, since) }
            }
            SceneObservation::Away(true) if !json => {
                complain!("the screen is locked; nothing is seen")
            }
            SceneObservation::Away(_) | SceneObservation::Front(_) => {}
        }
    }
    Ok(Status::Done)
}

fn print(seen: &ObservedKey, since: Duration) {
    let name = seen.key.map_or("(no name)", |key| key.name());
    let ink = match (seen.injected, seen.down) {
        (true, _) | (false, false) => style::FAINT,
        (false, true) => style::CAME_IN,
    };
    let word = if seen.down { "down" } else { "up" };
    let types = seen.types.filter(|_| seen.down);
    let types = types.map_or_else(String::new, |types| format!("types {types:?}"));
    let from = if seen.injected { "put in by a program" } else { &seen.device };
    let names = sent_names(seen.key, seen.keysym, seen.code).join(", ");
    let seconds = since.as_secs_f64();
    say!("{seconds:>9.3} s  {word:<4}  {ink}{name:<14}{ink:#}  {types:<10}  {names}  ({from})");
}

/// The shape of `--json`, a line for each.
fn data(seen: &ObservedKey, since: Duration) -> serde_json::Value {
    json!({
        "version": 1,
        "seconds": since.as_secs_f64(),
        "down": seen.down,
        "key": seen.key.map(|key| key.name()),
        "cap": seen.key.map(|key| key.label()),
        "code": seen.key.and_then(|key| key.code()),
        "keysym": (seen.keysym != 0).then(|| format!("0x{:04x}", seen.keysym)),
        "kernel": seen.key.and_then(|key| key.kernel()),
        "number": seen.code,
        "types": seen.types,
        "device": seen.device,
        "injected": seen.injected,
        "pointer": seen.pointer,
    })
}
