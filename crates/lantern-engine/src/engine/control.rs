//! What a person asks of a running set of rules: to fire, stop, pause or explain a rule by its name, to
//! replace the set, and what its state is.

use std::collections::BTreeMap;

use lantern_model::{
    EffectId, Global, KeyCombination, KeyGrab, LayerId, Parameter, Rule, RuleId, RuleSet, RunId,
    SourceLocation, Time, Value,
};

use super::Engine;
use crate::activation_policy::trigger_text;
use crate::binding_table::Candidate;
use crate::blocked_rules::{BlockedRule, Explanation, MissingKeyError, stroke_of};
use crate::decision_log::StopCause;
use crate::eval::TriggerKey;
use crate::id_map::IdMap;
use crate::interpreter::{MOST_RUNS, Run, RunStart};
use crate::keys::KeyRecognizer;
use crate::prepared::PreparedRules;

/// The state of a live run.
#[derive(Debug, Clone, PartialEq)]
pub struct RunStatus {
    /// Its number.
    pub run: RunId,
    /// Its rule.
    pub rule: RuleId,
    /// When it began.
    pub began: Time,
    /// The step that it is at.
    pub place: Option<SourceLocation>,
    /// What it does there.
    pub does: &'static str,
}

/// Why something that was asked for by name was not done.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ControlError {
    /// Nothing has the name.
    #[error("no {what} is called `{name}`{among}")]
    Unknown {
        /// What was looked for.
        what: &'static str,
        /// The name.
        name: String,
        /// What there is, as words to add.
        among: String,
    },
    /// A macro takes other values than were given.
    #[error("`{name}` takes {wants}")]
    Values {
        /// The macro.
        name: String,
        /// What it takes, in words.
        wants: String,
    },
    /// Everything is paused.
    #[error("everything is paused; `lantern resume` first")]
    Paused,
    /// As many runs live as may.
    #[error("{MOST_RUNS} runs live already; `lantern stop --all` ends them")]
    TooManyRuns,
}

impl Engine {
    /// Every live run, the oldest first.
    pub fn run_statuses(&self) -> Vec<RunStatus> {
        let rules = self.active.rules();
        let status = |(id, run): (RunId, &Run)| RunStatus {
            run: id,
            rule: run.rule(),
            began: run.began(),
            place: run.place(rules),
            does: run.activity(self.context.is_paused(&rules[run.rule()])),
        };
        self.interpreter.runs().all().map(status).collect()
    }

    /// Runs a macro, or a rule that has a name, as if its trigger had come; conditions and contexts are
    /// left aside. Values that are left out take their defaults.
    ///
    /// # Errors
    /// When nothing has the name, the macro takes other values, everything is paused or too many runs
    /// live.
    pub fn fire_named(
        &mut self,
        now: Time,
        name: &str,
        values: Vec<Value>,
    ) -> Result<(), ControlError> {
        if self.context.is_all_paused() {
            return Err(ControlError::Paused);
        }
        let rules = self.active.shared();
        let rule = rules.rule_named(name).ok_or_else(|| unknown("macro or rule", name, &rules))?;
        if self.interpreter.runs().is_at_limit() {
            return Err(ControlError::TooManyRuns);
        }
        let definition = &rules[rule];
        let slots = self.slots_for(now, definition, values)?;
        let start =
            RunStart { rule, body: definition.body, press: None, typed_characters: 0, slots };
        self.start_run_with(now, start, "`lantern fire`".into());
        self.advance_runs(now);
        Ok(())
    }

    /// The slots of a body that is called with these values.
    fn slots_for(
        &self,
        now: Time,
        definition: &Rule,
        values: Vec<Value>,
    ) -> Result<Vec<Value>, ControlError> {
        let routine = self.active.rules().routine(definition.body);
        let parameters =
            if definition.triggers.is_empty() { routine.parameters.as_slice() } else { &[] };
        let refused = || ControlError::Values {
            name: definition.name.clone().unwrap_or_default(),
            wants: wants(parameters),
        };
        if values.len() > parameters.len() {
            return Err(refused());
        }
        let mut slots = values;
        for parameter in &parameters[slots.len()..] {
            let default = parameter.default.as_ref().ok_or_else(refused)?;
            let evaluator = self.interpreter.evaluator();
            let scope = evaluator.scope(self.around(now), &[], TriggerKey::Up);
            slots.push(scope.value(default).map_err(|_| refused())?);
        }
        slots.resize(routine.slots.max(slots.len()), Value::Truth(false));
        Ok(slots)
    }

    /// Ends the live runs of the rule or macro with that name; gives how many.
    ///
    /// # Errors
    /// When nothing has the name.
    pub fn stop_named(&mut self, now: Time, name: &str) -> Result<usize, ControlError> {
        let rules = self.active.shared();
        let is_it = |rule: RuleId| rules[rule].name.as_deref() == Some(name);
        if rules.rule_named(name).is_none() {
            return Err(unknown("macro or rule", name, &rules));
        }
        self.activations.drop_waiting(is_it, &mut self.out.timers);
        let runs = self.interpreter.runs().filtered(|run| is_it(run.rule()));
        let count = runs.len();
        self.stop_runs(now, runs, StopCause::StopCommand);
        self.advance_runs(now);
        Ok(count)
    }

