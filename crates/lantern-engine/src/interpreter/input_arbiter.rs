//! Which run may send input, and how much: one run sends input at a time, one brings programs to the
//! front at a time, and all together stay below a rate.

use std::collections::VecDeque;
use std::time::Duration;

use lantern_model::{InputAction, RunId, Time};

use super::held_keys::HeldKeys;

/// Presses, releases and turns of a wheel that rules may make in a second, all together, unless
/// they are `fast`: a rule that runs away must leave the desktop to the person.
const CEILING: u32 = 4000;
/// Input that may come at once before the rate limit takes effect, as time at that rate.
const BURST: Duration = Duration::from_millis(250);

/// The turns of runs, the keys they hold, and the input they may still make.
#[derive(Debug, Default)]
pub(super) struct InputArbiter {
    /// The turn to send input.
    pub input: TurnQueue,
    /// The turn to bring a program to the front.
    pub focus: TurnQueue,
    /// Every key that is down by our doing.
    pub held: HeldKeys,
    /// Until when the ceiling of input is used up.
    used_until: Time,
}

impl InputArbiter {
    /// When a run that is subject to the rate limit may send input again; nothing if it may now.
    pub(super) fn limited_until(&self, now: Time) -> Option<Time> {
        let due = Time::START + self.used_until.since(Time::START).saturating_sub(BURST);
        (due > now).then_some(due)
    }

    /// Counts input against the ceiling.
    pub(super) fn charge(&mut self, now: Time, actions: &[InputAction]) {
        let strokes = |action: &InputAction| match action {
            InputAction::Tap(keys) => 2 * keys.len() as u32,
            InputAction::Down(_) | InputAction::Up(_) => 1,
            // A text is as long as its rule says, and a movement keeps the display's pace.
            InputAction::Text(_) | InputAction::MoveBy(..) | InputAction::MoveTo(..) => 0,
        };
        let count: u32 = actions.iter().map(strokes).sum();
        self.used_until = self.used_until.max(now) + Duration::from_secs(1) / CEILING * count;
    }
}

/// A resource that one run uses at a time, and the runs that wait for it.
#[derive(Debug, Default)]
pub(super) struct TurnQueue {
    owner: Option<RunId>,
    queue: VecDeque<RunId>,
}

impl TurnQueue {
    /// Whether the run may have it now; if not, it is queued.
    pub(super) fn acquire(&mut self, run: RunId) -> bool {
        if self.owner.is_none_or(|owner| owner == run) {
            self.owner = Some(run);
            return true;
        }
        if !self.queue.contains(&run) {
            self.queue.push_back(run);
        }
        false
    }

    /// Takes it, or the place in the queue, from a run; gives the run whose turn it is now.
    pub(super) fn release(&mut self, run: RunId) -> Option<RunId> {
        self.queue.retain(|queued| *queued != run);
        if self.owner != Some(run) {
            return None;
        }
        self.owner = self.queue.pop_front();
        self.owner
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runs_have_their_turn_in_the_order_in_which_they_asked() {
        let mut turn = TurnQueue::default();
        assert!(turn.acquire(RunId(1)) && turn.acquire(RunId(1)));
        assert!(!turn.acquire(RunId(2)) && !turn.acquire(RunId(3)) && !turn.acquire(RunId(2)));
        assert_eq!(turn.release(RunId(2)), None, "it leaves the queue");
        assert_eq!(turn.release(RunId(1)), Some(RunId(3)));
        assert_eq!(turn.release(RunId(3)), None);
        assert!(turn.acquire(RunId(2)));
    }

    #[test]
    fn input_is_limited_once_more_than_a_burst_was_sent() {
        let mut arbiter = InputArbiter::default();
        let key = lantern_model::Key::named("a").expect("a is in the table");
        let taps = |count: usize| vec![InputAction::Tap(vec![key]); count];
        arbiter.charge(Time::START, &taps(500));
        assert_eq!(arbiter.limited_until(Time::START), None, "1,000 strokes take 250 ms");
        arbiter.charge(Time::START, &taps(2));
        let due = arbiter.limited_until(Time::START).expect("the burst is used up");
        assert_eq!(due, Time::START + Duration::from_millis(1));
        assert_eq!(arbiter.limited_until(due), None);
        arbiter.charge(due, &[InputAction::Text("core".to_owned())]);
        assert_eq!(arbiter.limited_until(due), None, "a text costs nothing");
    }
}
