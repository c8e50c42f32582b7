//! The grabs that the back end is asked for: the binding table of the present context, and what the
//! pending presses need for a moment.

use std::collections::BTreeSet;

use lantern_model::{GrabSet, Key, KeyGrab, Refusal, RuleSet};

use crate::binding_table::{BindingTable, MissingCombination};
use crate::context::Context;
use crate::key_stroke::KeyStroke;
use crate::prepared::RuleInputs;

/// What pending presses need beside the grabs of the binding table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct MomentaryNeeds {
    /// Every key is withheld.
    pub whole_keyboard: bool,
    /// The path of the pointer is reported; whether it leaves a trail on the screen.
    pub pointer_path: Option<bool>,
}

/// The binding table with the grabs that follow from it.
#[derive(Debug, Default)]
pub(crate) struct GrabPlanner {
    table: BindingTable,
    /// Grabs that the back end was asked for last.
    requested: Option<GrabSet>,
    /// Grabs required by the binding table while no press is pending.
    idle: GrabSet,
    /// Whether `idle` was made anew since the back end was asked.
    has_changed: bool,
    /// Missing combinations that were reported already.
    missing_keys: BTreeSet<MissingCombination>,
    /// Grabs that could not be had, with the reason.
    refused: Vec<(KeyGrab, Refusal)>,
}

impl GrabPlanner {
    pub(crate) fn table(&self) -> &BindingTable {
        &self.table
    }

    /// Takes the table of a new context, with what the rules need beside it. Gives the missing
    /// combinations that were not reported yet.
    pub(crate) fn set_table(
        &mut self,
        mut table: BindingTable,
        rules: &RuleSet,
        inputs: &RuleInputs,
        context: &Context,
    ) -> Vec<MissingCombination> {
        let missing = table.take_missing_keys();
        let required = table.required_grabs(rules);
        self.table = table;
        self.idle = GrabSet {
            pointer_position: inputs.pointer,
            source_devices: inputs.source_devices,
            text_input: inputs.text_input && !context.is_locked(),
            raw_keys: inputs.raw_keys || required.raw_keys,
            ..required
        };
        self.has_changed = true;
        let known = &mut self.missing_keys;
        missing.into_iter().filter(|missing| known.insert(missing.clone())).collect()
    }

    /// The grabs to ask for, if they have changed.
    pub(crate) fn next_request(&mut self, needs: MomentaryNeeds) -> Option<GrabSet> {
        let same = |requested: &GrabSet| {
            requested.whole_keyboard == needs.whole_keyboard
                && requested.pointer_path == needs.pointer_path
        };
        let is_same = self.requested.as_ref().is_some_and(same);
        if is_same && !std::mem::take(&mut self.has_changed) {
            return None;
        }
        let grabs = GrabSet {
            whole_keyboard: needs.whole_keyboard,
            pointer_path: needs.pointer_path,
            ..self.idle.clone()
        };
        if self.requested.as_ref() == Some(&grabs) {
            return None;
        }
        self.requested = Some(grabs.clone());
        Some(grabs)
    }

    /// Reports missing combinations again from now on, as the rules are other ones.
    pub(crate) fn forget_missing_keys(&mut self) {
        self.missing_keys.clear();
    }

    /// Takes a grab that could not be had.
    pub(crate) fn note_refused(&mut self, grab: KeyGrab, why: Refusal) {
        self.refused.push((grab, why));
    }

    /// Takes grabs that were refused, and can be had now.
    pub(crate) fn note_freed(&mut self, grabs: &[KeyGrab]) {
        self.refused.retain(|(refused, _)| !grabs.contains(refused));
    }

    /// The grabs that were refused.
    pub(crate) fn refused(&self) -> impl Iterator<Item = KeyGrab> {
        self.refused.iter().map(|(grab, _)| *grab)
    }

    /// Why the grab of a stroke could not be had, if it could not.
    pub(crate) fn refusal_of(&self, stroke: KeyStroke) -> Option<Refusal> {
        let of_stroke = |(grab, _): &&(KeyGrab, Refusal)| (grab.key, grab.modifiers) == stroke;
        self.refused.iter().find(of_stroke).map(|(_, why)| *why)
    }

    /// Whether the back end was asked to report releases of a key.
    pub(crate) fn reports_release(&self, key: Key) -> bool {
        let reports = |grabs: &GrabSet| {
            let of_key = |grab: &KeyGrab| grab.key == key && grab.report_release;
            grabs.raw_keys || grabs.keys.iter().any(of_key)
        };
        self.requested.as_ref().is_some_and(reports)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::binding_table::RuleIndex;

    const IDLE: MomentaryNeeds = MomentaryNeeds { whole_keyboard: false, pointer_path: None };

    #[test]
    fn grabs_are_requested_once_until_they_change() {
        let mut planner = GrabPlanner::default();
        let (rules, context) = (RuleSet::default(), Context::default());
        let table = || BindingTable::new(&rules, &RuleIndex::new(&rules), &context, &[]);
        let inputs = RuleInputs::default();
        planner.set_table(table(), &rules, &inputs, &context);
        let first = planner.next_request(IDLE).expect("the panic combination is grabbed");
        assert_eq!(first.keys.len(), 1);
        assert_eq!(planner.next_request(IDLE), None);
        planner.set_table(table(), &rules, &inputs, &context);
        assert_eq!(planner.next_request(IDLE), None, "the new table wants the same");
        let whole = MomentaryNeeds { whole_keyboard: true, pointer_path: Some(true) };
        let pending = planner.next_request(whole).expect("a press is pending");
        assert!(pending.whole_keyboard && pending.keys == first.keys);
        assert_eq!(planner.next_request(IDLE), Some(first));
        let text = RuleInputs { text_input: true, ..RuleInputs::default() };
        planner.set_table(table(), &rules, &text, &context);
        assert!(planner.next_request(IDLE).is_some_and(|grabs| grabs.text_input));
    }

    #[test]
    fn a_freed_grab_is_no_longer_refused() {
        let key = Key::named("f1").expect("f1 is in the table");
        let grab = KeyGrab {
            key,
            modifiers: lantern_model::ModifierSet::NONE,
            any_extra_modifiers: false,
            side_specific: false,
            report_release: true,
            synchronous: false,
        };
        let mut planner = GrabPlanner::default();
        planner.note_refused(grab, Refusal::HeldByOther);
        assert_eq!(planner.refusal_of((key, grab.modifiers)), Some(Refusal::HeldByOther));
        planner.note_freed(&[grab]);
        assert_eq!(planner.refusal_of((key, grab.modifiers)), None);
        assert!(!planner.reports_release(key));
    }
}