    /// Ends one run; whether it lived.
    pub fn stop_run(&mut self, now: Time, run: RunId) -> bool {
        let lives = self.interpreter.runs().get(run).is_some();
        if lives {
            self.stop_runs(now, vec![run], StopCause::StopCommand);
            self.advance_runs(now);
        }
        lives
    }

    /// Pauses a rule and its runs; or everything: then every run ends, every key is released and replayed
    /// to the programs, and only the panic combination stays grabbed.
    ///
    /// # Errors
    /// When no rule has the name.
    pub fn pause(&mut self, now: Time, name: Option<&str>) -> Result<(), ControlError> {
        match name {
            Some(name) => {
                self.expect_named(name)?;
                self.context.pause_named(name);
            }
            None => {
                self.stop_everything(now, StopCause::PauseCommand);
                self.pause_all(now);
            }
        }
        self.update_bindings(now);
        self.advance_runs(now);
        Ok(())
    }

    /// Ends a pause; without a name all of them.
    ///
    /// # Errors
    /// When no rule has the name.
    pub fn resume(&mut self, now: Time, name: Option<&str>) -> Result<(), ControlError> {
        match name {
            Some(name) => {
                self.expect_named(name)?;
                self.context.resume_named(name);
            }
            None => self.context.resume_all(),
        }
        self.interpreter.resume_suspended();
        self.update_bindings(now);
        self.advance_runs(now);
        Ok(())
    }

    fn expect_named(&self, name: &str) -> Result<(), ControlError> {
        let rules = self.active.rules();
        rules.rule_named(name).map(|_| ()).ok_or_else(|| unknown("rule", name, rules))
    }

    /// Names of paused rules; the second says whether all rules are paused.
    pub fn paused(&self) -> (impl Iterator<Item = &str>, bool) {
        let names = self.context.paused_names().iter().map(String::as_str);
        (names, self.context.is_all_paused())
    }

    /// Triggers whose keys could not be had, each with its rule; none for the panic combination and for keys
    /// of chords, sequences, drawings and remaps.
    pub fn refused_triggers(&self) -> Vec<(Option<RuleId>, String)> {
        self.grabs.refused().flat_map(|grab| self.triggers_of(grab)).collect()
    }

    /// The triggers that need a grab, each with its rule.
    pub(super) fn triggers_of(&self, grab: KeyGrab) -> Vec<(Option<RuleId>, String)> {
        let (rules, table) = (self.active.rules(), self.grabs.table());
        let stroke = (grab.key, grab.modifiers);
        let candidates = table.candidates(stroke);
        if table.is_panic(stroke) {
            return vec![(None, format!("{} (panic)", rules.settings.panic))];
        }
        if candidates.is_empty() {
            // A chord, a sequence, a drawing or a remap wants it.
            let combo = KeyCombination::with(grab.modifiers, grab.key);
            return vec![(None, combo.to_string())];
        }
        let trigger = |candidate: &Candidate| {
            (Some(candidate.trigger.rule), trigger_text(&rules[candidate.trigger]))
        };
        candidates.iter().map(trigger).collect()
    }

    /// Names of the active layers, the one entered last at the end.
    pub fn layers_on(&self) -> impl Iterator<Item = &str> {
        let names = &self.active.rules().layers;
        self.context.layers().iter().map(|layer| names[layer.0].as_str())
    }

    /// The names under which programs were started, with the effects that did.
    pub fn started_programs(&self) -> impl Iterator<Item = (&str, EffectId)> {
        self.interpreter.started_programs()
    }

    /// What can be said here and now: each rule, its phrase, and whether that counts without the
    /// attention word.
    pub fn active_phrases(&self) -> Vec<(RuleId, &str, bool)> {
        let active = self.voice.active_phrases(self.scope());
        active.into_iter().map(|(trigger, text, is_free)| (trigger.rule, text, is_free)).collect()
    }

    /// The rules that this combination is a trigger of, the one that would fire first; if there is
    /// none, those of the same key with other modifiers.
    ///
    /// # Errors
    /// When the keyboard at hand lacks a key of the combination.
    pub fn nearest(
        &self,
        now: Time,
        combo: &KeyCombination,
    ) -> Result<Vec<BlockedRule>, MissingKeyError> {
        let stroke = stroke_of(combo, &self.context)?;
        let explanation = Explanation {
            now,
            rules: self.active.rules(),
            context: &self.context,
            grabs: &self.grabs,
            keys: self.keys.state(),
            activations: &self.activations,
            evaluator: self.interpreter.evaluator(),
            runs: self.interpreter.runs(),
        };
        Ok(explanation.nearest(stroke))
    }

