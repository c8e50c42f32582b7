//! Deadlines, each with a purpose.
//!
//! A purpose has at most one deadline: setting it again replaces the one before. A wait that was
//! cancelled and begun anew therefore cannot end at the old time.

use std::collections::BTreeMap;

use lantern_model::{Key, RuleId, RunId, Time, TriggerRef};

/// What a deadline is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Timer {
    /// A sleeping run continues.
    Wake(RunId),
    /// The time limit of what a run waits for.
    Timeout(RunId),
    /// A held key repeats.
    Repeat(Key),
    /// The press with that number can no longer become this.
    PendingKind(u64, PendingKind),
    /// The pointer lies still while a shape may be drawn with the press of that number.
    PointerStill(u64),
    /// No further stroke came after the one drawn with the press of that number.
    NextStroke(u64),
    /// The next key of a sequence did not come.
    Sequence,
    /// The triggers of that rule have been quiet for its `after quiet` time.
    Debounce(RuleId),
    /// An `every` trigger.
    Every(TriggerRef),
    /// An `at` trigger.
    Alarm(TriggerRef),
    /// Phrases no longer count without the attention word.
    AttentionTimeout,
    /// The panic combination was held for long enough to resume all rules.
    ResumeHold,
    /// Waiting conditions on the clock are evaluated again.
    EvaluateConditions,
}

impl Timer {
    /// The timer of a rule's trigger in the numbering of another set of rules; nothing if the
    /// trigger's rule is gone or the timer belongs to no rule that is kept.
    pub(crate) fn renumbered(
        self,
        rule: impl Fn(RuleId) -> Option<RuleId>,
        trigger: impl Fn(TriggerRef) -> Option<TriggerRef>,
    ) -> Option<Timer> {
        match self {
            Timer::Debounce(old) => rule(old).map(Timer::Debounce),
            Timer::Every(old) => trigger(old).map(Timer::Every),
            Timer::Wake(_) | Timer::Timeout(_) | Timer::Repeat(_) => Some(self),
            Timer::AttentionTimeout | Timer::EvaluateConditions | Timer::ResumeHold => Some(self),
            Timer::PendingKind(..)
            | Timer::Sequence
            | Timer::PointerStill(_)
            | Timer::NextStroke(_)
            | Timer::Alarm(..) => None,
        }
    }
}

/// What a press that is not decided may still become.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum PendingKind {
    /// Part of keys together.
    Chord,
    /// A tap.
    Tap,
    /// The first of two.
    DoublePress,
    /// Held long enough, for this trigger.
    Held(TriggerRef),
}

/// Deadlines by purpose, due in the order of their time and then of their setting.
#[derive(Debug)]
pub(crate) struct TimerQueue<K> {
    by_time: BTreeMap<(Time, u64), K>,
    by_purpose: BTreeMap<K, (Time, u64)>,
    set_count: u64,
}

impl<K> Default for TimerQueue<K> {
    fn default() -> Self {
        TimerQueue { by_time: BTreeMap::new(), by_purpose: BTreeMap::new(), set_count: 0 }
    }
}

impl<K: Ord + Copy> TimerQueue<K> {
    /// Sets the deadline of a purpose, in place of the one it had.
    pub(crate) fn set(&mut self, purpose: K, time: Time) {
        self.set_count += 1;
        let at = (time, self.set_count);
        if let Some(before) = self.by_purpose.insert(purpose, at) {
            self.by_time.remove(&before);
        }
        self.by_time.insert(at, purpose);
    }

    /// Takes the deadline of a purpose back, if it has one.
    pub(crate) fn cancel(&mut self, purpose: K) {
        if let Some(at) = self.by_purpose.remove(&purpose) {
            self.by_time.remove(&at);
        }
    }

    /// Takes back every deadline whose purpose is unwanted.
    pub(crate) fn cancel_all(&mut self, unwanted: impl Fn(&K) -> bool) {
        self.by_time.retain(|_, purpose| !unwanted(purpose));
        self.by_purpose.retain(|purpose, _| !unwanted(purpose));
    }

    /// Whether a purpose has a deadline.
    pub(crate) fn is_set(&self, purpose: K) -> bool {
        self.by_purpose.contains_key(&purpose)
    }

