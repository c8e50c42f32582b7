//! Time as the engine knows it: microseconds since the start, never a clock.

use std::fmt;
use std::ops::{Add, Sub};
use std::time::Duration;

/// A moment, in microseconds since the engine was started.
///
/// The owner of a clock passes it in; no pure crate reads a clock.
///
/// ```
/// use lantern_model::Time;
/// use std::time::Duration;
/// let later = Time::START + Duration::from_millis(20);
/// assert_eq!(later - Time::START, Duration::from_millis(20));
/// assert_eq!(later.to_string(), "0.020 s");
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct Time(u64);

impl Time {
    /// The moment the engine was started.
    pub const START: Time = Time(0);

    /// The moment `micros` microseconds after the start.
    pub const fn from_micros(micros: u64) -> Self {
        Time(micros)
    }

    /// Microseconds since the start.
    pub const fn as_micros(self) -> u64 {
        self.0
    }

    /// The moment `span` before this one, the start at the earliest.
    pub fn before(self, span: Duration) -> Time {
        Time(self.0.saturating_sub(u64::try_from(span.as_micros()).unwrap_or(u64::MAX)))
    }

    /// The time from `earlier` to this moment, zero if `earlier` is later.
    pub fn since(self, earlier: Time) -> Duration {
        Duration::from_micros(self.0.saturating_sub(earlier.0))
    }
}

impl Add<Duration> for Time {
    type Output = Time;

    fn add(self, span: Duration) -> Time {
        let micros = u64::try_from(span.as_micros()).unwrap_or(u64::MAX);
        Time(self.0.saturating_add(micros))
    }
}

impl Sub<Time> for Time {
    type Output = Duration;

    fn sub(self, earlier: Time) -> Duration {
        self.since(earlier)
    }
}

impl fmt::Display for Time {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}.{:03} s", self.0 / 1_000_000, self.0 / 1_000 % 1_000)
    }
}