    /// When a combination that rules want was pressed last, if ever. Of keys that type a character this is
    /// never given.
    ///
    /// # Errors
    /// When the keyboard at hand lacks a key of the combination.
    pub fn last_seen(&self, combo: &KeyCombination) -> Result<Option<Time>, MissingKeyError> {
        if combo.types_character() {
            return Ok(None);
        }
        let stroke = stroke_of(combo, &self.context)?;
        Ok(self.keys.state().last_pressed(stroke))
    }

    /// Replaces the set of rules. Runs of rules whose text and called macros are unchanged continue;
    /// others end and release their keys. Active layers that still exist stay active, a value whose line
    /// did not change keeps its content, toggles end. All grabs are requested again. An identical set
    /// only sends the active phrases again, for trained phrases that may have changed.
    pub fn replace_rules(&mut self, now: Time, rules: impl Into<PreparedRules>) {
        let prepared = rules.into();
        if prepared.rules() == self.active.rules() {
            self.voice.send_again();
            return self.update_listening();
        }
        self.decide_keys(now, KeyRecognizer::replay_all);
        let old = self.active.shared();
        let map = IdMap::new(&old, prepared.rules());
        self.activations.drop_queued(|rule, _| map.rule(rule).is_none());
        let runs = self.interpreter.runs().filtered(|run| !continues(run, &map, &old, &prepared));
        self.stop_runs(now, runs, StopCause::RuleChanged);
        self.execute(now, |execution| execution.release_toggled_keys());
        self.remap_ids(&map);
        let values = self.interpreter.take_globals();
        self.set_rules(prepared);
        self.keep_values(&old, values);
        self.keep_names(&old);
        self.grabs.forget_missing_keys();
        self.update_bindings(now);
        self.start_intervals(now);
        self.set_alarms(now);
        self.interpreter.mark_conditions_dirty();
        self.advance_runs(now);
    }

    /// Translates the identifiers in all state that is kept to those of the new set.
    fn remap_ids(&mut self, map: &IdMap) {
        let rule = |old: RuleId| map.rule(old);
        self.interpreter.remap_ids(
            |old| rule(old).expect("runs of other rules have ended"),
            |old| map.routine(old),
        );
        self.out.timers.remap(|timer| timer.renumbered(rule, |old| map.trigger(old)));
        self.activations.remap_ids(rule);
        self.schedule.remap_ids(|old| map.trigger(old));
        self.keys.remap_ids(|old| map.trigger(old));
        self.out.decisions.remap_ids(rule);
    }

    /// Gives a top-level value the content it had, if its line did not change.
    fn keep_values(&mut self, old: &RuleSet, values: Vec<Value>) {
        let written = |global: &Global| (global.name.clone(), global.fingerprint);
        let mut kept: BTreeMap<_, _> = old.globals.iter().map(written).zip(values).collect();
        for (index, global) in self.active.rules().globals.iter().enumerate() {
            if let Some(value) = kept.remove(&written(global)) {
                self.interpreter.set_global(index, value);
            }
        }
    }

    /// Keeps active layers and pauses of names that still exist.
    fn keep_names(&mut self, old: &RuleSet) {
        let rules = self.active.rules();
        let still_there = |layer: &LayerId| {
            let name = &old.layers[layer.0];
            rules.layers.iter().position(|other| other == name).map(LayerId)
        };
        let layers = self.context.layers().iter().filter_map(still_there).collect();
        self.context.set_layers(layers);
        self.context.retain_paused(|name| rules.rule_named(name).is_some());
    }
}

/// Whether a run continues in a new set of rules: its rule and routines are unchanged.
fn continues(run: &Run, map: &IdMap, old: &RuleSet, new: &PreparedRules) -> bool {
    let length = |set: &RuleSet, id| set.routine(id).ops.len();
    map.rule(run.rule()).is_some()
        && (map.has_same_names() || !run.depends_on_names())
        && run.routines().all(|routine| {
            let now = map.routine(routine);
            now.is_some_and(|now| length(new.rules(), now) == length(old, routine))
        })
}

fn unknown(what: &'static str, name: &str, rules: &RuleSet) -> ControlError {
    let names: Vec<&str> = rules.rules.iter().filter_map(|rule| rule.name.as_deref()).collect();
    let among = match names.as_slice() {
        [] => "; give a rule a name with `named NAME`".to_owned(),
        names => format!("; there are {}", names.join(", ")),
    };
    ControlError::Unknown { what, name: name.to_owned(), among }
}

/// What a macro takes, in words.
fn wants(parameters: &[Parameter]) -> String {
    let word = |parameter: &Parameter| match parameter.default {
        Some(_) => format!("{} (may be left out)", parameter.name),
        None => parameter.name.clone(),
    };
    let words: Vec<String> = parameters.iter().map(word).collect();
    if words.is_empty() { "no values".to_owned() } else { words.join(", ") }
}
