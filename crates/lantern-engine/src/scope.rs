//! The rules and the context in which a trigger is looked for.

use std::collections::BTreeMap;

use lantern_model::{RuleSet, TriggerKind, TriggerRef, Value};

use crate::activation_policy::Activation;
use crate::context::Context;
use crate::key_stroke::{KeyStroke, key_stroke_of};

/// A trigger that came, with its activation.
#[derive(Debug)]
pub(crate) struct Found {
    /// Of several triggers of which one fires, the smallest comes first.
    pub looseness: usize,
    pub trigger: TriggerRef,
    pub activation: Activation,
}

impl Found {
    pub(crate) fn new(trigger: TriggerRef, payload: Value) -> Found {
        Found { looseness: 0, trigger, activation: Activation::by(trigger.trigger, payload) }
    }
}

/// The rules and the context in which triggers are found.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Scope<'a> {
    pub rules: &'a RuleSet,
    pub context: &'a Context,
}

impl Scope<'_> {
    /// Whether the rule of a trigger may fire in the context.
    pub(crate) fn applies(&self, trigger: TriggerRef) -> bool {
        self.context.allows(&self.rules[trigger.rule])
    }

    pub(crate) fn device(&self, name: &str) -> Option<usize> {
        self.rules.devices.iter().position(|device| device.name == name)
    }

    pub(crate) fn of_device<'i>(
        &self,
        index: &'i BTreeMap<usize, Vec<TriggerRef>>,
        device: &str,
    ) -> &'i [TriggerRef] {
        let listed = self.device(device).and_then(|device| index.get(&device));
        listed.map_or(&[], Vec::as_slice)
    }

    /// The triggers that apply and fit.
    pub(crate) fn find(
        &self,
        listed: &[TriggerRef],
        fits: impl Fn(&TriggerKind) -> bool,
        payload: &Value,
    ) -> Vec<Found> {
        let fitting = listed.iter().filter(|trigger| fits(&self.rules[**trigger]));
        fitting
            .filter(|trigger| self.applies(**trigger))
            .map(|trigger| Found::new(*trigger, payload.clone()))
            .collect()
    }

    /// Triggers of which one fires, in the order in which they are asked: the narrower filter first.
    pub(crate) fn by_precedence(&self, mut found: Vec<Found>) -> Vec<Found> {
        found.sort_by_key(|found| {
            let rule = &self.rules[found.trigger.rule];
            let breadth = 255 - rule.filter.narrowness();
            let depth = self.context.depth_of(&rule.filter);
            (breadth, depth, found.looseness, rule.condition.is_none(), found.trigger)
        });
        found
    }

    /// Whether a trigger is a shape drawn while exactly that is held.
    pub(crate) fn is_drawn_with(&self, trigger: TriggerRef, held: KeyStroke) -> bool {
        match &self.rules[trigger] {
            TriggerKind::Gesture { holding, .. } => {
                let layout = self.context.layout();
                key_stroke_of(&holding.0, layout).is_ok_and(|(stroke, _)| stroke == held)
            }
            _ => false,
        }
    }
}
