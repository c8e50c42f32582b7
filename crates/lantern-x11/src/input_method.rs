//! Input methods to which programs hand their keys by way of the display, and from which they get them
//! back later (X Input Method Protocol).
//!
//! An input method that waits for a reply of the server may read other events into its queue without
//! handling them, and then sleep until the next event. The text stays there until the person presses a
//! key. Active input methods therefore get events without meaning for a while after a rule typed.

use std::time::Duration;

use lantern_model::Time;
use x11rb::protocol::xproto::{
    AtomEnum, ClientMessageEvent, ConnectionExt as _, EventMask, Window,
};

use super::connection::XConnection;
use super::windows;
use lantern_backend::BackendError;

/// Time after typing at which input methods are woken, doubled for each further time.
const FIRST_WAKE: Duration = Duration::from_millis(20);
/// After a gap of this length they are woken for the last time.
const LAST_GAP: Duration = Duration::from_millis(640);

/// The display's input methods.
#[derive(Debug, Default)]
pub(super) struct XInputMethods {
    /// The window by which each is found.
    windows: Vec<Window>,
    /// When they are woken, and how long they are left alone then.
    wake: Option<(Time, Duration)>,
}

impl XInputMethods {
    /// When they are woken.
    pub(super) fn deadline(&self) -> Option<Time> {
        self.wake.map(|(at, _)| at)
    }

    /// Something was typed that may be with them for a while.
    pub(super) fn note_typed(&mut self, now: Time) {
        if !self.windows.is_empty() {
            let at = self.deadline().unwrap_or(now + FIRST_WAKE);
            self.wake = Some((at, FIRST_WAKE));
        }
    }

    /// Looks which there are.
    pub(super) fn look(&mut self, link: &XConnection) -> Result<(), BackendError> {
        let listed = link.atoms.XIM_SERVERS;
        self.windows.clear();
        for server in windows::numbers(link, link.root, listed, AtomEnum::ATOM.into())? {
            let owner = windows::owner_of(link, server)?;
            if owner != x11rb::NONE {
                self.windows.push(owner);
            }
        }
        Ok(())
    }

    /// The processes of those that there were when it was looked last.
    pub(super) fn processes(&self, link: &XConnection) -> Result<Vec<u32>, BackendError> {
        let mut processes = Vec::new();
        for window in &self.windows {
            processes.extend(windows::process_of(link, *window)?);
        }
        Ok(processes)
    }

    /// Has them look at what came.
    pub(super) fn wake(&self, link: &XConnection) -> Result<(), BackendError> {
        for window in &self.windows {
            let message =
                ClientMessageEvent::new(32, *window, link.atoms.COLD_LANTERN_WAKE, [0; 5]);
            link.conn.send_event(false, *window, EventMask::NO_EVENT, message)?;
        }
        Ok(())
    }

    /// Wakes them when that is due; whether it was.
    pub(super) fn handle_deadline(
        &mut self,
        link: &XConnection,
        now: Time,
    ) -> Result<bool, BackendError> {
        let Some((_, gap)) = self.wake.take_if(|(at, _)| *at <= now) else {
            return Ok(false);
        };
        self.wake(link)?;
        if gap <= LAST_GAP {
            self.wake = Some((now + gap, gap * 2));
        }
        Ok(true)
    }
}
