//! What to write instead of something that is not of the language, in the words of the person who wrote
//! it. Called where a part, a trigger, a clause, a step, a key or a value was expected.

use lantern_model::{Key, Modifier, is_combination, key_synonym};

use super::Piece;
use super::everyday_words::{self, Instead, instead_of};
use super::head::CLAUSE_WORDS;
use super::steps::is_step_word;
use super::triggers::TRIGGER_WORDS;
use crate::lexer::hyphenated;
use crate::token::{Sign, TokenKind};
use crate::{Fix, Span};

/// What to write instead, with the change of the text that does it.
#[derive(Debug, Clone)]
pub(super) struct Advice {
    pub(super) help: String,
    pub(super) fix: Option<Fix>,
}

impl From<String> for Advice {
    fn from(help: String) -> Advice {
        Advice { help, fix: None }
    }
}

impl From<&str> for Advice {
    fn from(help: &str) -> Advice {
        Advice { help: help.to_owned(), fix: None }
    }
}

impl Advice {
    /// Advice that can be followed without a decision.
    fn certain(help: impl Into<String>, span: Span, text: impl Into<String>) -> Advice {
        Advice { help: help.into(), fix: Some(Fix { span, text: text.into(), is_certain: true }) }
    }

    fn insert(at: Span, text: &str, help: impl Into<String>) -> Advice {
        Advice::certain(help, Span::new(at.start as usize, at.start as usize), text)
    }
}

/// Steps whose first value is a text.
const TEXT_STEPS: &[&str] = &[
    "type", "hint", "log", "notify", "say", "launch", "run", "shell", "open", "paste", "ask",
    "confirm",
];

/// A combination of keys that stands where none is expected.
struct FoundKeys {
    /// The combination as the language writes it.
    text: String,
    span: Span,
    /// The index of the piece behind it.
    end: usize,
}

/// Looks at the pieces around the place of a mistake.
pub(super) struct Advisor<'a> {
    text: &'a str,
    pieces: &'a [Piece],
    /// The index of the piece that was not expected.
    at: usize,
}

