//! The set of rules in force, with what was prepared for it.

use std::collections::BTreeMap;
use std::sync::Arc;

use lantern_model::{RuleId, RuleSet, TriggerRef};

use crate::activation_policy::describe_trigger;
use crate::binding_table::{BindingTable, RuleIndex};
use crate::context::Context;
use crate::prepared::RuleInputs;

/// The rules in force. They are shared, so that the engine can change while it looks at one.
#[derive(Debug, Default)]
pub(crate) struct ActiveRules {
    rules: Arc<RuleSet>,
    index: RuleIndex,
    inputs: RuleInputs,
    /// What each trigger that fired is called.
    trigger_texts: BTreeMap<TriggerRef, Arc<str>>,
}

impl ActiveRules {
    pub(crate) fn new(rules: RuleSet, index: RuleIndex, inputs: RuleInputs) -> ActiveRules {
        ActiveRules { rules: Arc::new(rules), index, inputs, trigger_texts: BTreeMap::new() }
    }

    pub(crate) fn rules(&self) -> &RuleSet {
        &self.rules
    }

    /// The rules, for as long as the caller needs them.
    pub(crate) fn shared(&self) -> Arc<RuleSet> {
        Arc::clone(&self.rules)
    }

    /// What the rules ask for in their conditions and steps.
    pub(crate) fn inputs(&self) -> &RuleInputs {
        &self.inputs
    }

    /// The binding table for a context, with the rules that their own trigger stops.
    pub(crate) fn binding_table(&self, context: &Context, running: &[RuleId]) -> BindingTable {
        BindingTable::new(&self.rules, &self.index, context, running)
    }

    /// What a trigger is called in decisions. The text is made once.
    pub(crate) fn trigger_text(&mut self, trigger: TriggerRef) -> Arc<str> {
        let rule = &self.rules[trigger.rule];
        let text = || describe_trigger(rule, trigger.trigger).into();
        Arc::clone(self.trigger_texts.entry(trigger).or_insert_with(text))
    }
}