    /// Gives every deadline the purpose that `change` says, and takes back those without one.
    pub(crate) fn remap(&mut self, change: impl Fn(K) -> Option<K>) {
        let changed = |(at, purpose): (_, K)| Some((at, change(purpose)?));
        self.by_time = std::mem::take(&mut self.by_time).into_iter().filter_map(changed).collect();
        self.by_purpose = self.by_time.iter().map(|(at, purpose)| (*purpose, *at)).collect();
    }

    /// The first deadline.
    pub(crate) fn next(&self) -> Option<Time> {
        self.by_time.keys().next().map(|(time, _)| *time)
    }

    /// Takes the first deadline that is due at `now`.
    pub(crate) fn take_due(&mut self, now: Time) -> Option<K> {
        let entry = self.by_time.first_entry()?;
        if entry.key().0 > now {
            return None;
        }
        let purpose = entry.remove();
        self.by_purpose.remove(&purpose);
        Some(purpose)
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    fn at(millis: u64) -> Time {
        Time::START + Duration::from_millis(millis)
    }

    fn due(queue: &mut TimerQueue<u8>, millis: u64) -> Vec<u8> {
        std::iter::from_fn(|| queue.take_due(at(millis))).collect()
    }

    #[test]
    fn a_purpose_set_again_is_due_once_at_the_later_time() {
        let mut queue = TimerQueue::default();
        queue.set(1, at(10));
        queue.set(1, at(20));
        assert_eq!(queue.next(), Some(at(20)));
        assert!(due(&mut queue, 19).is_empty());
        assert_eq!(due(&mut queue, 20), [1]);
        assert_eq!(queue.next(), None);
        assert!(!queue.is_set(1));
    }

    #[test]
    fn deadlines_of_one_time_are_due_in_the_order_of_their_setting() {
        let mut queue = TimerQueue::default();
        for purpose in [3, 1, 2, 3] {
            queue.set(purpose, at(5));
        }
        assert_eq!(due(&mut queue, 5), [1, 2, 3]);
    }

    #[test]
    fn a_cancelled_purpose_is_never_due_and_others_are() {
        let mut queue = TimerQueue::default();
        for purpose in 1..=4 {
            queue.set(purpose, at(purpose.into()));
        }
        queue.cancel(1);
        queue.cancel_all(|purpose| *purpose == 3);
        assert!(!queue.is_set(1) && queue.is_set(2) && !queue.is_set(3));
        assert_eq!(due(&mut queue, 9), [2, 4]);
    }

    #[test]
    fn remapped_purposes_keep_their_time_and_their_order() {
        let mut queue = TimerQueue::default();
        for (purpose, millis) in [(1, 7), (2, 7), (3, 4)] {
            queue.set(purpose, at(millis));
        }
        queue.remap(|purpose| (purpose != 2).then_some(purpose + 10));
        assert!(queue.is_set(11) && !queue.is_set(1) && !queue.is_set(12));
        queue.cancel(11);
        assert_eq!(due(&mut queue, 9), [13]);
    }

    #[test]
    fn timers_of_a_rule_follow_it_into_another_set() {
        let rule = |rule: RuleId| (rule == RuleId(4)).then_some(RuleId(1));
        let trigger = |old: TriggerRef| Some(TriggerRef { rule: rule(old.rule)?, ..old });
        let at = |rule: usize, trigger: usize| TriggerRef { rule: RuleId(rule), trigger };
        let renumbered = |timer: Timer| timer.renumbered(rule, trigger);
        assert_eq!(renumbered(Timer::Debounce(RuleId(4))), Some(Timer::Debounce(RuleId(1))));
        assert_eq!(renumbered(Timer::Debounce(RuleId(5))), None);
        assert_eq!(renumbered(Timer::Every(at(4, 2))), Some(Timer::Every(at(1, 2))));
        assert_eq!(renumbered(Timer::Alarm(at(4, 0))), None);
        assert_eq!(renumbered(Timer::AttentionTimeout), Some(Timer::AttentionTimeout));
        assert_eq!(renumbered(Timer::Sequence), None);
    }
}
