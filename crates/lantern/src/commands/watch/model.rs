//! What there is to see, and what keys mean.

use std::collections::VecDeque;

use serde_json::{Value, json};

use crate::commands::status::{heading, words};
use crate::text::span_words;

/// So many decisions are kept.
const KEPT: usize = 2000;

/// A decision as it is shown.
#[derive(Debug, Clone, PartialEq)]
pub struct ShownDecision {
    /// When, by the clock on the wall.
    pub time: String,
    pub rule: String,
    pub what: String,
    pub kind: String,
}

/// How much a decision matters to who looks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Weight {
    Good,
    Bad,
    Odd,
    Faint,
}

impl ShownDecision {
    /// Its text.
    pub fn of(data: &Value) -> ShownDecision {
        let text = |field: &str| data[field].as_str().unwrap_or_default().to_owned();
        ShownDecision {
            time: text("time"),
            rule: text("rule"),
            what: text("what"),
            kind: text("kind"),
        }
    }

    pub fn weight(&self) -> Weight {
        match self.kind.as_str() {
            "fired" => Weight::Good,
            "failed" | "panic" | "key-taken" | "missing-key" => Weight::Bad,
            "did-not-fire" | "not-recognized" | "rate-limited" => Weight::Odd,
            _ => Weight::Faint,
        }
    }
}

/// A run or program that can be chosen and ended.
#[derive(Debug, Clone, PartialEq)]
pub struct RunningRow {
    pub cells: Vec<String>,
    end: Value,
}

/// What is asked of the one that runs.
#[derive(Debug, Clone, PartialEq)]
pub enum Action {
    Leave,
    Order { method: &'static str, params: Value },
}

/// A key of the view.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ViewKey {
    Char(char),
    /// Ctrl+C.
    Interrupt,
    Escape,
    Up,
    Down,
    /// Enter or delete: ends what is chosen.
    End,
}

/// Everything there is to see.
#[derive(Debug)]
pub struct Model {
    pub heading: Vec<String>,
    pub runs: Vec<RunningRow>,
    pub held: Vec<RunningRow>,
    pub programs: Vec<RunningRow>,
    /// Runs and then programs, counted from 0.
    pub chosen: usize,
    pub failures_only: bool,
    pub help: bool,
    /// Why the last order was refused.
    pub said: String,
    pub colour: bool,
    paused: bool,
    decisions: VecDeque<ShownDecision>,
}

impl Model {
    pub fn new(colour: bool) -> Model {
        Model {
            heading: Vec::new(),
            runs: Vec::new(),
            held: Vec::new(),
            programs: Vec::new(),
            chosen: 0,
            failures_only: false,
            help: false,
            said: String::new(),
            colour,
            paused: false,
            decisions: VecDeque::new(),
        }
    }

    pub fn take_decision(&mut self, decision: ShownDecision) {
        if self.decisions.len() == KEPT {
            self.decisions.pop_front();
        }
        self.decisions.push_back(decision);
    }

    /// The last decisions that are shown, the newest at the end.
    pub fn last_decisions(&self, count: usize) -> Vec<&ShownDecision> {
        let shown = self.decisions.iter().rev().filter(|decision| self.shows(decision));
        let mut last: Vec<&ShownDecision> = shown.take(count).collect();
        last.reverse();
        last
    }

    /// Whether a decision is one of those that are to be shown.
    pub fn shows(&self, decision: &ShownDecision) -> bool {
        !self.failures_only || matches!(decision.weight(), Weight::Bad | Weight::Odd)
    }

    /// The run or program that is chosen.
    pub fn choice(&self) -> Option<&RunningRow> {
        self.runs.iter().chain(&self.programs).nth(self.chosen)
    }

    pub fn take_status(&mut self, told: &Value) {
        let lines = heading(told).into_iter();
        self.heading = lines.map(|line| anstream::adapter::strip_str(&line).to_string()).collect();
        self.paused = told["paused"]["all"] == json!(true);
        let rows = |name: &str, row: &dyn Fn(&Value) -> RunningRow| -> Vec<RunningRow> {
            told[name].as_array().into_iter().flatten().map(row).collect()
        };
        self.runs = rows("runs", &|run| {
            let age = span_words(run["seconds"].as_f64().unwrap_or(0.0));
            let cells = vec![words(&run["rule"]), age, words(&run["does"])];
            RunningRow { cells, end: json!({ "run": run["run"] }) }
        });
        self.held = rows("held", &|held| {
            let by = held["by"].as_array().into_iter().flatten().map(words);
            let cells = vec![words(&held["key"]), by.collect::<Vec<_>>().join(", ")];
            RunningRow { cells, end: Value::Null }
        });
        self.programs = rows("programs", &|program| {
            let cells = vec![words(&program["name"]), words(&program["process"])];
            RunningRow { cells, end: json!({ "process": program["process"] }) }
        });
        self.chosen = self.chosen.min(self.choices().saturating_sub(1));
    }

    fn choices(&self) -> usize {
        self.runs.len() + self.programs.len()
    }

    pub fn take_key(&mut self, key: ViewKey) -> Option<Action> {
        let order = |method, params| Some(Action::Order { method, params });
        match key {
            ViewKey::Escape if self.help => self.help = false,
            ViewKey::Char('q') | ViewKey::Escape | ViewKey::Interrupt => {
                return Some(Action::Leave);
            }
            ViewKey::Char('?' | 'h') => self.help = !self.help,
            ViewKey::Char('f') => self.failures_only = !self.failures_only,
            ViewKey::Char('s') => return order("stop", json!({})),
            ViewKey::Char('p') if self.paused => return order("resume", json!({})),
            ViewKey::Char('p') => return order("pause", json!({})),
            ViewKey::Up => self.chosen = self.chosen.saturating_sub(1),
            ViewKey::Down => self.chosen = (self.chosen + 1).min(self.choices().saturating_sub(1)),
            ViewKey::End => {
                if let Some(run) = self.runs.get(self.chosen) {
                    return order("stop", run.end.clone());
                }
                let program = self.programs.get(self.chosen - self.runs.len().min(self.chosen));
                return program.and_then(|program| order("end", program.end.clone()));
            }
            ViewKey::Char(_) => {}
        }
        None
    }
}
