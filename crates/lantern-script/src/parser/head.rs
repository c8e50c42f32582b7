//! Heads of rules: their clauses, and the lists that stand in them.

use std::time::Duration;

use lantern_model::{ReentryPolicy, Value};

use super::{ErrorReported, Parsed, Parser};
use crate::Finding;
use crate::codes::Code;
use crate::token::{Sign, TokenKind};
use crate::tree::{Clause, ClauseKind, ExprSyntaxKind, Quoted};

/// The first words of all clauses.
pub(super) const CLAUSE_WORDS: &[&str] = &[
    "in",
    "not",
    "from",
    "if",
    "at",
    "after",
    "repeating",
    "passing",
    "while",
    "named",
    "again",
    "even",
    "fast",
    "without",
    "or",
];

impl Parser<'_> {
    /// All clauses of a rule.
    pub(super) fn parse_clauses(&mut self) -> Parsed<Vec<Clause>> {
        let mut clauses = Vec::new();
        loop {
            let start = self.peek().span;
            if let Some(kind) = self.parse_clause()? {
                clauses.push(Clause { kind, span: start.to(self.last_span()) });
            } else if self.is_sign(Sign::BraceOpen) || self.is_sign(Sign::Arrow) {
                return Ok(clauses);
            } else {
                return self.fail_clause();
            }
        }
    }

    fn fail_clause<T>(&mut self) -> Parsed<T> {
        if self.is_word("or") {
            let piece = self.peek();
            let help = "move this trigger in front of the first clause";
            return self.fail_at(piece, "a clause or `{`", Some(help.into()));
        }
        let advice = self.advisor().advise_clause();
        self.fail_advised("a clause, `{` or `=>`", CLAUSE_WORDS, advice)
    }

    fn parse_clause(&mut self) -> Parsed<Option<ClauseKind>> {
        if self.is_word("in") {
            return self.parse_place().map(Some);
        }
        if self.take_words(&["not", "in", "app"]) {
            return Ok(Some(ClauseKind::NotInApp(self.parse_names("a program's name")?)));
        }
        if self.take_words(&["from", "device"]) {
            return Ok(Some(ClauseKind::FromDevice(self.parse_names("an input device's name")?)));
        }
        if self.take_words(&["while", "held"]) {
            return Ok(Some(ClauseKind::WhileHeld));
        }
        if self.take_words(&["even", "when", "locked"]) {
            return Ok(Some(ClauseKind::EvenLocked));
        }
        if self.take_words(&["without", "attention"]) {
            return Ok(Some(ClauseKind::Uncalled));
        }
        if self.take_word("fast") {
            return Ok(Some(ClauseKind::Fast));
        }
        if self.take_words(&["at", "most", "once", "per"]) {
            return Ok(Some(ClauseKind::AtMost(self.parse_duration()?)));
        }
        if self.take_words(&["after", "quiet"]) {
            return Ok(Some(ClauseKind::AfterQuiet(self.parse_duration()?)));
        }
        Ok(if self.take_word("if") {
            Some(ClauseKind::If(self.parse_expr()?))
        } else if self.take_word("repeating") {
            Some(ClauseKind::Repeating)
        } else if self.take_word("passing") {
            Some(ClauseKind::Passing)
        } else if self.take_word("named") {
            Some(ClauseKind::Named(self.expect_name("a name")?))
        } else if self.take_word("again") {
            Some(ClauseKind::ReentryPolicy(self.parse_again()?))
        } else {
            None
        })
    }

    /// `in app "x"`, `in title "x"`, `in layer NAME`
    pub(super) fn parse_place(&mut self) -> Parsed<ClauseKind> {
        self.next();
        if self.take_word("app") {
            return Ok(ClauseKind::InApp(self.parse_names("a program's name")?));
        }
        if self.take_word("title") {
            return Ok(ClauseKind::InTitle(self.parse_names("a part of a title")?));
        }
        if self.take_word("layer") {
            return Ok(ClauseKind::InLayer(self.expect_name("a layer's name")?));
        }
        let advice = self.advisor().advise_kind_of_place();
        let known = ["app", "title", "layer"];
        self.fail_advised("`app`, `title` or `layer` after `in`", &known, advice)
    }

    fn parse_again(&mut self) -> Parsed<ReentryPolicy> {
        const WORDS: [(&str, ReentryPolicy); 4] = [
            ("waits", ReentryPolicy::Queue),
            ("stops", ReentryPolicy::Toggle),
            ("restarts", ReentryPolicy::Restart),
            ("overlaps", ReentryPolicy::Parallel),
        ];
        if self.take_words(&["is", "ignored"]) {
            return Ok(ReentryPolicy::Ignore);
        }
        for (word, again) in WORDS {
            if self.take_word(word) {
                return Ok(again);
            }
        }
        let known = ["waits", "stops", "restarts", "overlaps", "is"];
        self.fail_unknown("`waits`, `stops`, `restarts`, `overlaps` or `is ignored`", &known)
    }

    /// `"x", "y"`
    pub(super) fn parse_names(&mut self, what: &str) -> Parsed<Vec<Quoted>> {
        let what = format!("{what} between quotes");
        let mut names = vec![self.parse_plain_text(&what)?];
        while self.take_sign(Sign::Comma) {
            self.take_line_ends();
            names.push(self.parse_plain_text(&what)?);
        }
        Ok(names)
    }

    /// A length of time as it is written, not a value.
    pub(super) fn parse_duration(&mut self) -> Parsed<Duration> {
        if self.peek().kind != TokenKind::Number {
            return self.fail("a duration, such as `2s`");
        }
        let value = self.parse_primary()?;
        match value.kind {
            ExprSyntaxKind::Value(Value::Duration(span)) => Ok(span),
            ExprSyntaxKind::Unread => Err(ErrorReported),
            _ => {
                self.findings.push(
                    Finding::new(Code::WrongKind, value.span, "expected a duration")
                        .label("not a duration")
                        .help("write the unit: `500ms`, `2s`, `5min`, `1h`"),
                );
                Err(ErrorReported)
            }
        }
    }
}
