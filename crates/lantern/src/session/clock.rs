//! The times of a session: since its start, and on the wall clock.

use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::time::{Duration, Instant};

use lantern_model::{Time, WallTime};
use rustix::event::Timespec;
use rustix::time::{
    Itimerspec, TimerfdClockId, TimerfdFlags, TimerfdTimerFlags, timerfd_create, timerfd_settime,
};

use crate::failure::Failure;

/// The clocks of a session.
#[derive(Debug)]
pub(super) struct SessionClock {
    start: Instant,
    /// When that was, for a person.
    since: jiff::Timestamp,
    /// Whether the rules read the wall clock.
    is_wall_wanted: bool,
    /// What the engine knows of the wall clock, and since when.
    told: Option<(Time, WallTime)>,
    /// Becomes readable when the wall clock is set, while the rules read it.
    changes: Option<OwnedFd>,
}

impl SessionClock {
    /// Clocks that start now. `is_wall_wanted` says whether the rules read the wall clock.
    pub(super) fn start(is_wall_wanted: bool) -> SessionClock {
        SessionClock {
            start: Instant::now(),
            since: jiff::Timestamp::now(),
            is_wall_wanted,
            told: None,
            changes: None,
        }
    }

    /// The time since the start.
    pub(super) fn now(&self) -> Time {
        Time::START + self.start.elapsed()
    }

    /// When the session started.
    pub(super) fn since(&self) -> jiff::Timestamp {
        self.since
    }

    /// How long it has been running.
    pub(super) fn elapsed(&self) -> Duration {
        self.start.elapsed()
    }

    /// A moment of the session as the wall clock shows it.
    pub(super) fn wall_words(&self, time: Time) -> String {
        let moment = self.since + time.since(Time::START);
        let zone = jiff::tz::TimeZone::system();
        moment.to_zoned(zone).strftime("%H:%M:%S%.3f").to_string()
    }

    /// Takes that the rules are other ones, which know nothing of the wall clock yet.
    pub(super) fn restart_wall(&mut self, is_wanted: bool) {
        self.is_wall_wanted = is_wanted;
        self.told = None;
    }

    /// The wall clock, if the rules read it and the engine does not know what it shows. A change of the
    /// season and a sleep of the machine are seen at the first wake-up after them.
    pub(super) fn update_wall(&mut self) -> Result<Option<(Time, WallTime)>, Failure> {
        if !self.is_wall_wanted {
            self.changes = None;
            return Ok(None);
        }
        if self.changes.is_none() {
            self.changes = Some(watch_changes()?);
        }
        let (now, wall) = (self.now(), wall_time());
        let expected = self.told.map(|(at, told)| told.local + now.since(at).as_secs() as i64);
        // A second is what rounding may take.
        let has_jumped = expected.is_none_or(|expected| (expected - wall.local).abs() > 1);
        if !has_jumped && self.told.is_none_or(|(_, told)| told.offset == wall.offset) {
            return Ok(None);
        }
        self.told = Some((now, wall));
        Ok(self.told)
    }

    /// Becomes readable when the wall clock is set.
    pub(super) fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        self.changes.as_ref().map(|changes| changes.as_fd())
    }

    /// Takes that the wall clock was set, after the descriptor has become readable.
    pub(super) fn drain(&self) {
        if let Some(changes) = &self.changes {
            // It says nothing but that the clock was set.
            let _ = rustix::io::read(changes, &mut [0; 8]);
        }
    }
}

/// What the wall clock shows, by the system's time zone.
fn wall_time() -> WallTime {
    let now = jiff::Zoned::now();
    let offset = now.offset().seconds();
    WallTime { local: now.timestamp().as_second() + i64::from(offset), offset }
}

/// Becomes readable when the wall clock is set or the machine has slept: a timer without an end
/// that is cancelled then.
fn watch_changes() -> Result<OwnedFd, Failure> {
    let failed = |error: rustix::io::Errno| Failure::System {
        what: "cannot watch the clock",
        source: error.into(),
    };
    let flags = TimerfdFlags::CLOEXEC | TimerfdFlags::NONBLOCK;
    let timer = timerfd_create(TimerfdClockId::Realtime, flags).map_err(failed)?;
    // In the year 2255.
    let never = Timespec { tv_sec: 9_000_000_000, tv_nsec: 0 };
    let span = Itimerspec { it_interval: Timespec { tv_sec: 0, tv_nsec: 0 }, it_value: never };
    let flags = TimerfdTimerFlags::ABSTIME | TimerfdTimerFlags::CANCEL_ON_SET;
    timerfd_settime(&timer, flags, &span).map_err(failed)?;
    Ok(timer)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_wall_clock_is_given_once_and_again_for_other_rules() {
        let mut clock = SessionClock::start(true);
        assert!(clock.update_wall().expect("it can be watched").is_some());
        assert!(clock.update_wall().expect("it can be watched").is_none());
        assert!(clock.descriptor().is_some());
        clock.restart_wall(true);
        assert!(clock.update_wall().expect("it can be watched").is_some());
        clock.restart_wall(false);
        assert!(clock.update_wall().expect("it is not watched").is_none());
        assert!(clock.descriptor().is_none());
    }
}
