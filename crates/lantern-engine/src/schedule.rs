//! Rules that time fires: rounds, and times of day on a wall clock that is handed in.

use std::collections::BTreeMap;
use std::time::Duration;

use lantern_model::{Time, TimeOfDay, TriggerKind, Value, WallTime};

use crate::activation::Activation;
use crate::engine::Engine;
use crate::key_recognizer::Won;
use crate::timers::Timer;

/// A time of day that was slept through still fires if it is not longer ago than this.
const LATE: i64 = 60;

/// The wall clock as it was told last.
#[derive(Debug, Default)]
pub(crate) struct Clock {
    told: Option<(Time, WallTime)>,
    /// The day on which each alarm rang last.
    rang: BTreeMap<Won, i64>,
}

impl Clock {
    /// What the clock shows, if it was told.
    pub(crate) fn wall(&self, now: Time) -> Option<WallTime> {
        let (at, wall) = self.told?;
        let passed = i64::try_from(now.since(at).as_secs()).unwrap_or(i64::MAX);
        Some(WallTime { local: wall.local.saturating_add(passed), offset: wall.offset })
    }
}

impl Clock {
    /// Changes whose alarms rang, as `change` says.
    pub(crate) fn remap_ids(&mut self, change: impl Fn(Won) -> Option<Won>) {
        let rang = std::mem::take(&mut self.rang).into_iter();
        self.rang = rang.filter_map(|(won, day)| Some((change(won)?, day))).collect();
    }
}

impl Engine {
    /// Rules of `every D` begin their rounds, but for those that are under way.
    pub(crate) fn start_intervals(&mut self, now: Time) {
        for (rule, trigger, cause) in self.timed_causes() {
            let timer = Timer::Every(rule, trigger);
            if let TriggerKind::Every(span) = cause
                && !self.timers.is_set(timer)
            {
                self.timers.set(timer, now + span);
            }
        }
    }

    fn timed_causes(&self) -> Vec<(usize, usize, TriggerKind)> {
        let mut causes = Vec::new();
        for (number, rule) in self.rules.rules.iter().enumerate() {
            for (trigger, wanted) in rule.triggers.iter().enumerate() {
                if matches!(wanted.kind, TriggerKind::Every(_) | TriggerKind::At(_)) {
                    causes.push((number, trigger, wanted.kind.clone()));
                }
            }
        }
        causes
    }

    /// A round is over; the next begins.
    pub(crate) fn on_interval(&mut self, now: Time, rule: usize, trigger: usize) {
        if let TriggerKind::Every(span) = self.rules.rules[rule].triggers[trigger].kind {
            self.timers.set(Timer::Every(rule, trigger), now + span);
        }
        self.fire_timed(now, rule, trigger);
    }

    fn fire_timed(&mut self, now: Time, rule: usize, trigger: usize) {
        if self.context().allows(&self.rules.rules[rule]) && self.may_fire(now, rule) {
            self.fire(now, rule, Activation::by(trigger, Value::Truth(true)));
        }
    }

    /// The wall clock was told, or set anew.
    pub(crate) fn handle_clock(&mut self, now: Time, wall: WallTime) {
        let before = self.wall_clock.wall(now);
        self.wall_clock.told = Some((now, wall));
        if let Some(before) = before.filter(|before| before.local < wall.local) {
            let season = before.offset != wall.offset;
            for (rule, trigger, cause) in self.timed_causes() {
                let TriggerKind::At(time) = cause else { continue };
                let due = next_due(before.local, time);
                let late = wall.local - due;
                // What the season's jump left out is made up for; what was slept through, only if
                // it was just now.
                if late >= 0 && (season || late < LATE) {
                    self.on_alarm_once(now, (rule, trigger), due);
                }
            }
        }
        self.set_alarms(now);
    }

    /// Sets the next deadline of every rule of `at TIME`.
    pub(crate) fn set_alarms(&mut self, now: Time) {
        self.timers.cancel_all(|timer| matches!(timer, Timer::Alarm(..)));
        for (rule, trigger, cause) in self.timed_causes() {
            if let TriggerKind::At(time) = cause {
                self.set_alarm(now, (rule, trigger), time);
            }
        }
    }

    fn set_alarm(&mut self, now: Time, won: Won, time: TimeOfDay) {
        let Some(wall) = self.wall_clock.wall(now) else { return };
        let mut due = next_due(wall.local, time);
        // An hour that comes twice rings once.
        let day = due.div_euclid(86_400);
        if self.wall_clock.rang.get(&won) == Some(&day) {
            due += 86_400;
        }
        // The clock was told in whole seconds, so what is left of the present one counts as well.
        let told = self.wall_clock.told.map_or(now, |(at, _)| at);
        let fraction = now.since(told).subsec_micros();
        let span = Duration::from_secs((due - wall.local).unsigned_abs())
            .saturating_sub(Duration::from_micros(fraction.into()));
        self.timers.set(Timer::Alarm(won.0, won.1), now + span);
    }

    /// A time of day is there.
    pub(crate) fn on_alarm(&mut self, now: Time, rule: usize, trigger: usize) {
        let Some(wall) = self.wall_clock.wall(now) else { return };
        self.on_alarm_once(now, (rule, trigger), wall.local);
        if let TriggerKind::At(time) = self.rules.rules[rule].triggers[trigger].kind {
            self.set_alarm(now, (rule, trigger), time);
        }
    }

    fn on_alarm_once(&mut self, now: Time, won: Won, due: i64) {
        let day = due.div_euclid(86_400);
        if self.wall_clock.rang.insert(won, day) != Some(day) {
            self.fire_timed(now, won.0, won.1);
        }
    }
}

/// The first moment after `local` at which it is that time of day.
fn next_due(local: i64, time: TimeOfDay) -> i64 {
    let today = WallTime::on_day(local.div_euclid(86_400), time);
    if today > local { today } else { today + 86_400 }
}
