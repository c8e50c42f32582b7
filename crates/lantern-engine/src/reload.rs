//! Replaces the set of rules. Runs of unchanged rules continue; others end and release their keys.

use std::collections::BTreeMap;
use std::sync::Arc;

use lantern_model::{Global, LayerId, RoutineId, Rule, RuleSet, RunId, Time};

use crate::decision_log::{DecisionKind, StopCause};
use crate::engine::Engine;
use crate::held_keys::Owner;
use crate::key_recognizer::Won;
use crate::prepared::PreparedRules;
use crate::runs::RunState;

/// Which rules and routines of a new set are those of the old one.
struct IdMap {
    /// By the old number.
    rules: Vec<Option<usize>>,
    routines: BTreeMap<RoutineId, RoutineId>,
    /// Whether numbers of values and layers mean the same in both.
    same_names: bool,
}

impl IdMap {
    fn new(old: &RuleSet, new: &RuleSet) -> IdMap {
        let mut fresh: BTreeMap<u64, Vec<usize>> = BTreeMap::new();
        for (number, rule) in new.rules.iter().enumerate() {
            fresh.entry(rule.fingerprint).or_default().push(number);
        }
        let named: BTreeMap<&str, RoutineId> =
            new.macros().map(|id| (new.routine(id).name.as_str(), id)).collect();
        let same = |id: RoutineId| Some((id, *named.get(old.routine(id).name.as_str())?));
        let mut routines: BTreeMap<RoutineId, RoutineId> = old.macros().filter_map(same).collect();
        let pair = |rule: &Rule| {
            let alike = fresh.get_mut(&rule.fingerprint)?;
            let at = alike
                .iter()
                .position(|other| same_place((old, rule), (new, &new.rules[*other])))?;
            let other = alike.remove(at);
            routines.insert(rule.body, new.rules[other].body);
            Some(other)
        };
        let rules = old.rules.iter().map(pair).collect();
        let names = |set: &RuleSet| -> Vec<String> {
            set.globals.iter().map(|global| global.name.clone()).collect()
        };
        let same_names = names(old) == names(new) && old.layers == new.layers;
        IdMap { rules, routines, same_names }
    }

    fn rule(&self, old: usize) -> Option<usize> {
        self.rules.get(old).copied().flatten()
    }

    fn won(&self, (rule, trigger): Won) -> Option<Won> {
        Some((self.rule(rule)?, trigger))
    }
}

/// Whether two rules of two sets are for the same programs, titles, devices and layer.
fn same_place((old, rule): (&RuleSet, &Rule), (new, other): (&RuleSet, &Rule)) -> bool {
    let layer = |set: &RuleSet, layer: Option<LayerId>| layer.map(|id| set.layers[id.0].clone());
    let (one, two) = (&rule.filter, &other.filter);
    layer(old, one.layer) == layer(new, two.layer)
        && (&one.apps, &one.not_apps, &one.titles, &one.input_devices)
            == (&two.apps, &two.not_apps, &two.titles, &two.input_devices)
}

impl Engine {
    /// Replaces the set of rules. Runs of rules whose text and called macros are unchanged continue;
    /// others end and release their keys. Active layers that still exist stay active, a value whose line
    /// did not change keeps its content, toggles end. All grabs are requested again. An identical set
    /// only sends the active phrases again, for trained phrases that may have changed.
    pub fn replace_rules(&mut self, now: Time, rules: impl Into<PreparedRules>) {
        let prepared = rules.into();
        if *prepared.rules() == *self.rules {
            self.attention.renew();
            return self.listen();
        }
        self.replay_all(now);
        let old = Arc::clone(&self.rules);
        let mapping = IdMap::new(&old, prepared.rules());
        self.end_changed(now, &mapping, prepared.rules());
        let toggled = self.held.release_all(|owner| owner == Owner::Toggle);
        self.emit_releases(None, toggled);
        self.remap_ids(&mapping);
        let values = std::mem::take(&mut self.globals);
        let layers: Vec<LayerId> = std::mem::take(&mut self.layers);
        self.set_rules(prepared);
        let written = |global: &Global| (global.name.clone(), global.fingerprint);
        let kept: BTreeMap<_, _> = old.globals.iter().map(written).zip(values).collect();
        for (global, value) in self.rules.globals.iter().zip(&mut self.globals) {
            if let Some(kept) = kept.get(&written(global)) {
                value.clone_from(kept);
            }
        }
        let still_there = |layer: &LayerId| {
            let name = &old.layers[layer.0];
            self.rules.layers.iter().position(|other| other == name).map(LayerId)
        };
        self.layers = layers.iter().filter_map(still_there).collect();
        let names =
            |name: &String| self.rules.rules.iter().any(|rule| rule.name.as_ref() == Some(name));
        let paused = std::mem::take(&mut self.paused);
        self.paused = paused.into_iter().filter(names).collect();
        self.missing_keys.clear();
        self.update_bindings(now);
        self.start_intervals(now);
        self.set_alarms(now);
        self.conditions_dirty = true;
        self.advance_runs(now);
    }

    /// Ends the runs of rules that are written otherwise now, or are gone.
    fn end_changed(&mut self, now: Time, mapping: &IdMap, new: &RuleSet) {
        self.queued.retain(|rule, _| mapping.rule(*rule).is_some());
        let old = Arc::clone(&self.rules);
        let goes_on = |run: &crate::runs::Run| {
            let by_name = matches!(
                run.state,
                RunState::AwaitingCondition(_) | RunState::Awaiting(_, Some(_))
            );
            let length = |set: &RuleSet, id: RoutineId| set.routine(id).ops.len();
            mapping.rule(run.rule).is_some()
                && (mapping.same_names || !by_name)
                && run.frames.iter().all(|frame| {
                    let now = mapping.routines.get(&frame.routine);
                    now.is_some_and(|now| length(new, *now) == length(&old, frame.routine))
                })
        };
        let gone = self.runs.live.iter().filter(|(_, run)| !goes_on(run));
        let gone: Vec<RunId> = gone.map(|(id, _)| *id).collect();
        for run in gone {
            self.end_run(now, run, DecisionKind::Stopped(run, StopCause::RuleChanged));
        }
    }

    /// Translates the identifiers in all state that is kept to those of the new set.
    fn remap_ids(&mut self, mapping: &IdMap) {
        let rule = |old: usize| mapping.rule(old);
        self.runs.remap_ids(|run| {
            for frame in &mut run.frames {
                frame.routine = mapping.routines[&frame.routine];
            }
            run.rule = mapping.rules[run.rule].expect("the runs of others ended");
        });
        self.timers.remap(|timer| timer.renumbered(rule, |won| mapping.won(won)));
        fn renumbered<T>(map: &mut BTreeMap<usize, T>, number: impl Fn(usize) -> Option<usize>) {
            let old = std::mem::take(map);
            *map =
                old.into_iter().filter_map(|(rule, value)| Some((number(rule)?, value))).collect();
        }
        renumbered(&mut self.queued, rule);
        renumbered(&mut self.debounced, rule);
        renumbered(&mut self.last_fired, rule);
        let choices = std::mem::take(&mut self.last_choices);
        let routine = |old: RoutineId| mapping.routines.get(&old).copied();
        let kept = choices.into_iter();
        self.last_choices =
            kept.filter_map(|((id, at), last)| Some(((routine(id)?, at), last))).collect();
        self.wall_clock.remap_ids(|won| mapping.won(won));
        self.keys.remap_ids(|won| mapping.won(won));
        self.decisions.remap_ids(rule);
    }
}
