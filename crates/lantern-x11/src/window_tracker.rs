//! Tracks which window is in front and which windows there are, and brings windows to the front.

use std::time::Duration;

use lantern_model::{App, CommandError, EffectId, Event, Time};
use x11rb::protocol::xproto::{ChangeWindowAttributesAux, ConnectionExt as _, EventMask, Window};

use super::connection::XConnection;
use super::ping::{PingClient, ping};
use super::windows;
use lantern_backend::BackendError;

/// Maximum time for a window to come to the front.
const COMING: Duration = Duration::from_secs(1);

/// A window that was asked to come to the front.
#[derive(Debug)]
struct PendingFocus {
    effect: EffectId,
    window: Window,
    /// The program that was asked for. None where a window comes back: it is no failure if it does not.
    name: Option<String>,
    /// Whether the window was raised. Until then the program in front may not have read what was typed
    /// into it: a program reads keys late under load, and by then by another state of the keyboard.
    is_raised: bool,
    until: Time,
}

/// The windows of the display, as they were reported last.
#[derive(Debug, Default)]
pub(super) struct WindowTracker {
    front: App,
    /// Every window of a program.
    windows: Vec<Window>,
    pending: Vec<PendingFocus>,
    /// Whether something was typed that the program in front may not have read yet.
    has_unread: bool,
}

impl WindowTracker {
    /// The program in front.
    pub(super) fn front(&self) -> &App {
        &self.front
    }

    /// Whether a window is the one in front.
    pub(super) fn is_front(&self, window: Window) -> bool {
        u64::from(window) == self.front.window
    }

    /// Takes that something was typed into the program in front.
    pub(super) fn note_typed(&mut self) {
        self.has_unread = true;
    }

    /// Whether the answer to a ping is awaited.
    pub(super) fn awaits_pong(&self) -> bool {
        self.pending.iter().any(|pending| !pending.is_raised)
    }

    /// When waiting for windows ends.
    pub(super) fn deadline(&self) -> Option<Time> {
        self.pending.iter().map(|pending| pending.until).min()
    }

    /// Why a text cannot go anywhere; nothing if it can.
    pub(super) fn focus_problem(
        &self,
        link: &XConnection,
    ) -> Result<Option<CommandError>, BackendError> {
        if self.front.window != 0 {
            return Ok(None);
        }
        if !windows::is_managed(link)? && windows::has_focus(link)? {
            return Ok(None);
        }
        Ok(Some(CommandError::not_found(
            "no window is in front, so that nothing can take the text",
        )))
    }

    /// Queries which window is in front, and what it is called now. Gives the event that reports it, if it
    /// has changed or `always`.
    pub(super) fn update_front(
        &mut self,
        link: &XConnection,
        always: bool,
    ) -> Result<Option<Event>, BackendError> {
        let window = windows::active_window(link)?;
        if window != x11rb::NONE && !self.is_front(window) {
            // Its title may change, and it may be destroyed. A window that is gone already gives an
            // error that is not read.
            let mask = EventMask::PROPERTY_CHANGE | EventMask::STRUCTURE_NOTIFY;
            let watch = ChangeWindowAttributesAux::new().event_mask(mask);
            link.conn.change_window_attributes(window, &watch)?;
        }
        let app = windows::active_app(link)?;
        if app == self.front && !always {
            return Ok(None);
        }
        self.front = app.clone();
        Ok(Some(Event::Focus(app)))
    }

    /// Takes the windows that there are at the start.
    pub(super) fn read_windows(&mut self, link: &XConnection) -> Result<(), BackendError> {
        self.windows = windows::all(link)?;
        Ok(())
    }

    /// Queries the windows; gives the events that report new ones.
    pub(super) fn update_windows(
        &mut self,
        link: &XConnection,
    ) -> Result<Vec<Event>, BackendError> {
        let now = windows::all(link)?;
        let before = std::mem::replace(&mut self.windows, now);
        let new = self.windows.iter().filter(|window| !before.contains(window));
        new.map(|window| Ok(Event::WindowOpened(windows::describe(link, *window)?))).collect()
    }

    /// Brings a window to the front. Gives the outcome if it is there at once; else it comes later.
    pub(super) fn focus(
        &mut self,
        link: &XConnection,
        now: Time,
        effect: EffectId,
        window: Window,
        name: Option<&str>,
    ) -> Result<Option<Event>, BackendError> {
        // Without a window manager it is there at once; one that was closed meanwhile never comes.
        let comes = !self.is_front(window)
            && windows::is_managed(link)?
            && windows::all(link)?.contains(&window);
        if !comes {
            windows::raise(link, window)?;
            return Ok(Some(Event::Outcome { effect, result: Ok(None) }));
        }
        let has_unread = std::mem::take(&mut self.has_unread);
        let left = if has_unread { windows::focused_window(link)? } else { None };
        match left {
            Some(left) => ping(link, left, PingClient::WindowTracker)?,
            None => windows::raise(link, window)?,
        }
        let (name, until, is_raised) = (name.map(str::to_owned), now + COMING, left.is_none());
        self.pending.push(PendingFocus { effect, window, name, is_raised, until });
        Ok(None)
    }

    /// The program in front has read all that was typed into it: others may come.
    pub(super) fn raise_pending(
        &mut self,
        link: &XConnection,
        now: Time,
    ) -> Result<(), BackendError> {
        for pending in self.pending.iter_mut().filter(|pending| !pending.is_raised) {
            pending.is_raised = true;
            pending.until = now + COMING;
            windows::raise(link, pending.window)?;
        }
        Ok(())
    }

    /// The outcomes of effects that waited for the window that is in front now.
    pub(super) fn take_arrived(&mut self) -> Vec<Event> {
        let front = self.front.window;
        let came = self.pending.extract_if(.., |pending| u64::from(pending.window) == front);
        came.map(|came| Event::Outcome { effect: came.effect, result: Ok(None) }).collect()
    }

    /// Raises windows whose predecessor does not answer, and gives the outcomes of those that did not come.
    pub(super) fn handle_deadline(
        &mut self,
        link: &XConnection,
        now: Time,
    ) -> Result<Vec<Event>, BackendError> {
        if self.pending.iter().any(|pending| !pending.is_raised && pending.until <= now) {
            // It does not read; it must not keep the others waiting.
            self.raise_pending(link, now)?;
            return Ok(Vec::new());
        }
        let late = self.pending.extract_if(.., |pending| pending.until <= now);
        let outcome = |late: PendingFocus| Event::Outcome {
            effect: late.effect,
            result: match late.name {
                Some(name) => {
                    Err(CommandError::timed_out(format!("`{name}` did not come to the front")))
                }
                None => Ok(None),
            },
        };
        Ok(late.map(outcome).collect())
    }
}
