//! The terminal view: reads keys, sends requests, and draws what there is to see.

use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender};
use std::thread;
use std::time::Duration;

use ratatui::crossterm::event::{self, Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers};
use serde_json::json;

use super::model::{Action, Model, ViewKey};
use super::{Happening, gone, view};
use crate::failure::{Failure, Status};
use crate::ipc::client::IpcClient;

/// How often ages are drawn anew when nothing happens.
const SECOND: Duration = Duration::from_secs(1);

/// Watches in the terminal until the person leaves or what is watched ends.
pub(super) fn watch(
    of_keys: Sender<Happening>,
    happenings: &Receiver<Happening>,
) -> Result<Status, Failure> {
    thread::spawn(move || read_keys(&of_keys));
    let mut terminal = ratatui::init();
    let result = show(&mut terminal, happenings);
    ratatui::restore();
    result
}

/// Reads keys until the terminal is gone.
pub(super) fn read_keys(happenings: &Sender<Happening>) {
    while let Ok(event) = event::read() {
        let happening = match event {
            Event::Key(key) if key.kind == KeyEventKind::Press => match view_key(key) {
                Some(key) => Happening::Key(key),
                None => continue,
            },
            Event::Resize(..) => Happening::Resized,
            _ => continue,
        };
        if happenings.send(happening).is_err() {
            return;
        }
    }
}

/// The key of the view, if it is one.
fn view_key(key: KeyEvent) -> Option<ViewKey> {
    let is_ctrl = key.modifiers.contains(KeyModifiers::CONTROL);
    Some(match key.code {
        KeyCode::Char('c') if is_ctrl => ViewKey::Interrupt,
        KeyCode::Char(character) => ViewKey::Char(character),
        KeyCode::Esc => ViewKey::Escape,
        KeyCode::Up => ViewKey::Up,
        KeyCode::Down => ViewKey::Down,
        KeyCode::Enter | KeyCode::Delete => ViewKey::End,
        _ => return None,
    })
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
