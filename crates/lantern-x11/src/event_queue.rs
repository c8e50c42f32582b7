//! Events of the back end that the engine has not taken yet.

use std::collections::VecDeque;

use lantern_model::{CommandResult, EffectId, Event};

/// Events and outcomes, in their order. Events of the person come first, so that a loop of steps never
/// keeps the key that stops it waiting.
#[derive(Debug, Default)]
pub(super) struct QueuedEvents {
    events: VecDeque<Event>,
    outcomes: VecDeque<Event>,
}

impl QueuedEvents {
    pub(super) fn push(&mut self, event: Event) {
        self.events.push_back(event);
    }

    pub(super) fn extend(&mut self, events: impl IntoIterator<Item = Event>) {
        self.events.extend(events);
    }

    /// Queues the outcome of an effect.
    pub(super) fn push_outcome(&mut self, effect: EffectId, result: CommandResult) {
        self.push_outcome_event(Event::Outcome { effect, result });
    }

    /// Queues an outcome.
    pub(super) fn push_outcome_event(&mut self, outcome: Event) {
        self.outcomes.push_back(outcome);
    }

    pub(super) fn extend_outcomes(&mut self, outcomes: impl IntoIterator<Item = Event>) {
        self.outcomes.extend(outcomes);
    }

    /// Takes the next event that is no outcome.
    pub(super) fn pop(&mut self) -> Option<Event> {
        self.events.pop_front()
    }

    /// Takes the next outcome.
    pub(super) fn pop_outcome(&mut self) -> Option<Event> {
        self.outcomes.pop_front()
    }

    /// Whether no event but outcomes is queued.
    pub(super) fn has_no_events(&self) -> bool {
        self.events.is_empty()
    }

    /// Whether no outcome is queued.
    pub(super) fn has_no_outcomes(&self) -> bool {
        self.outcomes.is_empty()
    }
}
