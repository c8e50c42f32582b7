//! Recognises key presses: what a press fires at once, what it may still become, what is replayed to
//! the program in front, and what a remap makes of it.
//!
//! A withheld press that may still become several things is pending. While one is, every key is
//! withheld, so that all are replayed in the order in which they were pressed.
//!
//! [`KeyRecognizer`] owns the presses. The engine hands it each event with a [`KeyPass`], and carries out
//! the [`KeyDecision`]s that the pass collects.

mod chords;
mod gesture_presses;
mod key_press;
mod pending_press;
mod recognizer;
mod sequences;

use lantern_model::{
    HeldModifiers, Key, KeyCombination, PressKind, ReplayKey, RuleId, RuleSet, Time, TriggerKind,
    TriggerRef,
};

use crate::binding_table::{BindingTable, Candidate};
use crate::context::Context;
use crate::decision_log::CHARACTER;
use crate::eligibility::blocking_problem;
use crate::eval::{Evaluator, Surroundings};
use crate::key_state::KeyState;
use crate::key_stroke::KeyStroke;
use crate::timers::{Timer, TimerQueue};

pub(crate) use recognizer::KeyRecognizer;

/// One press of a key; the number tells it from others of the same key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Press {
    pub key: Key,
    pub number: u64,
}

/// Whether a press is the first of a held key or one of its repeats.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Repetition {
    First,
    Repeat,
}

/// What a key was held for when it went up.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum ReleasedWith {
    /// It was a stroke of a drawing.
    Stroke,
    /// It was not.
    NoStroke,
}

/// What the recognizer has decided. The engine carries decisions out in their order.
#[derive(Debug)]
pub(crate) enum KeyDecision {
    /// A trigger came.
    Fire { trigger: TriggerRef, press: Press, repetition: Repetition },
    /// The program in front gets the key.
    Replay(ReplayKey),
    /// No rule wanted the key after all; the words name it.
    Unwanted(String),
    /// A rule would have fired, but this keeps it from firing.
    Blocked { rule: RuleId, problem: String },
    /// The live runs of these rules end, by their own trigger.
    StopRuns(Vec<RuleId>),
    /// The runs of `while held` rules that this key fired end.
    EndHeldRuns(Key),
    /// A shape may be drawn from now on while the stroke is held.
    StrokeMayBegin(Press, KeyStroke),
}

/// One event's way through the recognizer: what it may read, and what is decided.
pub(crate) struct KeyPass<'a> {
    pub now: Time,
    pub rules: &'a RuleSet,
    pub bindings: &'a BindingTable,
    pub context: &'a Context,
    pub evaluator: &'a Evaluator,
    /// Whether a rule has live runs.
    pub is_running: &'a dyn Fn(RuleId) -> bool,
    pub timers: &'a mut TimerQueue<Timer>,
    pub decisions: Vec<KeyDecision>,
}

impl KeyPass<'_> {
    /// Whether a rule may fire now. That a rule is blocked is a decision.
    fn may_fire(&mut self, keys: &KeyState, rule: RuleId) -> bool {
        let around = Surroundings { now: self.now, context: self.context, keys };
        match blocking_problem(&self.rules[rule], around, self.evaluator) {
            None => true,
            Some(problem) => {
                self.decisions.push(KeyDecision::Blocked { rule, problem });
                false
            }
        }
    }

    fn fire(&mut self, trigger: Option<TriggerRef>, press: Press) {
        if let Some(trigger) = trigger {
            let repetition = Repetition::First;
            self.decisions.push(KeyDecision::Fire { trigger, press, repetition });
        }
    }

    fn replay(&mut self, key: ReplayKey) {
        self.decisions.push(KeyDecision::Replay(key));
    }

    fn passes_through(&self, trigger: TriggerRef) -> bool {
        self.rules[trigger.rule].passes_key_through
    }

    /// The first candidate of that kind of press that may fire.
    fn winner(
        &mut self,
        keys: &KeyState,
        candidates: &[Candidate],
        held: HeldModifiers,
        kind: PressKind,
    ) -> Option<TriggerRef> {
        let fits = |c: &&Candidate| !c.stops_only && c.press == kind && c.has_modifier_keys(held);
        let found = candidates.iter().filter(fits).find(|c| self.may_fire(keys, c.trigger.rule));
        found.map(|found| found.trigger)
    }

    /// The winner of each length of time for which the key may be held.
    fn hold_winners(
        &mut self,
        keys: &KeyState,
        candidates: &[Candidate],
        held: HeldModifiers,
    ) -> Vec<TriggerRef> {
        let kinds = candidates.iter().map(|candidate| candidate.press);
        let mut kinds: Vec<PressKind> =
            kinds.filter(|kind| matches!(kind, PressKind::Held(_))).collect();
        kinds.sort();
        kinds.dedup();
        kinds.into_iter().filter_map(|kind| self.winner(keys, candidates, held, kind)).collect()
    }

    /// A key stroke as a decision names it. A character that the person types is not named.
    fn stroke_words(&self, stroke: KeyStroke) -> String {
        let candidate = self.bindings.candidates(stroke).first();
        match candidate.map(|candidate| &self.rules[candidate.trigger]) {
            Some(TriggerKind::Key { combo, .. }) if combo.types_character() => CHARACTER.to_owned(),
            Some(TriggerKind::Key { combo, .. }) => combo.to_string(),
            _ if KeyCombination::with(stroke.1, stroke.0).types_character() => CHARACTER.to_owned(),
            _ => stroke.0.to_string(),
        }
    }
}