impl<'a> Advisor<'a> {
    /// Looks at the piece at index `at`, with its text in `text`.
    pub(super) fn new(text: &'a str, pieces: &'a [Piece], at: usize) -> Advisor<'a> {
        Advisor { text, pieces, at }
    }

    fn slice(&self, span: Span) -> &'a str {
        &self.text[span.range()]
    }

    /// The place behind what stands before the mistake.
    fn behind_last(&self) -> Span {
        let before = self.pieces[..self.at].iter().rev();
        let mut words = before.skip_while(|piece| piece.kind == TokenKind::LineEnd);
        words.next().map_or(Span::default(), |piece| piece.span).after()
    }

    fn piece(&self, at: usize) -> Option<(Piece, &'a str)> {
        self.pieces.get(at).map(|piece| (*piece, self.slice(piece.span)))
    }

    fn is_sign_at(&self, at: usize, sign: Sign) -> bool {
        self.pieces.get(at).is_some_and(|piece| piece.kind == TokenKind::Sign(sign))
    }

    /// The combination that stands at a piece, under its own or everyday names.
    fn keys_at(&self, start: usize) -> Option<FoundKeys> {
        let mut parts = Vec::new();
        let mut at = start;
        let first = self.piece(start)?.0.span;
        let mut span;
        loop {
            let (piece, text) = self.piece(at)?;
            let is_key =
                matches!(piece.kind, TokenKind::Word | TokenKind::Number | TokenKind::Character);
            if !is_key {
                return None;
            }
            let name = if is_combination(text) { text.to_owned() } else { key_synonym(text)? };
            parts.push(name);
            span = first.to(piece.span);
            at += 1;
            let goes_on = self.is_sign_at(at, Sign::Plus)
                && self.pieces.get(at + 1).is_some_and(|next| !next.spaced);
            if !goes_on {
                return Some(FoundKeys { text: parts.join("+"), span, end: at });
            }
            at += 1;
        }
    }

    /// Advice from a table for the word that comes next. One that only has to be replaced is replaced if
    /// `fits` says that what follows it is right.
    fn advice_from(
        &self,
        table: &[(&'static [&'static str], Instead)],
        fits: impl Fn(&Self) -> bool,
    ) -> Option<Advice> {
        let (piece, word) = self.piece(self.at)?;
        Some(match instead_of(table, word)? {
            Instead::Write(help) => match self.piece(self.at + 1) {
                Some((next, text)) if next.kind == TokenKind::Text => {
                    help.replace("\"...\"", text).into()
                }
                _ => help.into(),
            },
            Instead::Replace(text) if fits(self) => {
                Advice::certain(format!("write `{}`", text.trim()), piece.span, text)
            }
            Instead::Replace(text) => format!("write `{}`", text.trim()).into(),
        })
    }

    fn follows(&self, kinds: &[TokenKind]) -> bool {
        self.pieces.get(self.at + 1).is_some_and(|piece| kinds.contains(&piece.kind))
    }

    /// Advice for what stands where a part of a file begins.
    pub(super) fn advise_part(&self) -> Option<Advice> {
        let (piece, word) = self.piece(self.at)?;
        if piece.kind == TokenKind::Foreign || self.is_foreign_comment() {
            return self.advise_sign();
        }
        if let Some(keys) = self.keys_at(self.at) {
            let begins_rule = self.is_sign_at(keys.end, Sign::Arrow)
                || self.is_sign_at(keys.end, Sign::BraceOpen)
                || self.pieces.get(keys.end).is_some_and(|next| next.kind == TokenKind::Foreign);
            if begins_rule || keys.text.contains('+') {
                let help = format!("a rule for a key begins `when key {}`", keys.text);
                let text = format!("when key {}", keys.text);
                return Some(Advice::certain(help, keys.span, text));
            }
        }
        if piece.kind != TokenKind::Word {
            return None;
        }
        if everyday_words::RULES.contains(&word) {
            return Some(self.advise_rule(piece.span));
        }
        if TRIGGER_WORDS.contains(&word) {
            let help = format!("a rule begins with `when`: `when {word} ...`");
            return Some(Advice::insert(piece.span, "when ", help));
        }
        if let Some(advice) = self.advise_remap() {
            return Some(advice);
        }
        let fits = |advisor: &Self| advisor.follows(&[TokenKind::Word, TokenKind::Text]);
        if let Some(advice) = self.advice_from(everyday_words::PARTS, fits) {
            return Some(advice);
        }
        if self.is_sign_at(self.at + 1, Sign::Assign) {
            if super::words::SETTINGS.iter().any(|(name, _)| *name == word) {
                return Some("a setting stands in `settings { ... }`".into());
            }
            let help = format!("to name a value write `let {word} = ...`");
            return Some(Advice::insert(piece.span, "let ", help));
        }
        is_step_word(word).then(|| "a step stands inside a rule: `when key f9 { ... }`".into())
    }

    /// Advice for a word that begins a rule in other languages.
    fn advise_rule(&self, word: Span) -> Advice {
        let next = self.piece(self.at + 1);
        if next.is_some_and(|(_, text)| TRIGGER_WORDS.contains(&text)) {
            return Advice::certain("a rule begins with `when`", word, "when");
        }
        match self.keys_at(self.at + 1) {
            Some(keys) => {
                let text = format!("when key {}", keys.text);
                let help = format!("a rule for a key begins `{text}`");
                Advice::certain(help, word.to(keys.span), text)
            }
            None => "a rule begins with `when`: `when key f9 { ... }`".into(),
        }
    }

    /// `map caps-lock escape`: two keys behind a word.
    fn advise_remap(&self) -> Option<Advice> {
        let from = self.keys_at(self.at + 1)?;
        let to = self.keys_at(from.end)?;
        let text = format!("remap {} to {}", from.text, to.text);
        let span = self.piece(self.at)?.0.span.to(to.span);
        Some(Advice::certain(format!("write `{text}`"), span, text))
    }

    /// `double key f9`, `long f9`: how a key is pressed, in front of it.
    fn advise_press_kind(&self, word: &str) -> Option<Advice> {
        let press = match word {
            "double" | "doubletap" | "double-tap" => "twice",
            "long" | "longpress" | "long-press" | "hold" | "holding" | "held" => "held 500ms",
            _ => return None,
        };
        let has_word = self.piece(self.at + 1).is_some_and(|(_, text)| text == "key");
        let keys = self.keys_at(self.at + 1 + usize::from(has_word))?;
        let text = format!("key {} {press}", keys.text);
        let span = self.piece(self.at)?.0.span.to(keys.span);
        Some(Advice::certain(format!("write `{text}`"), span, text))
    }

    fn is_foreign_comment(&self) -> bool {
        self.is_sign_at(self.at, Sign::Divide) && self.is_sign_at(self.at + 1, Sign::Divide)
    }

    /// Advice for what stands where a trigger is expected.
    pub(super) fn advise_trigger(&self) -> Option<Advice> {
        let (piece, word) = self.piece(self.at)?;
        match piece.kind {
            TokenKind::Text => {
                return Some(format!("for a spoken phrase write `voice {word}`, for an abbreviation `typed {word}`").into());
            }
            TokenKind::Clock => {
                return Some(Advice::insert(piece.span, "at ", format!("write `at {word}`")));
            }
            _ => {}
        }
        if let Some(keys) = self.keys_at(self.at)
            && (keys.text.contains('+') || instead_of(everyday_words::TRIGGERS, word).is_none())
        {
            let text = format!("key {}", keys.text);
            return Some(Advice::certain(format!("for a key write `{text}`"), keys.span, text));
        }
        if piece.kind != TokenKind::Word {
            return None;
        }
        if let Some(advice) = self.advise_press_kind(word) {
            return Some(advice);
        }
        if matches!(word, "mouse" | "click" | "button")
            && let Some((side, name)) = self.piece(self.at + 1)
            && let Some(key) = Key::named(&format!("{name}-button"))
        {
            let text = format!("key {key}");
            let help = format!("a button of the mouse is a key: `{text}`");
            return Some(Advice::certain(help, piece.span.to(side.span), text));
        }
        let fits = |advisor: &Self| {
            let instead = instead_of(everyday_words::TRIGGERS, word);
            match instead {
                Some(Instead::Replace("voice" | "typed")) => advisor.follows(&[TokenKind::Text]),
                Some(Instead::Replace("key")) => advisor.keys_at(advisor.at + 1).is_some(),
                Some(Instead::Replace("at")) => advisor.follows(&[TokenKind::Clock]),
                Some(Instead::Replace("every")) => advisor.follows(&[TokenKind::Number]),
                _ => {
                    advisor.is_sign_at(advisor.at + 1, Sign::BraceOpen)
                        || advisor.is_sign_at(advisor.at + 1, Sign::Arrow)
                }
            }
        };
        self.advice_from(everyday_words::TRIGGERS, fits)
    }

    /// Advice for what stands where a clause, `{` or `=>` is expected.
    pub(super) fn advise_clause(&self) -> Option<Advice> {
        let (piece, word) = self.piece(self.at)?;
        let before_block = self.is_sign_at(self.at + 1, Sign::BraceOpen);
        let is_arrow = piece.kind == TokenKind::Foreign && matches!(word, "->" | ":");
        if is_arrow || piece.kind == TokenKind::Word && matches!(word, "then" | "do") {
            let help = "one step stands behind `=>`, several stand in `{ ... }`";
            let text = match () {
                () if before_block => "",
                () if word == ":" => " =>",
                () => "=>",
            };
            return Some(Advice::certain(help, piece.span, text));
        }
        if piece.kind == TokenKind::Foreign {
            return self.advise_sign();
        }
        if piece.kind == TokenKind::Sign(Sign::Assign) {
            return Some(if self.is_in_condition() {
                Advice::certain("two values are compared by `==`", piece.span, "==")
            } else {
                Advice::certain("one step stands behind `=>`", piece.span, "=>")
            });
        }
        if piece.kind == TokenKind::Sign(Sign::BraceClose) {
            return Some("the steps of a rule stand in `{ ... }`: the `{` is missing".into());
        }
        if piece.kind == TokenKind::Sign(Sign::Comma) {
            let help = "for keys one after another write `when keys a, b`, \
                        for either of two `when key a or key b`";
            return Some(help.into());
        }
        let (before, before_word) = self.piece(self.at.checked_sub(1)?)?;
        if word == "when" && before.kind == TokenKind::LineEnd {
            return Some(
                "the rule in front of this one has no steps: write `=>` and a step".into(),
            );
        }
        if self.keys_at(self.at).is_some() && before.kind == TokenKind::Word && self.is_sequence() {
            let help = "keys one after another have a comma between them";
            return Some(Advice::certain(help, before.span.after(), ","));
        }
        if let Some(keys) = self.keys_at(self.at)
            && before.kind == TokenKind::Word
            && is_modifier(before_word)
        {
            let gap = Span::new(before.span.end as usize, piece.span.start as usize);
            let help = format!(
                "keys that are held together are joined by `+`: `{before_word}+{}`",
                keys.text
            );
            return Some(Advice::certain(help, gap, "+"));
        }
        if piece.kind != TokenKind::Word {
            return None;
        }
        if is_step_word(word) {
            let help = "one step stands behind `=>`, several stand in `{ ... }`";
            return Some(Advice::insert(piece.span, "=> ", help));
        }
        let is_behind_key = is_combination(before_word);
        let is_press = |text| matches!(text, "twice" | "released" | "held 500ms");
        self.advice_from(everyday_words::CLAUSES, |_| {
            let instead = instead_of(everyday_words::CLAUSES, word);
            is_behind_key || !matches!(instead, Some(Instead::Replace(text)) if is_press(text))
        })
    }

    /// Whether the mistake stands in the keys of a sequence.
    fn is_sequence(&self) -> bool {
        let before = self.pieces[..self.at].iter().rev().map(|piece| self.slice(piece.span));
        let mut before = before.take_while(|text| *text != "when");
        before.find(|text| matches!(*text, "keys" | "within" | "if")) == Some("keys")
    }

    /// Whether the head at hand has a condition.
    fn is_in_condition(&self) -> bool {
        let before = self.pieces[..self.at].iter().rev().map(|piece| self.slice(piece.span));
        before.take_while(|text| *text != "when").any(|text| text == "if")
    }

    /// Advice for what stands where a step is expected.
    pub(super) fn advise_step(&self) -> Option<Advice> {
        let (piece, word) = self.piece(self.at)?;
        if piece.kind == TokenKind::Foreign || self.is_foreign_comment() {
            return self.advise_sign();
        }
        let (next, _) = self.piece(self.at + 1)?;
        if next.kind == TokenKind::Sign(Sign::Assign) && !is_step_word(word) {
            let help =
                format!("a new value is `let {word} = ...`, a change of one `set {word} = ...`");
            return Some(help.into());
        }
        let second = self.piece(self.at + 2).map(|(second, _)| second);
        for (sign, operator) in [(Sign::Plus, "+"), (Sign::Minus, "-")] {
            if next.kind != TokenKind::Sign(sign) {
                continue;
            }
            let Some(second) = second.filter(|second| !second.spaced) else { continue };
            if second.kind == TokenKind::Sign(sign) {
                let text = format!("set {word} = {word} {operator} 1");
                let span = piece.span.to(second.span);
                return Some(Advice::certain(format!("write `{text}`"), span, text));
            }
            if second.kind == TokenKind::Sign(Sign::Assign) {
                let text = format!("set {word} = {word} {operator}");
                let span = piece.span.to(second.span);
                return Some(Advice::certain(format!("write `{text} ...`"), span, text));
            }
        }
        if self.keys_at(self.at).is_some_and(|keys| keys.text.contains('+')) {
            return Some(Advice::insert(piece.span, "tap ", "keys are pressed by `tap`"));
        }
        let fits = |advisor: &Self| match instead_of(everyday_words::STEPS, word) {
            Some(Instead::Replace("tap" | "press" | "release")) => {
                advisor.keys_at(advisor.at + 1).is_some()
            }
            Some(Instead::Replace("type" | "notify" | "hint" | "say" | "open")) => {
                advisor.follows(&[TokenKind::Text])
            }
            Some(Instead::Replace("wait")) => advisor.follows(&[TokenKind::Number]),
            Some(Instead::Replace("let")) => advisor.is_sign_at(advisor.at + 2, Sign::Assign),
            _ => true,
        };
        self.advice_from(everyday_words::STEPS, fits)
    }

    /// Advice for what stands behind a whole step.
    pub(super) fn advise_end(&self) -> Option<Advice> {
        let (piece, word) = self.piece(self.at)?;
        let (before, before_word) = self.piece(self.at.checked_sub(1)?)?;
        if piece.kind == TokenKind::Foreign {
            if before.kind == TokenKind::Text {
                return Some(Advice::certain("texts are joined by `+`", piece.span, "+"));
            }
            return self.advise_quotes().or_else(|| self.advise_sign());
        }
        if piece.kind == TokenKind::Sign(Sign::Comma) {
            return Some("steps stand on lines of their own, or have `;` between them".into());
        }
        if piece.kind != TokenKind::Word {
            return None;
        }
        let unit = (before.kind == TokenKind::Number)
            .then(|| instead_of(everyday_words::UNITS, word))
            .flatten();
        if let Some(Instead::Replace(unit)) = unit {
            let text = format!("{before_word}{unit}");
            let help = format!("a unit touches its number: `{text}`");
            return Some(Advice::certain(help, before.span.to(piece.span), text));
        }
        if matches!(word, "elif" | "elsif" | "elseif") {
            return Some(Advice::certain("write `else if`", piece.span, "else if"));
        }
        let between = self.behind_last();
        if word == "then" {
            let help = "steps stand on lines of their own, or have `;` between them";
            return Some(Advice::certain(help, piece.span, ";"));
        }
        if is_step_word(word) {
            let help = "steps stand on lines of their own, or have `;` between them";
            return Some(Advice::certain(help, between, ";"));
        }
        if CLAUSE_WORDS.contains(&word) {
            let help = format!("`{word} ...` stands in the rule's head, in front of `{{` or `=>`");
            return Some(help.into());
        }
        self.advise_quotes().or_else(|| {
            Some("a step ends here: put the next one on a line of its own, or remove this".into())
        })
    }

    /// Advice for a text without quotes behind a step that takes one.
    fn advise_quotes(&self) -> Option<Advice> {
        let begins = |piece: &Piece| {
            matches!(
                piece.kind,
                TokenKind::LineEnd
                    | TokenKind::Sign(Sign::BraceOpen | Sign::Semicolon | Sign::Arrow)
            )
        };
        let start = self.pieces[..self.at].iter().rposition(begins).map_or(0, |at| at + 1);
        let (_, step) = self.piece(start)?;
        let (first, _) = self.piece(start + 1)?;
        if !TEXT_STEPS.contains(&step) || first.kind != TokenKind::Word || start + 1 >= self.at {
            return None;
        }
        let text = self.words_from(start + 1)?;
        Some(format!("a text stands between quotes: `{step} \"{text}\"`").into())
    }

    /// What stands from a piece to the end of the line or of the block, if it could be a text.
    fn words_from(&self, start: usize) -> Option<&'a str> {
        let ends = |piece: &&Piece| {
            matches!(
                piece.kind,
                TokenKind::LineEnd
                    | TokenKind::End
                    | TokenKind::Text
                    | TokenKind::Sign(
                        Sign::BraceOpen | Sign::BraceClose | Sign::Semicolon | Sign::Arrow
                    )
            )
        };
        let words = &self.pieces[start..];
        let end = words.iter().position(|piece| ends(&piece))?;
        let (first, last) = (words[..end].first()?, words[..end].last()?);
        Some(self.slice(first.span.to(last.span)))
    }

    /// Advice for what stands where a text between quotes is expected.
    pub(super) fn advise_text(&self) -> Option<Advice> {
        let (piece, _) = self.piece(self.at)?;
        if piece.kind != TokenKind::Word {
            return self.advise_sign();
        }
        Some(format!("write it between quotes: `\"{}\"`", self.words_from(self.at)?).into())
    }

    /// Advice for what stands where a key is expected.
    pub(super) fn advise_key(&self) -> Option<Advice> {
        let (piece, word) = self.piece(self.at)?;
        if piece.kind == TokenKind::Text {
            let inner = word.trim_matches('"');
            let name =
                if is_combination(inner) { Some(inner.to_owned()) } else { key_synonym(inner) };
            return Some(match name {
                Some(name) => {
                    let help = format!("a key stands without quotes: `{name}`");
                    Advice::certain(help, piece.span, name)
                }
                None => format!("to enter a text write `type {word}`").into(),
            });
        }
        if matches!(piece.kind, TokenKind::Sign(Sign::BraceClose) | TokenKind::LineEnd)
            && !self.is_sign_at(self.at.checked_sub(1)?, Sign::Comma)
        {
            return Some("name a key, such as `f9`, or a combination, such as `ctrl+k`".into());
        }
        if piece.kind == TokenKind::Sign(Sign::Less) {
            return Some("keys are named in lower case and joined by `+`: `ctrl+c`".into());
        }
        if matches!(piece.kind, TokenKind::Sign(Sign::BraceClose) | TokenKind::LineEnd)
            && self.is_sign_at(self.at.checked_sub(1)?, Sign::Comma)
        {
            let comma = self.piece(self.at - 1)?.0.span;
            return Some(Advice::certain("remove the comma, or write one more key", comma, ""));
        }
        (piece.kind == TokenKind::Foreign)
            .then(|| "the key that gives a sign stands between single quotes: `'!'`".into())
    }

    /// Advice for what stands behind the keys of a step, if it is no number of times.
    pub(super) fn advise_second_key(&self) -> Option<Advice> {
        let (piece, word) = self.piece(self.at)?;
        let behind = self.behind_last();
        if let Some(times) = word.strip_prefix('x')
            && !times.is_empty()
            && times.bytes().all(|byte| byte.is_ascii_digit())
        {
            let text = format!("{times} times");
            return Some(Advice::certain(format!("write `{text}`"), piece.span, text));
        }
        if is_step_word(word) && !self.is_sign_at(self.at + 1, Sign::ParenOpen) {
            let help = "steps stand on lines of their own, or have `;` between them";
            return Some(Advice::certain(help, behind, ";"));
        }
        let keys = self.keys_at(self.at)?;
        let is_number = piece.kind == TokenKind::Number;
        let is_name = self.piece(keys.end).is_some_and(|(_, text)| text == "times");
        if is_number || is_name {
            return None;
        }
        let help = format!("keys one after another have a comma between them: `, {}`", keys.text);
        Some(Advice::certain(help, behind, ","))
    }

    /// Advice for a sign of another language.
    pub(super) fn advise_sign(&self) -> Option<Advice> {
        let (piece, text) = self.piece(self.at)?;
        if self.is_foreign_comment() {
            let second = self.piece(self.at + 1)?.0;
            return Some(Advice::certain(
                "a comment begins with `#`",
                piece.span.to(second.span),
                "#",
            ));
        }
        if text == ":" {
            return Some("remove it, or put a text between double quotes".into());
        }
        match instead_of(everyday_words::SIGNS, text)? {
            Instead::Replace(word) => {
                Some(Advice::certain(format!("write `{}`", word.trim()), piece.span, word))
            }
            Instead::Write(help) => Some(help.into()),
        }
    }

    /// Advice for what stands where the word or sign `expected` is.
    pub(super) fn advise_expected(&self, expected: &str) -> Option<Advice> {
        let (piece, word) = self.piece(self.at)?;
        match (expected, piece.kind) {
            ("times", _) => Some(Advice::certain("write `3 times`", self.behind_last(), " times")),
            ("{", TokenKind::Sign(Sign::Assign)) => {
                Some(Advice::certain("two values are compared by `==`", piece.span, "=="))
            }
            ("{", TokenKind::Word) if matches!(word, "then" | "do") => {
                Some("steps stand in `{ ... }`: `if ... { tap a } else { tap b }`".into())
            }
            ("{", TokenKind::Word) if is_step_word(word) => {
                Some("steps stand in `{ ... }`: `hold shift { tap a }`".into())
            }
            ("{", TokenKind::Number) => {
                Some(format!("a time stands inside: `hold shift {{ wait {word} }}`").into())
            }
            ("to", TokenKind::Foreign | TokenKind::Sign(Sign::Assign)) => {
                Some(Advice::certain("write `to`", piece.span, "to"))
            }
            ("to", TokenKind::Sign(Sign::Comma)) => {
                Some(Advice::certain("write `to`", piece.span, " to"))
            }
            ("layer", TokenKind::Word) => {
                Some(Advice::insert(piece.span, "layer ", format!("write `layer {word}`")))
            }
            ("focused", TokenKind::Text) => Some(
                format!("write `window focused app {word}`, or `window opened app {word}`").into(),
            ),
            (")", TokenKind::Sign(Sign::BraceOpen)) => {
                Some("close the parenthesis with `)`".into())
            }
            ("to", TokenKind::Number | TokenKind::Sign(Sign::ParenOpen)) => {
                let help =
                    format!("for a place write `to {word}, ...`, for a distance `by {word}, ...`");
                Some(help.into())
            }
            ("app", TokenKind::Text) => {
                Some(Advice::insert(piece.span, "app ", format!("write `app {word}`")))
            }
            ("app", TokenKind::Word) => {
                let text = format!("app \"{word}\"");
                Some(Advice::certain(format!("write `{text}`"), piece.span, text))
            }
            ("=", TokenKind::LineEnd | TokenKind::End | TokenKind::Sign(Sign::BraceClose)) => {
                let name = self.piece(self.at.checked_sub(1)?)?.1;
                Some(format!("write its value: `{name} = 1`, `{name} = \"text\"`").into())
            }
            _ => self.advise_sign(),
        }
    }

    /// Advice for a place that stands behind its rule, and so has no rules of its own.
    pub(super) fn advise_place(&self) -> Option<Advice> {
        let (piece, _) = self.piece(self.at)?;
        matches!(piece.kind, TokenKind::LineEnd | TokenKind::End).then(|| {
            "for one rule write the place in its head, in front of `{` or `=>`: \
             `when key f9 in app \"xterm\" { ... }`"
                .into()
        })
    }

    /// Advice for what stands where `app`, `title` or `layer` is expected.
    pub(super) fn advise_kind_of_place(&self) -> Option<Advice> {
        let (piece, word) = self.piece(self.at)?;
        if piece.kind == TokenKind::Text {
            return Some(format!("for a program write `in app {word}`, for a part of the window's title `in title {word}`").into());
        }
        matches!(word, "window" | "program" | "application").then(|| {
            "for a program write `in app \"...\"`, for a part of the window's title `in title \"...\"`"
                .into()
        })
    }

    /// Advice for what stands where the button of a click is expected.
    pub(super) fn advise_button(&self) -> Option<Advice> {
        let (piece, _) = self.piece(self.at)?;
        match piece.kind {
            TokenKind::Number => {
                Some("write `move to` with the two numbers first, then `click left`".into())
            }
            TokenKind::LineEnd | TokenKind::End | TokenKind::Sign(_) => {
                let help = "name the button: `click left`";
                Some(Advice::certain(help, self.behind_last(), " left"))
            }
            _ => None,
        }
    }

    /// Advice for a `+` with blanks around it, or nothing behind it.
    pub(super) fn advise_plus(&self) -> Advice {
        let keys = "a `+` between keys touches both of them: `ctrl+e`";
        let plus = if self.is_sign_at(self.at, Sign::Plus) { self.at } else { self.at - 1 };
        let (before, after) =
            (plus.checked_sub(1).and_then(|at| self.piece(at)), self.piece(plus + 1));
        match (before, self.keys_at(plus + 1), after) {
            (Some((left, name)), Some(right), Some((next, _))) if is_combination(name) => {
                let gap = Span::new(left.span.end as usize, next.span.start as usize);
                let help =
                    format!("a `+` between keys touches both of them: `{name}+{}`", right.text);
                Advice::certain(help, gap, "+")
            }
            _ => keys.into(),
        }
    }

    /// Advice for what stands where a name is expected.
    pub(super) fn advise_name(&self) -> Option<Advice> {
        let (piece, word) = self.piece(self.at)?;
        if piece.kind == TokenKind::Text {
            let name = hyphenated(word.trim_matches('"')).replace(' ', "-");
            let is_name = name.starts_with(|c: char| c.is_ascii_lowercase())
                && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-');
            return Some(if is_name {
                let help = format!("a name is one word without quotes: `{name}`");
                Advice::certain(help, piece.span, name)
            } else {
                "a name is one word of lower-case letters, digits and hyphens: `open-drawer`".into()
            });
        }
        self.advise_sign().or_else(|| Some("a name is one word: `open-drawer`".into()))
    }

    /// Advice for what stands where a change of the volume is expected.
    pub(super) fn advise_volume(&self) -> Option<Advice> {
        let (piece, word) = self.piece(self.at)?;
        (piece.kind == TokenKind::Number)
            .then(|| Advice::insert(piece.span, "set ", format!("write `volume set {word}`")))
    }

    /// Advice for what stands where the kind of a device is expected.
    pub(super) fn advise_kind_of_device(&self) -> Option<Advice> {
        let (piece, word) = self.piece(self.at)?;
        (piece.kind == TokenKind::Text).then(|| {
            let kind = match word.trim_matches('"') {
                address if address.starts_with("http") => "web",
                address if address.starts_with("mqtt") => "broker",
                _ => "serial",
            };
            format!("say what it is: `{kind} {word}`").into()
        })
    }

    /// Advice for what stands where the name of a device is expected.
    pub(super) fn advise_device(&self) -> Option<Advice> {
        let (piece, word) = self.piece(self.at)?;
        if piece.kind == TokenKind::Text {
            return Some(
                format!("to enter a text write `type {word}`; `send` is for devices").into(),
            );
        }
        let keys = self.keys_at(self.at).filter(|keys| keys.text.contains('+'))?;
        Some(format!("to press keys write `tap {}`; `send` is for devices", keys.text).into())
    }

    /// Advice for what stands where the name of a shape is expected.
    pub(super) fn advise_shape(&self) -> Option<Advice> {
        let (piece, _) = self.piece(self.at)?;
        (piece.kind == TokenKind::Text).then(|| {
            "draw the shape first: `shape hook = path \"down right\"`, \
             then write `gesture hook while holding right-button`"
                .into()
        })
    }
}

fn is_modifier(word: &str) -> bool {
    Modifier::from_word(word).is_some()
        || Key::named(word).is_some_and(|key| lantern_model::ModifierKey::of(key).is_some())
}
