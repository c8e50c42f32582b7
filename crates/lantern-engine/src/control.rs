//! Orders from outside the rules: what a person asks of a running set by its name, and what can be
//! told of it.

use std::sync::Arc;

use lantern_model::{Rule, RuleSet, RunId, SourceLocation, Time, Value};

use crate::activation::{Activation, MOST_RUNS};
use crate::decision_log::{DecisionKind, StopCause};
use crate::engine::Engine;
use crate::runs::{Run, RunState};

/// A live run, as it can be told.
#[derive(Debug, Clone, PartialEq)]
pub struct RunStatus {
    /// Its number.
    pub run: RunId,
    /// Its rule.
    pub rule: usize,
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
        let status = |run: &RunId, about: &Run| RunStatus {
            run: *run,
            rule: about.rule,
            began: about.began,
            place: self.place_of(about),
            does: doing(&about.state, self.is_paused(about.rule)),
        };
        self.runs.live.iter().map(|(run, about)| status(run, about)).collect()
    }

    fn place_of(&self, run: &Run) -> Option<SourceLocation> {
        let frame = run.frames.last()?;
        let places = &self.rules.routine(frame.routine).places;
        places.get(frame.next.saturating_sub(1)).copied()
    }

    /// Runs a macro, or a rule that has a name, as if its trigger had come; conditions and places are
    /// left aside. Values that are left out take their defaults.
    ///
    /// # Errors
    /// When nothing has the name, or the macro takes other values.
    pub fn fire_named(
        &mut self,
        now: Time,
        name: &str,
        values: Vec<Value>,
    ) -> Result<(), ControlError> {
        if self.all_paused {
            return Err(ControlError::Paused);
        }
        let rules = Arc::clone(&self.rules);
        let is_it = |rule: &Rule| rule.name.as_deref() == Some(name);
        let Some(rule) = rules.rules.iter().position(is_it) else {
            return Err(unknown("macro or rule", name, &rules));
        };
        if self.is_at_run_limit() {
            return Err(ControlError::TooManyRuns);
        }
        let definition = &rules.rules[rule];
        let routine = rules.routine(definition.body);
        let parameters =
            if definition.triggers.is_empty() { routine.parameters.as_slice() } else { &[] };
        let refused = || ControlError::Values { name: name.to_owned(), wants: wants(parameters) };
        if values.len() > parameters.len() {
            return Err(refused());
        }
        let mut slots = values;
        for parameter in &parameters[slots.len()..] {
            let default = parameter.default.as_ref().ok_or_else(refused)?;
            let value = self.scope(now, &[], false).value(default);
            slots.push(value.map_err(|_| refused())?);
        }
        slots.resize(routine.slots.max(slots.len()), Value::Truth(false));
        let by = "`lantern fire`".into();
        self.start_run_with(now, rule, Activation::by(0, Value::Truth(true)), slots, by);
        self.advance_runs(now);
        Ok(())
    }

    /// Ends the live runs of what has that name; gives how many.
    ///
    /// # Errors
    /// When nothing has the name.
    pub fn stop_named(&mut self, now: Time, name: &str) -> Result<usize, ControlError> {
        let rules = Arc::clone(&self.rules);
        let named = |rule: usize| rules.rules[rule].name.as_deref() == Some(name);
        if !(0..rules.rules.len()).any(named) {
            return Err(unknown("macro or rule", name, &rules));
        }
        self.drop_pending_activations(named);
        let runs = self.runs.live.iter().filter(|(_, run)| named(run.rule));
        let runs: Vec<RunId> = runs.map(|(id, _)| *id).collect();
        for run in &runs {
            self.end_run(now, *run, DecisionKind::Stopped(*run, StopCause::StopCommand));
        }
        self.advance_runs(now);
        Ok(runs.len())
    }

    /// Ends one run; whether it lived.
    pub fn stop_run(&mut self, now: Time, run: RunId) -> bool {
        let lives = self.runs.live.contains_key(&run);
        if lives {
            self.end_run(now, run, DecisionKind::Stopped(run, StopCause::StopCommand));
            self.advance_runs(now);
        }
        lives
    }

    /// Has a rule stand still, its runs too; or everything: then every run ends, every key is let go
    /// and given back to the programs, and nothing is heard but the panic combination.
    ///
    /// # Errors
    /// When no rule has the name.
    pub fn pause(&mut self, now: Time, name: Option<&str>) -> Result<(), ControlError> {
        match name {
            Some(name) => {
                self.expect_named(name)?;
                self.paused.insert(name.to_owned());
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
                self.paused.remove(name);
            }
            None => {
                self.paused.clear();
                self.all_paused = false;
            }
        }
        self.ready_runs.extend(std::mem::take(&mut self.suspended_runs));
        self.update_bindings(now);
        self.advance_runs(now);
        Ok(())
    }

    fn expect_named(&self, name: &str) -> Result<(), ControlError> {
        let is_it = |rule: &Rule| rule.name.as_deref() == Some(name);
        if self.rules.rules.iter().any(is_it) {
            return Ok(());
        }
        Err(unknown("rule", name, &self.rules))
    }

    /// Names of what stands still; everything does if the second is so.
    pub fn paused(&self) -> (impl Iterator<Item = &str>, bool) {
        (self.paused.iter().map(String::as_str), self.all_paused)
    }

    /// Names of the layers that are on, the one entered last at the end.
    pub fn layers_on(&self) -> impl Iterator<Item = &str> {
        self.layers.iter().map(|layer| self.rules.layers[layer.0].as_str())
    }

    /// The names under which programs were started, with the effects that did.
    pub fn started_programs(&self) -> impl Iterator<Item = (&str, lantern_model::EffectId)> {
        self.started_effects.iter().map(|(name, effect)| (name.as_str(), *effect))
    }
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
fn wants(parameters: &[lantern_model::Parameter]) -> String {
    let word = |parameter: &lantern_model::Parameter| match parameter.default {
        Some(_) => format!("{} (may be left out)", parameter.name),
        None => parameter.name.clone(),
    };
    let words: Vec<String> = parameters.iter().map(word).collect();
    if words.is_empty() { "no values".to_owned() } else { words.join(", ") }
}

fn doing(state: &RunState, paused: bool) -> &'static str {
    match state {
        _ if paused => "stands still",
        RunState::Ready => "goes on",
        RunState::Sleeping => "waits",
        RunState::Queued => "waits for its turn",
        RunState::SendingInput(..) | RunState::QueryingInputMethod(..) => "makes input",
        RunState::Awaiting(..) => "waits for an outcome",
        RunState::AwaitingCondition(_) => "waits for a condition",
        RunState::AwaitingFocus { .. } => "waits for a window",
    }
}
