//! Triggers that time fires: intervals, and times of day on a wall clock that is reported by an event.
//!
//! Owns the days on which alarms rang. It sets the deadlines of its triggers; the engine fires them.

use std::collections::BTreeMap;
use std::time::Duration;

use lantern_model::{RuleSet, Time, TimeOfDay, TriggerKind, TriggerRef, WallTime};

use crate::context::WallClock;
use crate::timers::{Timer, TimerQueue};

/// An alarm that was missed while the machine slept still fires if it is not older than this, in seconds.
const LATE: i64 = 60;
/// Seconds of a day.
const DAY: i64 = 86_400;

/// The alarms of a set of rules.
#[derive(Debug, Default)]
pub(crate) struct Schedule {
    /// The day on which each alarm rang last, counted from 1970-01-01.
    fired_on: BTreeMap<TriggerRef, i64>,
}

impl Schedule {
    /// Starts the intervals of `every` triggers that do not run yet.
    pub(crate) fn start_intervals(
        &self,
        now: Time,
        rules: &RuleSet,
        timers: &mut TimerQueue<Timer>,
    ) {
        for (trigger, kind) in rules.triggers() {
            let timer = Timer::Every(trigger);
            if let TriggerKind::Every(span) = kind
                && !timers.is_set(timer)
            {
                timers.set(timer, now + *span);
            }
        }
    }

    /// Starts the next interval of an `every` trigger.
    pub(crate) fn next_interval(
        &self,
        now: Time,
        trigger: TriggerRef,
        rules: &RuleSet,
        timers: &mut TimerQueue<Timer>,
    ) {
        if let TriggerKind::Every(span) = rules[trigger] {
            timers.set(Timer::Every(trigger), now + span);
        }
    }

    /// The alarms that a new wall clock makes due, given what the clock before it would show. What a
    /// change of the season leaves out rings; what was slept through only if it is not late.
    pub(crate) fn skipped_alarms(
        &mut self,
        before: Option<WallTime>,
        wall: WallTime,
        rules: &RuleSet,
    ) -> Vec<TriggerRef> {
        let Some(before) = before.filter(|before| before.local < wall.local) else {
            return Vec::new();
        };
        let is_season = before.offset != wall.offset;
        let due = alarms(rules).filter_map(|(trigger, time)| {
            let due = next_due(before.local, time);
            let late = wall.local - due;
            (late >= 0 && (is_season || late < LATE)).then_some((trigger, due))
        });
        let due: Vec<(TriggerRef, i64)> = due.collect();
        due.into_iter()
            .filter(|(trigger, due)| self.mark_fired(*trigger, *due))
            .map(|(t, _)| t)
            .collect()
    }

    /// Sets the next deadline of every `at` trigger.
    pub(crate) fn set_alarms(
        &self,
        now: Time,
        rules: &RuleSet,
        clock: &WallClock,
        timers: &mut TimerQueue<Timer>,
    ) {
        timers.cancel_all(|timer| matches!(timer, Timer::Alarm(..)));
        for (trigger, time) in alarms(rules) {
            self.set_alarm(now, (trigger, time), clock, timers);
        }
    }

    fn set_alarm(
        &self,
        now: Time,
        (trigger, time): (TriggerRef, TimeOfDay),
        clock: &WallClock,
        timers: &mut TimerQueue<Timer>,
    ) {
        let Some(wall) = clock.wall(now) else { return };
        let mut due = next_due(wall.local, time);
        // An hour that comes twice rings once.
        if self.fired_on.get(&trigger) == Some(&due.div_euclid(DAY)) {
            due += DAY;
        }
        // The clock was reported in whole seconds, so what is left of the present one counts as well.
        let fraction = now.since(clock.told_at(now)).subsec_micros();
        let span = Duration::from_secs((due - wall.local).unsigned_abs())
            .saturating_sub(Duration::from_micros(fraction.into()));
        timers.set(Timer::Alarm(trigger), now + span);
    }

    /// Takes that the deadline of an `at` trigger is due; returns whether it fires.
    pub(crate) fn alarm(&mut self, now: Time, trigger: TriggerRef, clock: &WallClock) -> bool {
        clock.wall(now).is_some_and(|wall| self.mark_fired(trigger, wall.local))
    }

    /// Sets the deadline after one that was due.
    pub(crate) fn set_next_alarm(
        &self,
        now: Time,
        trigger: TriggerRef,
        rules: &RuleSet,
        clock: &WallClock,
        timers: &mut TimerQueue<Timer>,
    ) {
        if let TriggerKind::At(time) = rules[trigger] {
            self.set_alarm(now, (trigger, time), clock, timers);
        }
    }

    /// Gives every alarm the trigger that `change` says, and forgets those without one.
    pub(crate) fn remap_ids(&mut self, change: impl Fn(TriggerRef) -> Option<TriggerRef>) {
        let fired_on = std::mem::take(&mut self.fired_on).into_iter();
        self.fired_on =
            fired_on.filter_map(|(trigger, day)| Some((change(trigger)?, day))).collect();
    }

    /// Marks the `at` trigger as fired on the day of `local`; returns whether it had not fired on that day.
    fn mark_fired(&mut self, trigger: TriggerRef, local: i64) -> bool {
        let day = local.div_euclid(DAY);
        self.fired_on.insert(trigger, day) != Some(day)
    }
}

fn alarms(rules: &RuleSet) -> impl Iterator<Item = (TriggerRef, TimeOfDay)> {
    rules.triggers().filter_map(|(trigger, kind)| match kind {
        TriggerKind::At(time) => Some((trigger, *time)),
        _ => None,
    })
}

/// The first moment after `local` at which it is that time of day.
fn next_due(local: i64, time: TimeOfDay) -> i64 {
    let today = WallTime::on_day(local.div_euclid(DAY), time);
    if today > local { today } else { today + DAY }
}

#[cfg(test)]
mod tests {
    use lantern_model::{Rule, RuleId, SourceLocation, Trigger};

    use super::*;

    const AT: TriggerRef = TriggerRef { rule: RuleId(0), trigger: 0 };

    fn rules() -> RuleSet {
        let time = TimeOfDay::new(6, 0, 0).expect("a time of day");
        let trigger = Trigger { kind: TriggerKind::At(time), place: SourceLocation::default() };
        RuleSet {
            rules: vec![Rule { triggers: vec![trigger], ..Rule::default() }],
            ..RuleSet::default()
        }
    }

    fn wall(hour: i64, offset: i32) -> WallTime {
        WallTime { local: 20_000 * DAY + hour * 3600, offset }
    }

    #[test]
    fn what_a_change_of_season_skips_rings_once_and_what_was_slept_through_does_not() {
        let (rules, mut schedule) = (rules(), Schedule::default());
        assert!(schedule.skipped_alarms(None, wall(7, 0), &rules).is_empty());
        assert!(schedule.skipped_alarms(Some(wall(5, 0)), wall(7, 0), &rules).is_empty());
        assert_eq!(schedule.skipped_alarms(Some(wall(5, 0)), wall(7, 3600), &rules), [AT]);
        assert!(schedule.skipped_alarms(Some(wall(5, 0)), wall(7, 3600), &rules).is_empty());
        schedule.remap_ids(|_| None);
        assert_eq!(schedule.skipped_alarms(Some(wall(5, 0)), wall(7, 3600), &rules), [AT]);
    }
}
