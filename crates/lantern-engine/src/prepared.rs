//! A set of rules with the indexes by which the engine finds them, built before the engine takes it.

use lantern_model::code::{MoveTarget, Op, WorldQuery};
use lantern_model::{RoutineId, Rule, RuleSet};

use crate::binding_table::RuleIndex;
use crate::gesture_recognizer::ShapeTriggers;
use crate::trigger_index::TriggerIndex;
use crate::voice_control::PhraseTriggers;

/// A set of rules that an engine can take at once. It costs time in the number of rules; a program with
/// an event loop builds it on another thread.
#[derive(Debug)]
pub struct PreparedRules {
    pub(crate) rules: RuleSet,
    pub(crate) index: RuleIndex,
    pub(crate) triggers: TriggerIndex,
    pub(crate) phrases: PhraseTriggers,
    pub(crate) shapes: ShapeTriggers,
    pub(crate) inputs: RuleInputs,
}

/// What the rules ask for in their conditions and steps.
#[derive(Debug, Default)]
pub(crate) struct RuleInputs {
    pub raw_keys: bool,
    pub pointer: bool,
    pub source_devices: bool,
    pub text_input: bool,
}

impl PreparedRules {
    /// Builds the indexes of a set.
    pub fn new(mut rules: RuleSet) -> PreparedRules {
        add_macros(&mut rules);
        let triggers = TriggerIndex::new(&rules);
        let text_input = triggers.needs_text_input();
        PreparedRules {
            index: RuleIndex::new(&rules),
            triggers,
            phrases: PhraseTriggers::new(&rules),
            shapes: ShapeTriggers::new(&rules),
            inputs: RuleInputs { text_input, ..RuleInputs::of(&rules) },
            rules,
        }
    }

    /// The set, with its macros as rules at its end.
    pub fn rules(&self) -> &RuleSet {
        &self.rules
    }
}

impl From<RuleSet> for PreparedRules {
    fn from(rules: RuleSet) -> PreparedRules {
        PreparedRules::new(rules)
    }
}

impl RuleInputs {
    fn of(rules: &RuleSet) -> RuleInputs {
        let glides = rules.ops().any(|op| match op {
            Op::Move { to, over } => over.is_some() || matches!(to, MoveTarget::OfScreen(..)),
            _ => false,
        });
        RuleInputs {
            raw_keys: rules.reads(&|asked| *asked == WorldQuery::PhysicalKeys),
            pointer: glides || rules.reads(&|asked| asked.is_pointer()),
            source_devices: rules.rules.iter().any(|rule| rule.filter.input_devices.is_some()),
            text_input: false,
        }
    }
}

/// Macros are rules without a trigger, at the end of the set, so that they can be run by name.
fn add_macros(rules: &mut RuleSet) {
    let macros: Vec<RoutineId> = rules.macros().collect();
    for body in macros {
        let routine = rules.routine(body);
        let rule = Rule {
            label: format!("macro {}", routine.name),
            name: Some(routine.name.clone()),
            place: routine.places.first().copied().unwrap_or_default(),
            body,
            fingerprint: routine.fingerprint,
            ..Rule::default()
        };
        rules.rules.push(rule);
    }
}
