//! Why a combination did, or did not, fire: the rules nearest to it, each with the one thing that
//! keeps it from firing now.

use lantern_model::{
    Key, KeyCombination, PressKind, Refusal, Rule, RuleId, RuleSet, Time, TriggerKind, Value,
};

use crate::activation_policy::ActivationPolicy;
use crate::binding_table::Precedence;
use crate::context::Context;
use crate::eval::{Evaluator, Surroundings};
use crate::grab_planner::GrabPlanner;
use crate::interpreter::Runs;
use crate::key_state::KeyState;
use crate::key_stroke::{KeyStroke, chord_of, key_stroke_of};

/// A rule near to an input.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BlockedRule {
    /// The rule.
    pub rule: RuleId,
    /// What keeps it from firing; nothing if it would fire.
    pub reason: Option<String>,
}

/// The keyboard at hand has no key for a combination.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the keyboard at hand has {0}")]
pub struct MissingKeyError(String);

/// The stroke of a combination on the keyboard at hand.
pub(crate) fn stroke_of(
    combo: &KeyCombination,
    context: &Context,
) -> Result<KeyStroke, MissingKeyError> {
    let found = key_stroke_of(&combo.0, context.layout());
    found.map(|(stroke, _)| stroke).map_err(|missing| MissingKeyError(missing.to_string()))
}

/// The state of the engine in which a rule is looked for.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Explanation<'a> {
    pub now: Time,
    pub rules: &'a RuleSet,
    pub context: &'a Context,
    pub grabs: &'a GrabPlanner,
    pub keys: &'a KeyState,
    pub activations: &'a ActivationPolicy,
    pub evaluator: &'a Evaluator,
    pub runs: &'a Runs,
}

