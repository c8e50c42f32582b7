//! Whether a rule whose trigger came may fire: it is not paused, the input device is right, its
//! condition holds.

use lantern_model::Rule;

use crate::eval::{Evaluator, Surroundings};

/// What keeps a rule from firing now, for a person; nothing if it may fire.
pub(crate) fn blocking_problem(
    rule: &Rule,
    around: Surroundings<'_>,
    evaluator: &Evaluator,
) -> Option<String> {
    if around.context.is_paused(rule) {
        return Some("it is paused".to_owned());
    }
    let device = around.keys.input_device();
    let is_other = |devices: &Vec<String>| !devices.iter().any(|known| known == device);
    if rule.filter.input_devices.as_ref().is_some_and(is_other) {
        return Some(format!("the key came from another device ({device})"));
    }
    evaluator.unmet_condition(around, rule)
}
