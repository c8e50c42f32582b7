//! Pauses that end after a time.

use std::time::Duration;

use lantern_model::Time;

/// A pause with an end.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct TimedPause {
    pub until: Time,
    /// The paused rule; none for all rules.
    pub name: Option<String>,
}

/// The pauses that end after a time.
#[derive(Debug, Default)]
pub(super) struct TimedPauses(Vec<TimedPause>);

impl TimedPauses {
    /// Takes that a rule or all rules were paused, for a time if it is given.
    pub(super) fn pause(&mut self, now: Time, name: Option<String>, span: Option<Duration>) {
        self.0.retain(|pause| pause.name != name);
        self.0.extend(span.map(|span| TimedPause { until: now + span, name }));
    }

    /// Takes that a rule or all rules were resumed.
    pub(super) fn resume(&mut self, name: Option<&str>) {
        self.0.retain(|pause| name.is_some() && pause.name.as_deref() != name);
    }

    /// Forgets the end of a pause of all rules: they were resumed, or paused without an end. Pauses of one rule
    /// stay.
    pub(super) fn forget_all_rules(&mut self) {
        self.0.retain(|pause| pause.name.is_some());
    }

    /// Takes the pauses whose time is over.
    pub(super) fn take_over(&mut self, now: Time) -> Vec<TimedPause> {
        self.0.extract_if(.., |pause| pause.until <= now).collect()
    }

    pub(super) fn next_deadline(&self) -> Option<Time> {
        self.0.iter().map(|pause| pause.until).min()
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = &TimedPause> {
        self.0.iter()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(seconds: u64) -> Time {
        Time::START + Duration::from_secs(seconds)
    }

    #[test]
    fn a_pause_ends_at_its_time_unless_it_was_given_anew_or_resumed() {
        let mut pauses = TimedPauses::default();
        let name = |name: &str| Some(name.to_owned());
        pauses.pause(at(0), name("saw"), Some(Duration::from_secs(10)));
        pauses.pause(at(0), name("log"), Some(Duration::from_secs(5)));
        pauses.pause(at(1), name("saw"), Some(Duration::from_secs(20)));
        assert_eq!(pauses.next_deadline(), Some(at(5)));
        assert_eq!(pauses.take_over(at(10)), [TimedPause { until: at(5), name: name("log") }]);
        pauses.pause(at(2), name("saw"), None);
        assert_eq!(pauses.next_deadline(), None, "it has no end any more");
        pauses.pause(at(0), None, Some(Duration::from_secs(1)));
        pauses.pause(at(0), name("saw"), Some(Duration::from_secs(1)));
        pauses.resume(Some("saw"));
        assert_eq!(pauses.iter().count(), 1);
        pauses.resume(None);
        assert_eq!(pauses.iter().count(), 0);
    }
}
