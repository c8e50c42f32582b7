//! Which rules and routines of a new set are those of the old one.

use std::collections::BTreeMap;

use lantern_model::{LayerId, RoutineId, Rule, RuleId, RuleSet, TriggerRef};

/// The new numbers of unchanged rules and routines.
pub(crate) struct IdMap {
    /// By the old number.
    rules: Vec<Option<RuleId>>,
    routines: BTreeMap<RoutineId, RoutineId>,
    /// Whether numbers of values and layers mean the same in both sets.
    has_same_names: bool,
}

impl IdMap {
    /// Pairs rules with the same text, filter and called macros, each with one other at most.
    pub(crate) fn new(old: &RuleSet, new: &RuleSet) -> IdMap {
        let mut by_fingerprint: BTreeMap<u64, Vec<RuleId>> = BTreeMap::new();
        for (id, rule) in new.numbered_rules() {
            by_fingerprint.entry(rule.fingerprint).or_default().push(id);
        }
        let named: BTreeMap<&str, RoutineId> =
            new.macros().map(|id| (new.routine(id).name.as_str(), id)).collect();
        let same = |id: RoutineId| Some((id, *named.get(old.routine(id).name.as_str())?));
        let mut routines: BTreeMap<RoutineId, RoutineId> = old.macros().filter_map(same).collect();
        let pair = |rule: &Rule| {
            let alike = by_fingerprint.get_mut(&rule.fingerprint)?;
            let is_it = |other: &RuleId| has_same_filter((old, rule), (new, &new[*other]));
            let other = alike.remove(alike.iter().position(is_it)?);
            routines.insert(rule.body, new[other].body);
            Some(other)
        };
        let rules = old.rules.iter().map(pair).collect();
        let names = |set: &RuleSet| -> Vec<String> {
            set.globals.iter().map(|global| global.name.clone()).collect()
        };
        let has_same_names = names(old) == names(new) && old.layers == new.layers;
        IdMap { rules, routines, has_same_names }
    }

    /// The new number of a rule; nothing if it has changed or is gone.
    pub(crate) fn rule(&self, old: RuleId) -> Option<RuleId> {
        self.rules.get(old.0).copied().flatten()
    }

    /// The same of a rule's trigger.
    pub(crate) fn trigger(&self, old: TriggerRef) -> Option<TriggerRef> {
        Some(TriggerRef { rule: self.rule(old.rule)?, ..old })
    }

    /// The new number of a routine; nothing if it is gone.
    pub(crate) fn routine(&self, old: RoutineId) -> Option<RoutineId> {
        self.routines.get(&old).copied()
    }

    /// Whether numbers of values and layers mean the same in both sets.
    pub(crate) fn has_same_names(&self) -> bool {
        self.has_same_names
    }
}

/// Whether two rules of two sets are for the same programs, titles, devices and layer.
fn has_same_filter((old, rule): (&RuleSet, &Rule), (new, other): (&RuleSet, &Rule)) -> bool {
    let layer = |set: &RuleSet, layer: Option<LayerId>| layer.map(|id| set.layers[id.0].clone());
    let (one, two) = (&rule.filter, &other.filter);
    layer(old, one.layer) == layer(new, two.layer)
        && (&one.apps, &one.not_apps, &one.titles, &one.input_devices)
            == (&two.apps, &two.not_apps, &two.titles, &two.input_devices)
}

#[cfg(test)]
mod tests {
    use lantern_model::{ContextFilter, Routine};

    use super::*;

    fn rule(fingerprint: u64, app: &str, body: usize) -> Rule {
        let filter = ContextFilter { apps: Some(vec![app.to_owned()]), ..ContextFilter::default() };
        Rule { fingerprint, filter, body: RoutineId(body), ..Rule::default() }
    }

    fn set(rules: Vec<Rule>) -> RuleSet {
        let routines = rules.iter().map(|_| Routine::default()).collect();
        RuleSet { rules, routines, ..RuleSet::default() }
    }

    #[test]
    fn rules_with_the_same_text_and_filter_are_paired_once() {
        let old = set(vec![rule(7, "corelog", 0), rule(7, "drill", 1), rule(8, "drill", 2)]);
        let new = set(vec![rule(7, "drill", 0), rule(7, "drill", 1), rule(9, "drill", 2)]);
        let map = IdMap::new(&old, &new);
        assert_eq!(map.rule(RuleId(0)), None, "it is for another program now");
        assert_eq!(map.rule(RuleId(1)), Some(RuleId(0)));
        assert_eq!(map.rule(RuleId(2)), None, "its text has changed");
        assert_eq!(map.rule(RuleId(3)), None);
        assert_eq!(map.routine(RoutineId(1)), Some(RoutineId(0)));
        assert_eq!(map.routine(RoutineId(2)), None);
        let trigger = TriggerRef { rule: RuleId(1), trigger: 4 };
        assert_eq!(map.trigger(trigger), Some(TriggerRef { rule: RuleId(0), trigger: 4 }));
        assert!(map.has_same_names());
    }
}
