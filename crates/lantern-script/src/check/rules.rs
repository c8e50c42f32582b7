//! Rules: clauses put together, bodies lowered.

use lantern_model::code::Op;
use lantern_model::{ContextFilter, ReentryPolicy, RoutineId, Rule, Trigger, TriggerKind};

use super::Checker;
use super::kinds::ValueKind;
use super::names::ItemKind;
use super::needs::Need;
use super::routines::Body;
use crate::codes::Code;
use crate::tree::{self, Clause, ClauseKind, Quoted, Step, When};
use crate::{Finding, Span};

/// Characters of a rule's steps that are kept to show what it does.
const MOST_STEPS_TEXT: usize = 72;

impl Checker<'_> {
    /// `around` are the clauses of the blocks around the rule, the outermost first.
    pub(super) fn lower_rule(&mut self, when: &When, around: &[&Clause]) {
        self.names.begin_body();
        self.check_clauses(when);
        let mut rule = self.rule_from_head(when, around);
        let mut spans = Vec::new();
        let mut brought = Vec::new();
        for trigger in &when.triggers {
            self.need_for_trigger(trigger);
            let (causes, kind) = self.lower_trigger(trigger);
            brought.push(kind);
            let place = self.place(trigger.span);
            for cause in causes {
                self.check_cause_on_layout(&cause, trigger.span);
                rule.triggers.push(Trigger { kind: cause, place });
                spans.push(trigger.span);
            }
        }
        rule.has_payload = self.declare_brought(&when.triggers, &brought);
        let mut body = Body::default();
        self.names.asks_held = rule.ends_on_release;
        let typed = |trigger: &Trigger| matches!(trigger.kind, TriggerKind::Typed(_));
        if !rule.passes_key_through && rule.triggers.iter().any(typed) {
            body.push(Op::Erase, (rule.place, when.head));
        }
        self.lower_steps(&when.body, &mut body);
        self.end_block(0);
        rule.body = RoutineId(self.lowered.set.routines.len());
        let (routine, spans_of) = body.into_routine(String::new(), self.names.slots());
        self.lowered.set.routines.push(routine);
        self.lowered.op_spans.push(spans_of);
        self.lowered.calls.push(std::mem::take(&mut self.body_calls));
        self.lowered.set.rules.push(rule);
        self.lowered.heads.push(super::Head { span: when.head, triggers: spans });
    }

    fn check_clauses(&mut self, when: &When) {
        let clauses = &when.clauses;
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
        let apart = [
            ("passing", "repeating", "repeats cannot be told from the program's own"),
            ("after quiet", "while held", "the key may be up long before the rule fires"),
            ("after quiet", "repeating", "a repeating key is never quiet"),
        ];
        for (first, second, why) in apart {
            if let (Some(first), Some(second)) = (find(first), find(second)) {
                self.say(
                    Finding::new(
                        Code::BadClause,
                        second.span,
                        format!(
                            "`{}` does not go with `{}`",
                            second.kind.words(),
                            first.kind.words()
                        ),
                    )
                    .label(why)
                    .other(first.span, "beside this")
                    .help("leave one of them away"),
                );
            }
        }
        self.check_clauses_suit(when);
    }

    /// Clauses about keys need triggers that are keys.
    fn check_clauses_suit(&mut self, when: &When) {
        const KEYS: &[&str] = &["key"];
        const INPUT: &[&str] = &["key", "keys", "typed"];
        for clause in &when.clauses {
            let suits = match clause.kind {
                ClauseKind::WhileHeld | ClauseKind::Repeating => KEYS,
                ClauseKind::Passing | ClauseKind::FromDevice(_) => INPUT,
                _ => continue,
            };
            let other = when.triggers.iter().find(|trigger| !suits.contains(&trigger.kind.word()));
            if let Some(other) = other {
                let words = clause.kind.words();
                let message = format!("`{words}` is for keys, not for `{}`", other.kind.word());
                self.say(
                    Finding::new(Code::BadClause, clause.span, message)
                        .label("of no use here")
                        .other(other.span, "this is no key")
                        .help(format!("leave `{words}` away, or make two rules and a macro")),
                );
            }
        }
    }

    /// The name that every trigger brings, if they agree on one. It takes slot 0.
    fn declare_brought(
        &mut self,
        triggers: &[tree::TriggerSyntax],
        brought: &[Option<ValueKind>],
    ) -> bool {
        let named = triggers.iter().position(|trigger| trigger.name.is_some());
        let Some((first, name)) = named.and_then(|at| Some((at, triggers[at].name.as_ref()?)))
        else {
            return false;
        };
        let kind = self.shared_kind(brought, first);
        self.declare_local(name, kind);
        for (trigger, brings) in triggers.iter().zip(brought) {
            let problem = match brings {
                None => Some((
                    format!("`{}` brings nothing", trigger.kind.word()),
                    "nothing to give a name".to_owned(),
                )),
                Some(_) if trigger.name.as_ref().is_none_or(|other| other.text != name.text) => {
                    Some((
                        format!("this trigger does not bring `{}`", name.text),
                        format!("`as {}` is missing", name.text),
                    ))
                }
                Some(other) if !other.fits(kind) => Some((
                    format!("this brings {}, not {}", other.words(), kind.words()),
                    other.words().to_owned(),
                )),
                Some(_) => None,
            };
            if let Some((message, label)) = problem {
                self.say(
                    Finding::new(Code::BadClause, trigger.span, message)
                        .label(label)
                        .other(name.span, "the rule's steps may use it")
                        .help("give every trigger the same name, or make two rules and a macro"),
                );
            }
        }
        true
    }

    /// The kind that all triggers bring; of records, the parts they share.
    fn shared_kind(&mut self, brought: &[Option<ValueKind>], first: usize) -> ValueKind {
        let Some(ValueKind::Record(record)) = brought[first] else {
            return brought[first].unwrap_or(ValueKind::Any);
        };
        let mut shared = self.records[record].clone();
        for kind in brought.iter().flatten() {
            if let ValueKind::Record(other) = kind {
                let other = &self.records[*other];
                shared.retain(|part, kind| other.get(part).is_some_and(|k| k.fits(*kind)));
            }
        }
        self.add_record(shared)
    }

    /// The steps of a rule in one line.
    fn steps_text(&self, steps: &[Step]) -> String {
        let mut text = String::new();
        for step in steps {
            if text.chars().count() > MOST_STEPS_TEXT {
                break;
            }
            if !text.is_empty() {
                text.push_str("; ");
            }
            let words = self.source.slice(step.span).split_whitespace();
            // A long step needs no more of its words than are shown.
            for (count, word) in words.take(MOST_STEPS_TEXT).enumerate() {
                if count > 0 {
                    text.push(' ');
                }
                text.push_str(word);
            }
        }
        match text.char_indices().nth(MOST_STEPS_TEXT) {
            None => text,
            Some((end, _)) => format!("{}…", text[..end].trim_end()),
        }
    }

    fn rule_from_head(&mut self, when: &When, around: &[&Clause]) -> Rule {
        let mut rule = Rule {
            label: String::new(),
            steps_text: self.steps_text(&when.body),
            name: None,
            place: self.place(when.head),
            triggers: Vec::new(),
            has_payload: false,
            filter: self.lower_scope(around.iter().copied().chain(&when.clauses)),
            condition: None,
            condition_text: String::new(),
            throttle: None,
            debounce: None,
            repeats_while_held: false,
            passes_key_through: false,
            ends_on_release: false,
            reentry: ReentryPolicy::default(),
            allowed_when_locked: false,
            without_rate_limit: false,
            without_attention_word: false,
            body: RoutineId(0),
            fingerprint: self.print_of(when.whole),
        };
        for clause in &when.clauses {
            match &clause.kind {
                ClauseKind::If(condition) => {
                    let expr =
                        self.lower_kind(condition, ValueKind::Truth, "true or false after `if`");
                    rule.condition = Some(expr);
                    rule.condition_text = self.source.slice(condition.span).to_owned();
                }
                ClauseKind::AtMost(span) => rule.throttle = Some(*span),
                ClauseKind::AfterQuiet(span) => rule.debounce = Some(*span),
                ClauseKind::Repeating => rule.repeats_while_held = true,
                ClauseKind::Passing => rule.passes_key_through = true,
                ClauseKind::WhileHeld => rule.ends_on_release = true,
                ClauseKind::Named(name) => rule.name = Some(self.names.full(&name.text)),
                ClauseKind::ReentryPolicy(again) => rule.reentry = *again,
                ClauseKind::EvenLocked => rule.allowed_when_locked = true,
                ClauseKind::Fast => rule.without_rate_limit = true,
                ClauseKind::Uncalled => rule.without_attention_word = true,
                ClauseKind::InApp(_)
                | ClauseKind::NotInApp(_)
                | ClauseKind::InTitle(_)
                | ClauseKind::InLayer(_)
                | ClauseKind::FromDevice(_) => {}
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

    /// Where something applies, from the clauses around it and its own.
    pub(super) fn lower_scope<'c>(
        &mut self,
        clauses: impl Iterator<Item = &'c Clause>,
    ) -> ContextFilter {
        let mut scope = ContextFilter::default();
        for clause in clauses {
            if let ClauseKind::InApp(_) | ClauseKind::InTitle(_) | ClauseKind::NotInApp(_) =
                &clause.kind
            {
                self.need(Need::Places, clause.span);
            }
            match &clause.kind {
                ClauseKind::InApp(apps) => {
                    self.narrow(&mut scope.apps, apps, clause.span, "program")
                }
                ClauseKind::InTitle(titles) => {
                    self.narrow(&mut scope.titles, titles, clause.span, "title");
                }
                ClauseKind::NotInApp(apps) => scope.not_apps.extend(lower_case(apps)),
                ClauseKind::FromDevice(devices) => {
                    self.need(Need::Boards, clause.span);
                    scope.input_devices = Some(lower_case(devices));
                }
                ClauseKind::InLayer(name) => {
                    let layer = self.find_layer(name);
                    if scope.layer.is_some() && layer != scope.layer {
                        self.say_nowhere(clause.span, "layer");
                    }
                    scope.layer = layer.or(scope.layer);
                }
                _ => {}
            }
        }
        scope
    }

    fn narrow(
        &mut self,
        outer: &mut Option<Vec<String>>,
        inner: &[Quoted],
        span: Span,
        what: &str,
    ) {
        let inner = lower_case(inner);
        let both: Vec<String> = match outer.as_ref() {
            Some(outer) => inner.into_iter().filter(|name| outer.contains(name)).collect(),
            None => inner,
        };
        if both.is_empty() {
            self.say_nowhere(span, what);
        }
        *outer = Some(both);
    }

    fn say_nowhere(&mut self, span: Span, what: &str) {
        self.say(
            Finding::new(Code::BadClause, span, format!("no {what} is in both places"))
                .label(format!("another {what} than the block around names"))
                .help("move the rule out of the block"),
        );
    }

    /// Names a rule and what its steps start, before anything refers to them.
    pub(super) fn declare_rule(&mut self, when: &When, index: usize) {
        for clause in &when.clauses {
            match &clause.kind {
                ClauseKind::Named(name) => {
                    self.declare(ItemKind::Rule, name, index, ValueKind::Any)
                }
                ClauseKind::InLayer(name) => self.declare_layer(name),
                _ => {}
            }
        }
        self.declare_started(&when.body);
    }
}

fn lower_case(names: &[Quoted]) -> Vec<String> {
    names.iter().map(|(name, _)| name.to_lowercase()).collect()
}
