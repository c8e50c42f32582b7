//! Heads of rules: triggers and clauses.

use lantern_model::{Again, KeyRef, Manner};

use super::{Parsed, Parser, not_yet};
use crate::codes::Code;
use crate::token::{Sign, TokenKind};
use crate::tree::{Clause, ClauseKind, Combo, KeyPart, Trigger};
use crate::{Finding, Span};

impl Parser<'_> {
    /// All triggers of a rule; those that this version does not do are named and left out.
    pub(super) fn parse_triggers(&mut self) -> Parsed<Vec<Trigger>> {
        let mut triggers = Vec::new();
        loop {
            if let Some(trigger) = self.parse_trigger()? {
                triggers.push(trigger);
            }
            if !self.take_word("or") {
                return Ok(triggers);
            }
        }
    }

    fn parse_trigger(&mut self) -> Parsed<Option<Trigger>> {
        let piece = self.peek();
        let word = self.slice(piece.span);
        if piece.kind == TokenKind::Word
            && let Some((_, what)) = not_yet::TRIGGERS.iter().find(|(first, _)| *first == word)
        {
            let span = self.skip_head_part();
            self.skip_as()?;
            self.say_not_yet(what, span);
            return Ok(None);
        }
        if !self.take_word("key") {
            let triggers = not_yet::TRIGGERS.iter().map(|(word, _)| *word);
            let known: Vec<&str> = std::iter::once("key").chain(triggers).collect();
            return self.fail_unknown("what fires the rule, such as `key f9`", &known);
        }
        let combo = self.parse_combo()?;
        let manner = self.parse_manner(piece.span)?;
        let name = if self.take_word("as") { Some(self.expect_name("a name")?) } else { None };
        let span = piece.span.to(self.last_span());
        let done = manner.is_some() && self.check_trigger_keys(&combo);
        Ok(manner.filter(|_| done).map(|manner| Trigger { combo, manner, name, span }))
    }

    fn skip_as(&mut self) -> Parsed<()> {
        if self.take_word("as") {
            let name = self.expect_name("a name")?;
            self.mentions.push(name.text);
        }
        Ok(())
    }

    /// The manner, or nothing if it is one that this version does not do.
    fn parse_manner(&mut self, start: Span) -> Parsed<Option<Manner>> {
        if self.take_word("released") {
            return Ok(Some(Manner::Released));
        }
        for word in ["tapped", "twice", "held"] {
            if self.take_word(word) {
                if word == "held" {
                    self.parse_expr()?;
                }
                let span = start.to(self.last_span());
                self.say_not_yet(&format!("`{word}`"), span);
                return Ok(None);
            }
        }
        Ok(Some(Manner::Pressed))
    }

    /// Whether this version can take these keys; names what it cannot.
    fn check_trigger_keys(&mut self, combo: &Combo) -> bool {
        let count = self.findings.len();
        let Some((last, modifiers)) = combo.parts.split_last() else {
            return false;
        };
        let is_modifier = |part: &KeyPart| match part {
            KeyPart::Key(key, _) => key.is_modifier(),
            KeyPart::Set(keys, _) => keys.iter().all(|key| key.is_modifier()),
            KeyPart::Value(_) | KeyPart::Unread(_) => true,
        };
        if let Some(plain) = modifiers.iter().find(|part| !is_modifier(part)) {
            self.say_not_yet("keys other than modifiers held together", plain.span());
        } else if is_modifier(last) && matches!(last, KeyPart::Key(..)) {
            self.say_not_yet("a modifier key alone", last.span());
        }
        if let Some(set) = modifiers.iter().find(|part| matches!(part, KeyPart::Set(..))) {
            self.say_not_yet("a set of modifiers", set.span());
        }
        for part in &combo.parts {
            match part {
                KeyPart::Value(value) => {
                    let finding = Finding::new(
                        Code::Unexpected,
                        value.span,
                        "a rule's key stands in its head as it is, not as a value",
                    );
                    self.findings.push(finding.label("name the key here"));
                }
                KeyPart::Key(key, span) if is_pointer(*key) => {
                    self.say_not_yet("buttons, wheel and pen as triggers", *span);
                }
                KeyPart::Set(keys, span) if keys.iter().any(|key| is_pointer(*key)) => {
                    self.say_not_yet("buttons, wheel and pen as triggers", *span);
                }
                _ => {}
            }
        }
        self.findings.len() == count
    }

    /// All clauses of a rule; those that this version does not do are named and left out.
    pub(super) fn parse_clauses(&mut self) -> Parsed<Vec<Clause>> {
        let mut clauses = Vec::new();
        loop {
            let start = self.peek().span;
            if let Some(kind) = self.parse_clause()? {
                clauses.push(Clause { kind, span: start.to(self.last_span()) });
            } else if self.is_sign(Sign::BraceOpen) || self.is_sign(Sign::Arrow) {
                return Ok(clauses);
            } else if let Some((first, second)) =
                not_yet::CLAUSES.iter().find(|(first, second)| self.is_words(first, second))
            {
                let span = self.skip_head_part();
                self.say_not_yet(&format!("`{first} {second}`"), span);
            } else {
                return self.fail_clause();
            }
        }
    }

    fn fail_clause<T>(&mut self) -> Parsed<T> {
        if self.is_word("or") {
            let piece = self.peek();
            let help = "move this trigger in front of the first clause".to_owned();
            return self.fail_at(piece, "a clause or `{`", Some(help));
        }
        let known =
            ["in", "if", "repeating", "passing", "while", "named", "again", "at", "after", "or"];
        self.fail_unknown("a clause, `{` or `=>`", &known)
    }

    fn parse_clause(&mut self) -> Parsed<Option<ClauseKind>> {
        if self.is_words("in", "app") {
            return Ok(Some(ClauseKind::InApp(self.parse_app_list()?)));
        }
        if self.is_words("while", "held") {
            self.next();
            self.next();
            return Ok(Some(ClauseKind::WhileHeld));
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
            Some(ClauseKind::Again(self.parse_again()?))
        } else {
            None
        })
    }

    fn parse_again(&mut self) -> Parsed<Again> {
        const WORDS: [(&str, Again); 4] = [
            ("waits", Again::Waits),
            ("stops", Again::Stops),
            ("restarts", Again::Restarts),
            ("overlaps", Again::Overlaps),
        ];
        if self.is_words("is", "ignored") {
            self.next();
            self.next();
            return Ok(Again::IsIgnored);
        }
        for (word, again) in WORDS {
            if self.take_word(word) {
                return Ok(again);
            }
        }
        let known = ["waits", "stops", "restarts", "overlaps", "is"];
        self.fail_unknown("`waits`, `stops`, `restarts`, `overlaps` or `is ignored`", &known)
    }

    /// `in app "x", "y"`
    pub(super) fn parse_app_list(&mut self) -> Parsed<Vec<(String, Span)>> {
        self.next();
        self.next();
        let mut apps = vec![self.parse_plain_text("a program's name between quotes")?];
        while self.take_sign(Sign::Comma) {
            self.take_line_ends();
            apps.push(self.parse_plain_text("another program's name")?);
        }
        Ok(apps)
    }
}

fn is_pointer(key: KeyRef) -> bool {
    matches!(key, KeyRef::Named(key) | KeyRef::Placed(key) if key.is_pointer())
}