impl Explanation<'_> {
    /// The rules that a stroke is a trigger of, the one that would fire first; if there is none, those
    /// of the same key with other modifiers.
    pub(crate) fn nearest(&self, stroke: KeyStroke) -> Vec<BlockedRule> {
        let mut exact = Vec::new();
        let mut others = Vec::new();
        for (id, rule) in self.rules.numbered_rules() {
            match self.nearness(rule, stroke) {
                Some(Nearness::Wants(kind)) => exact.push((id, kind)),
                Some(Nearness::WantsOther(why)) => {
                    others.push(BlockedRule { rule: id, reason: Some(why) });
                }
                None => {}
            }
        }
        if exact.is_empty() {
            return others;
        }
        let near = exact.iter().map(|(rule, kind)| BlockedRule {
            rule: *rule,
            reason: self.blocking_reason(*rule, *kind, stroke),
        });
        let mut near: Vec<BlockedRule> = near.collect();
        self.mark_overruled(stroke, &mut near);
        near
    }

    /// Whether a rule has the stroke as a trigger; of one with the same key and other modifiers, what
    /// it wants.
    fn nearness(&self, rule: &Rule, stroke: KeyStroke) -> Option<Nearness> {
        let mut other = None;
        for trigger in &rule.triggers {
            let (combo, kind) = match &trigger.kind {
                TriggerKind::Key { combo, press: kind, .. } => (combo, *kind),
                TriggerKind::Keys { combos, .. } => (combos.first()?, PressKind::Pressed),
                TriggerKind::Gesture { shape, holding } => {
                    if key_stroke_of(&holding.0, self.context.layout())
                        .is_ok_and(|(held, _)| held == stroke)
                    {
                        other = Some(format!("it wants {shape} to be drawn while it is held"));
                    }
                    continue;
                }
                _ => continue,
            };
            let plain: Vec<Key> = match chord_of(combo, self.context.layout()) {
                Ok((keys, ..)) if keys.len() > 1 => keys.into_iter().collect(),
                _ => Vec::new(),
            };
            if plain.contains(&stroke.0) {
                other = Some(format!("it wants {combo}"));
                continue;
            }
            let Ok((wanted, _)) = key_stroke_of(&combo.0, self.context.layout()) else { continue };
            if wanted == stroke {
                return Some(Nearness::Wants(kind));
            }
            if wanted.0 == stroke.0 {
                other = Some(format!("it wants {combo}"));
            }
        }
        other.map(Nearness::WantsOther)
    }

    /// The first thing that keeps a rule from firing here and now.
    fn blocking_reason(&self, id: RuleId, kind: PressKind, stroke: KeyStroke) -> Option<String> {
        let rule = &self.rules[id];
        self.state_problem(rule, stroke)
            .or_else(|| self.device_problem(rule))
            .or_else(|| self.evaluator.unmet_condition(self.around(), rule))
            .or_else(|| {
                let problem = self.activations.throttle_problem(self.now, id, rule)?;
                Some(format!("it fires {problem}"))
            })
            .or_else(|| {
                let is_running = self.runs.is_running(id);
                let problem = self.activations.busy_problem(id, rule.reentry);
                problem.filter(|_| is_running).map(str::to_owned)
            })
            .or_else(|| self.press_problem(rule, kind, stroke.0))
    }

    /// That the rule is paused, locked out, without its key, or for another context.
    fn state_problem(&self, rule: &Rule, stroke: KeyStroke) -> Option<String> {
        if self.context.is_all_paused() {
            return Some("everything is paused: `lantern resume`".to_owned());
        }
        if self.context.is_paused(rule) {
            return Some("it is paused".to_owned());
        }
        if self.context.is_locked() && !rule.allowed_when_locked {
            return Some("the screen is locked".to_owned());
        }
        if let Some(why) = self.grabs.refusal_of(stroke) {
            let words = match why {
                Refusal::HeldByOther => {
                    "another program holds the key: `lantern capture` says whose"
                }
                Refusal::NotOnKeyboard => "the keyboard has no such key",
                Refusal::NotGranted => "the desktop, asked for the key, did not grant it",
            };
            return Some(words.to_owned());
        }
        self.context.unmet_filter(&rule.filter, &self.rules.layers)
    }

    /// That the last key came from a device that the rule is not for.
    fn device_problem(&self, rule: &Rule) -> Option<String> {
        let device = self.keys.input_device();
        let devices = rule.filter.input_devices.as_ref()?;
        let is_other = !devices.iter().any(|known| known == device);
        is_other.then(|| format!("the last key came from another device (\"{device}\")"))
    }

    /// That the rule fires at another moment of a press.
    fn press_problem(&self, rule: &Rule, kind: PressKind, key: Key) -> Option<String> {
        // A key whose release is not reported counts as up.
        let is_down = self.keys.down().contains(&key) && self.grabs.reports_release(key);
        if is_down && !rule.repeats_while_held {
            let problem = "the key is down, and its repeats fire only what is `repeating`";
            return Some(problem.to_owned());
        }
        match kind {
            PressKind::Pressed => None,
            PressKind::Released => Some("it fires when the key is let go".to_owned()),
            PressKind::Tapped => Some("it fires when the key is let go soon".to_owned()),
            PressKind::DoublePressed => Some("it fires when the key is pressed twice".to_owned()),
            PressKind::Held(span) => {
                let span = Value::Duration(span);
                Some(format!("it fires when the key is held for {span}"))
            }
        }
    }

    /// Of several rules that could fire the first does; the others say so.
    fn mark_overruled(&self, stroke: KeyStroke, near: &mut [BlockedRule]) {
        let order = |rule: RuleId| {
            let candidates = self.grabs.table().candidates(stroke);
            let candidate = candidates.iter().find(|candidate| candidate.trigger.rule == rule);
            candidate.map(|candidate| Precedence::new(self.rules, self.context, candidate))
        };
        near.sort_by_key(|near| {
            (near.reason.is_some(), order(near.rule).is_none(), order(near.rule))
        });
        let first = near.first().filter(|near| near.reason.is_none()).map(|near| near.rule);
        let Some(first) = first else { return };
        let label = &self.rules[first].label;
        for near in near.iter_mut().skip(1).filter(|near| near.reason.is_none()) {
            near.reason = Some(format!("\"{label}\" comes first"));
        }
    }

    fn around(&self) -> Surroundings<'_> {
        Surroundings { now: self.now, context: self.context, keys: self.keys }
    }
}

/// How near a rule is to a stroke.
#[derive(Debug)]
enum Nearness {
    /// It fires by it, at this moment of the press.
    Wants(PressKind),
    /// It wants something else of the same key.
    WantsOther(String),
}
