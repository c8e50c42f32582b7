//! Time as the person reads it off the wall: handed in, never read.

use std::fmt;

/// Seconds in a day.
const DAY: i64 = 86_400;

/// A time of day, in seconds since midnight, below 86,400.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct TimeOfDay(u32);

impl TimeOfDay {
    /// The time with that hour, minute and second, if there is one.
    pub fn new(hour: u32, minute: u32, second: u32) -> Option<TimeOfDay> {
        (hour < 24 && minute < 60 && second < 60)
            .then_some(TimeOfDay(hour * 3600 + minute * 60 + second))
    }

    /// Seconds since midnight.
    pub const fn seconds(self) -> u32 {
        self.0
    }
}

impl fmt::Display for TimeOfDay {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:02}:{:02}", self.0 / 3600, self.0 / 60 % 60)?;
        match self.0 % 60 {
            0 => Ok(()),
            seconds => write!(f, ":{seconds:02}"),
        }
    }
}

/// A moment on the wall clock: local time, and how far it is from universal time.
///
/// ```
/// use lantern_model::WallTime;
/// let wall = WallTime::from_civil(2031, 6, 21, 23, 59, 30);
/// assert_eq!(wall.to_string(), "2031-06-21 23:59:30");
/// assert_eq!(wall.weekday(), "saturday");
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct WallTime {
    /// Local seconds since the local midnight that began 1970.
    pub local: i64,
    /// Local time minus universal time, in seconds; it changes with the season.
    pub offset: i32,
}

impl WallTime {
    /// The moment with that date and time, at universal time's own offset.
    pub fn from_civil(
        year: i64,
        month: u32,
        day: u32,
        hour: u32,
        minute: u32,
        second: u32,
    ) -> Self {
        let seconds = i64::from(hour * 3600 + minute * 60 + second);
        WallTime { local: days_from_civil(year, month, day) * DAY + seconds, offset: 0 }
    }

    /// The day, counted from the first of 1970.
    pub const fn day(self) -> i64 {
        self.local.div_euclid(DAY)
    }

    /// The time of day.
    pub fn time_of_day(self) -> TimeOfDay {
        let seconds = self.local.rem_euclid(DAY);
        TimeOfDay(u32::try_from(seconds).expect("a day is shorter than that"))
    }

    /// Local seconds of `time` on a day.
    pub fn on_day(day: i64, time: TimeOfDay) -> i64 {
        day * DAY + i64::from(time.0)
    }

    /// Year, month and day of the month.
    pub fn date(self) -> (i64, u32, u32) {
        civil_from_days(self.day())
    }

    /// The day's name in lower case.
    pub fn weekday(self) -> &'static str {
        const NAMES: [&str; 7] =
            ["thursday", "friday", "saturday", "sunday", "monday", "tuesday", "wednesday"];
        NAMES[self.day().rem_euclid(7) as usize]
    }
}

impl fmt::Display for WallTime {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (year, month, day) = self.date();
        let seconds = self.time_of_day().0;
        let (hour, minute, second) = (seconds / 3600, seconds / 60 % 60, seconds % 60);
        write!(f, "{year:04}-{month:02}-{day:02} {hour:02}:{minute:02}:{second:02}")
    }
}

/// Days since the first of 1970. The year is taken to begin in March, so that the leap day is its
/// last; 400 years are 146,097 days.
fn days_from_civil(year: i64, month: u32, day: u32) -> i64 {
    let year = if month <= 2 { year - 1 } else { year };
    let era = year.div_euclid(400);
    let year_of_era = year.rem_euclid(400);
    let month_from_march = i64::from((month + 9) % 12);
    let day_of_year = (153 * month_from_march + 2) / 5 + i64::from(day) - 1;
    let day_of_era = year_of_era * 365 + year_of_era / 4 - year_of_era / 100 + day_of_year;
    era * 146_097 + day_of_era - 719_468
}

/// The inverse of [`days_from_civil`].
fn civil_from_days(days: i64) -> (i64, u32, u32) {
    let shifted = days + 719_468;
    let era = shifted.div_euclid(146_097);
    let day_of_era = shifted.rem_euclid(146_097);
    let year_of_era =
        (day_of_era - day_of_era / 1460 + day_of_era / 36_524 - day_of_era / 146_096) / 365;
    let day_of_year = day_of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let month_from_march = (5 * day_of_year + 2) / 153;
    let day = (day_of_year - (153 * month_from_march + 2) / 5 + 1) as u32;
    let month = ((month_from_march + 2) % 12 + 1) as u32;
    let year = era * 400 + year_of_era + i64::from(month <= 2);
    (year, month, day)
}
