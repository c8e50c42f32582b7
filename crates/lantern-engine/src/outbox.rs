//! What the components of the engine write: effects for the back ends, deadlines, decisions.
//!
//! A component is given the outbox by the engine, and never sees what another has written.

use std::collections::VecDeque;

use lantern_model::{Effect, EffectId, EffectKind, RuleId, RunId, Time};

use crate::decision_log::{DecisionKind, DecisionLog};
use crate::timers::{Timer, TimerQueue};

/// Effects that are not polled yet, deadlines that are not due yet, and the last decisions.
#[derive(Debug, Default)]
pub(crate) struct Outbox {
    effects: VecDeque<Effect>,
    effect_count: u64,
    pub timers: TimerQueue<Timer>,
    pub decisions: DecisionLog,
}

impl Outbox {
    /// Queues an effect, for a run if it belongs to one.
    pub(crate) fn emit(&mut self, run: Option<RunId>, kind: EffectKind) -> EffectId {
        self.effect_count += 1;
        let id = EffectId(self.effect_count);
        self.effects.push_back(Effect { id, run, kind });
        id
    }

    /// Takes the oldest effect.
    pub(crate) fn poll(&mut self) -> Option<Effect> {
        self.effects.pop_front()
    }

    /// Records a decision, about a rule if it is about one.
    pub(crate) fn record(&mut self, now: Time, rule: Option<RuleId>, kind: DecisionKind) {
        self.decisions.add(now, rule, kind);
    }
}
