//! Rules: triggers spread over their sets of keys, clauses put together, bodies lowered.

use lantern_model::{Again, Combo, Place, RoutineId, Rule, Trigger};

use super::Checker;
use super::kinds::Kind;
use super::routines::Body;
use crate::codes::Code;
use crate::tree::{self, Clause, ClauseKind, KeyPart, When};
use crate::{Finding, Span};

impl Checker<'_> {
    pub(super) fn lower_rule(&mut self, when: &When, block_apps: &[(String, Span)]) {
        self.names.begin_body();
        self.check_clauses_once(&when.clauses);
        let name = self.declare_brought(&when.triggers);
        let mut rule = self.rule_from_head(when, block_apps);
        rule.brings = name;
        let mut body = Body::default();
        self.names.asks_held = rule.while_held;
        self.lower_steps(&when.body, &mut body);
        self.end_block(0);
        rule.body = RoutineId(self.set.routines.len());
        self.set.routines.push(body.into_routine(String::new(), self.names.slots()));
        let mut spans = Vec::new();
        for trigger in &when.triggers {
            let place = self.place(trigger.span);
            for spread in spread_trigger(trigger, place) {
                rule.triggers.push(spread);
                spans.push(trigger.span);
            }
        }
        self.set.rules.push(rule);
        self.spans.push(spans);
    }

    fn check_clauses_once(&mut self, clauses: &[Clause]) {
        for (index, clause) in clauses.iter().enumerate() {
            let words = clause.kind.words();
            if let Some(earlier) = clauses[..index].iter().find(|c| c.kind.words() == words) {
                self.say(
                    Finding::new(Code::BadClause, clause.span, format!("`{words}` stands twice"))
                        .label("again")
                        .other(earlier.span, "first here")
                        .help("leave one of them away; several conditions are joined by `and`"),
                );
            }
        }
        let find = |wanted: &str| clauses.iter().find(|clause| clause.kind.words() == wanted);
        if let (Some(passing), Some(repeating)) = (find("passing"), find("repeating")) {
            self.say(
                Finding::new(
                    Code::BadClause,
                    repeating.span,
                    "`repeating` does not go with `passing`",
                )
                .label("repeats cannot be told from the program's own")
                .other(passing.span, "the program gets the key here")
                .help("leave one of them away"),
            );
        }
    }

    /// The name that every trigger brings, if they agree on one. It takes slot 0.
    fn declare_brought(&mut self, triggers: &[tree::Trigger]) -> bool {
        let Some(name) = triggers.iter().find_map(|trigger| trigger.name.as_ref()) else {
            return false;
        };
        self.declare_local(name, Kind::Key);
        for trigger in triggers {
            if trigger.name.as_ref().is_none_or(|other| other.text != name.text) {
                self.say(
                    Finding::new(
                        Code::BadClause,
                        trigger.span,
                        format!("this trigger does not bring `{}`", name.text),
                    )
                    .label(format!("`as {}` is missing", name.text))
                    .other(name.span, "the rule's steps may use it")
                    .help("give every trigger the same name, or make two rules and a macro"),
                );
            }
        }
        true
    }

    fn rule_from_head(&mut self, when: &When, block_apps: &[(String, Span)]) -> Rule {
        let mut rule = Rule {
            label: String::new(),
            name: None,
            place: self.place(when.head),
            triggers: Vec::new(),
            brings: false,
            apps: app_names(block_apps),
            condition: None,
            repeating: false,
            passing: false,
            while_held: false,
            again: Again::default(),
            body: RoutineId(0),
        };
        for clause in &when.clauses {
            match &clause.kind {
                ClauseKind::InApp(apps) => self.narrow_apps(&mut rule, apps, clause.span),
                ClauseKind::If(condition) => {
                    let expr = self.lower_kind(condition, Kind::Truth, "true or false after `if`");
                    rule.condition = Some(expr);
                }
                ClauseKind::Repeating => rule.repeating = true,
                ClauseKind::Passing => rule.passing = true,
                ClauseKind::WhileHeld => rule.while_held = true,
                ClauseKind::Named(name) => rule.name = Some(name.text.clone()),
                ClauseKind::Again(again) => rule.again = *again,
            }
        }
        let described = when.description.lines().next().filter(|line| !line.is_empty());
        rule.label = match (described, &rule.name) {
            (Some(line), _) => line.to_owned(),
            (None, Some(name)) => name.clone(),
            (None, None) => {
                let head = self.source.slice(when.head);
                head.split_whitespace().collect::<Vec<_>>().join(" ")
            }
        };
        rule
    }

    fn narrow_apps(&mut self, rule: &mut Rule, apps: &[(String, Span)], span: Span) {
        let inner = app_names(apps).unwrap_or_default();
        if let Some(outer) = &rule.apps
            && !inner.iter().any(|app| outer.contains(app))
        {
            self.say(
                Finding::new(Code::BadClause, span, "no program is in both places")
                    .label("another program than the block around the rule names")
                    .help("move the rule out of the block"),
            );
        }
        rule.apps = Some(match &rule.apps {
            Some(outer) => inner.into_iter().filter(|app| outer.contains(app)).collect(),
            None => inner,
        });
    }
}

fn app_names(apps: &[(String, Span)]) -> Option<Vec<String>> {
    if apps.is_empty() {
        return None;
    }
    Some(apps.iter().map(|(name, _)| name.to_lowercase()).collect())
}

/// One trigger for each key of its set.
fn spread_trigger(trigger: &tree::Trigger, place: Place) -> Vec<Trigger> {
    let Some((last, modifiers)) = trigger.combo.parts.split_last() else {
        return Vec::new();
    };
    let held: Vec<_> = modifiers
        .iter()
        .filter_map(|part| match part {
            KeyPart::Key(key, _) => Some(*key),
            _ => None,
        })
        .collect();
    let lasts = match last {
        KeyPart::Key(key, _) => vec![*key],
        KeyPart::Set(keys, _) => keys.clone(),
        _ => Vec::new(),
    };
    lasts
        .into_iter()
        .map(|key| {
            let keys = held.iter().copied().chain([key]).collect();
            Trigger { combo: Combo(keys), brings: key, manner: trigger.manner, place }
        })
        .collect()
}
