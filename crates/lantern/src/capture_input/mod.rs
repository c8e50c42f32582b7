//! Looking at what the person does without taking part, for `watch --raw` and `record`. While the
//! screen is locked nothing is seen.

pub mod keystroke_groups;
pub mod terminal;

use std::os::unix::net::UnixStream;
use std::time::{Duration, Instant};

use lantern_model::{App, Event};
use lantern_services::Services;
use lantern_x11::{Listener, Observation, ObservedKey};
use rustix::event::{PollFd, PollFlags, Timespec, poll};

use crate::failure::Failure;
use crate::signals;

/// What was noticed.
#[derive(Debug)]
pub enum SceneObservation {
    Input(ObservedKey),
    Front(App),
    /// The pointer moved while something was down.
    Moved(i32, i32),
    /// The person went away, or is back: a lock, another session, sleep.
    Away(bool),
}

/// Someone who looks until a signal comes or time is over.
pub struct SceneListener {
    listener: Listener,
    services: Services,
    signals: &'static UnixStream,
    until: Option<Instant>,
    away: bool,
    /// Whether it is over but for what was done before the end.
    is_ending: bool,
    /// The process whose password field has the keyboard.
    secret: Option<u32>,
}

impl SceneListener {
    /// Begins to look.
    pub fn open(span: Option<Duration>) -> Result<SceneListener, Failure> {
        let failed = |source| Failure::System { what: "cannot watch services", source };
        let mut services = Services::new().map_err(failed)?;
        services.watch_presence();
        services.watch_fields();
        Ok(SceneListener {
            listener: Listener::open()?,
            services,
            signals: signals::endings()?,
            until: span.map(|span| Instant::now() + span),
            away: false,
            is_ending: false,
            secret: None,
        })
    }

    /// The program in front.
    pub fn front(&self) -> &App {
        self.listener.front()
    }

    /// Whether a password field has the keyboard, if programs report it.
    pub fn is_secret(&self) -> bool {
        self.secret.is_some() && self.secret == self.front().process
    }

    /// Waits for the next thing to be noticed; nothing when it is over.
    pub fn next(&mut self) -> Result<Option<SceneObservation>, Failure> {
        loop {
            self.services.reset_descriptor();
            for news in self.services.take_session_events() {
                match news {
                    Event::Locked(away) if away != self.away => {
                        self.away = away;
                        return Ok(Some(SceneObservation::Away(away)));
                    }
                    Event::PasswordField(process) => self.secret = process,
                    _ => {}
                }
            }
            while let Some(sight) = self.listener.look()? {
                match sight {
                    _ if self.away => {}
                    Observation::Input(seen) => return Ok(Some(SceneObservation::Input(seen))),
                    Observation::Moved(x, y) => return Ok(Some(SceneObservation::Moved(x, y))),
                    Observation::Front(app) => return Ok(Some(SceneObservation::Front(app))),
                }
            }
            if self.is_ending {
                return Ok(None);
            }
            if self.is_over()? {
                // What was done before the end is noticed before it.
                self.is_ending = true;
                self.listener.catch_up()?;
            }
        }
    }

    /// Sleeps until something comes. Whether it is over.
    fn is_over(&mut self) -> Result<bool, Failure> {
        let left = self.until.map(|until| until.saturating_duration_since(Instant::now()));
        let limit = left.and_then(|left| Timespec::try_from(left).ok());
        let (display, waker) = (self.listener.descriptor(), self.services.descriptor());
        let mut fds = [
            PollFd::new(&display, PollFlags::IN),
            PollFd::new(&waker, PollFlags::IN),
            PollFd::new(self.signals, PollFlags::IN),
        ];
        match poll(&mut fds, limit.as_ref()) {
            Ok(_) | Err(rustix::io::Errno::INTR) => {}
            Err(error) => {
                let source = error.into();
                return Err(Failure::System { what: "cannot wait for events", source });
            }
        }
        let (rang, signal) = (!fds[1].revents().is_empty(), !fds[2].revents().is_empty());
        if rang {
            // Reports are of nobody's interest here.
            while self.services.next_report().is_some() {}
        }
        Ok(signal || left.is_some_and(|left| left.is_zero()))
    }
}
