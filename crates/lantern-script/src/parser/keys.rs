//! Keys, combinations and sets of keys.

use lantern_model::{Key, KeyKind, KeySetError, KeySpec, Modifier, key_synonym};

use super::{Parsed, Parser};
use crate::codes::Code;
use crate::token::{Sign, TokenKind};
use crate::tree::{KeyCombinationSyntax, KeyPart};
use crate::{Finding, Span, near_name};

impl Parser<'_> {
    /// Keys where a step or a trigger wants them; a `+` with blanks adds nothing here.
    pub(super) fn parse_combo(&mut self) -> Parsed<KeyCombinationSyntax> {
        let combo = self.parse_keys()?;
        if self.is_sign(Sign::Plus) {
            let piece = self.peek();
            let advice = self.advisor().advise_plus();
            return self.fail_at(piece, "the end of the keys", Some(advice));
        }
        Ok(combo)
    }

    /// `ctrl+shift+e`, `'?'`, `<KeyQ>`, `ctrl+(k)`, `super+[1..9]`
    pub(super) fn parse_keys(&mut self) -> Parsed<KeyCombinationSyntax> {
        let mut parts = vec![self.parse_key_part()?];
        while self.is_sign(Sign::Plus) && !self.peek().spaced {
            self.next();
            let piece = self.peek();
            if piece.spaced {
                let advice = self.advisor().advise_plus();
                return self.fail_at(piece, "a key that touches the `+`", Some(advice));
            }
            parts.push(self.parse_key_part()?);
        }
        let span = parts[0].span().to(self.last_span());
        Ok(KeyCombinationSyntax { parts, span })
    }

    fn parse_key_part(&mut self) -> Parsed<KeyPart> {
        let piece = self.peek();
        let text = self.slice(piece.span);
        match piece.kind {
            TokenKind::Sign(Sign::ParenOpen) => {
                self.next();
                let value = self.join_lines(|parser| {
                    let value = parser.parse_expr()?;
                    parser.expect_sign(Sign::ParenClose, "after the value")?;
                    Ok(value)
                })?;
                Ok(KeyPart::Value(value))
            }
            TokenKind::Sign(Sign::BracketOpen) => {
                let keys = self.parse_key_set()?;
                Ok(KeyPart::Set(keys, piece.span.to(self.last_span())))
            }
            TokenKind::Word | TokenKind::Number | TokenKind::Character | TokenKind::KeyPlace => {
                self.next();
                match self.key_of(piece.kind, text) {
                    Some(key) => Ok(KeyPart::Key(key, piece.span)),
                    None => {
                        self.say_no_key(text, piece.span);
                        Ok(KeyPart::Unread(piece.span))
                    }
                }
            }
            _ => {
                let advice = self.advisor().advise_key();
                self.fail_at(piece, "a key", advice)
            }
        }
    }

    fn key_of(&self, kind: TokenKind, text: &str) -> Option<KeySpec> {
        match kind {
            TokenKind::Word => Modifier::from_word(text)
                .map(KeySpec::Either)
                .or_else(|| Key::named(text).map(KeySpec::Named)),
            TokenKind::Number => Key::named(text).map(KeySpec::Named),
            TokenKind::Character => text
                .chars()
                .nth(1)
                .filter(|character| !character.is_control())
                .map(KeySpec::Character),
            _ => Key::from_code(text.trim_matches(['<', '>'])).map(KeySpec::Placed),
        }
    }

    fn say_no_key(&mut self, text: &str, span: Span) {
        let finding = Finding::new(Code::NoSuchKey, span, format!("there is no key `{text}`"))
            .label("no such key");
        let inner = text.trim_matches(['<', '>']);
        if let Some(name) = key_synonym(inner) {
            let finding = finding.help(format!("write `{name}`")).fix(span, name);
            self.findings.push(finding);
            return;
        }
        if let Some((from, to)) = text.split_once('-')
            && let (Some(from), Some(to)) = (Key::named(from), Key::named(to))
        {
            let range = format!("{from}..{to}");
            let finding = finding.help(format!("a range of keys is `{range}`")).fix(span, range);
            self.findings.push(finding);
            return;
        }
        let near = if text.starts_with('<') {
            near_name(inner, Key::all().filter_map(Key::code)).map(|code| format!("<{code}>"))
        } else {
            let words = Modifier::ALL.map(Modifier::word);
            near_name(text, Key::all().map(Key::name).chain(words)).map(str::to_owned)
        };
        self.findings.push(match near {
            Some(near) => finding.help(format!("did you mean `{near}`?")).likely_fix(span, near),
            None => finding.help(
                "`lantern keys` lists them all; a value that is a key stands in parentheses: `(k)`",
            ),
        });
    }

    /// `[up, 1..9 except 5, 7]`, `[f1..f12]`, `[pad]`: `except` takes away all that stands behind it.
    pub(super) fn parse_key_set(&mut self) -> Parsed<Vec<KeySpec>> {
        self.expect_sign(Sign::BracketOpen, "before a set of keys")?;
        self.join_lines(|parser| {
            let mut keys: Vec<KeySpec> = Vec::new();
            // Keys that are listed one by one, each with its place.
            let mut single: Vec<(KeySpec, Span)> = Vec::new();
            loop {
                let (listed, span) = parser.parse_spanned_keys()?;
                if let [key] = listed.as_slice() {
                    single.push((*key, span));
                }
                for key in listed {
                    if !keys.contains(&key) {
                        keys.push(key);
                    }
                }
                if !parser.take_sign(Sign::Comma) {
                    break;
                }
            }
            if parser.take_word("except") {
                parser.parse_exceptions(&mut keys, &single)?;
            }
            parser.expect_sign(Sign::BracketClose, "after the set of keys")?;
            Ok(keys)
        })
    }

    /// What stands behind `except`, up to the bracket.
    fn parse_exceptions(
        &mut self,
        keys: &mut Vec<KeySpec>,
        single: &[(KeySpec, Span)],
    ) -> Parsed<()> {
        let listed = keys.clone();
        loop {
            let (left_out, span) = self.parse_spanned_keys()?;
            let twice = single.iter().find(|(key, _)| left_out.contains(key));
            if let Some((key, place)) = twice {
                let message = format!("`{key}` is listed and left out");
                let finding = Finding::new(Code::UselessExcept, span, message);
                self.findings.push(
                    finding
                        .label("left out here")
                        .other(*place, "listed here")
                        .help("everything behind `except` is left out, up to the bracket: put what is meant to be in before it"),
                );
            } else if !left_out.is_empty() && !left_out.iter().any(|key| listed.contains(key)) {
                let text = self.slice(span);
                let finding = Finding::new(
                    Code::UselessExcept,
                    span,
                    format!("there is no `{text}` in the set that could be left out"),
                );
                self.findings.push(finding.label("leaves nothing out").help(format!(
                    "everything behind `except` is left out, up to the bracket: to have `{text}` in the set write it before `except`"
                )));
            }
            keys.retain(|key| !left_out.contains(key));
            if self.is_word("except") {
                let piece = self.peek();
                let help = "one `except` leaves out all that stands behind it: write `, ` here";
                return self.fail_at(piece, "`,` or `]`", Some(help.into()));
            }
            if !self.take_sign(Sign::Comma) {
                return Ok(());
            }
        }
    }

    /// Keys of a set, as one item of its list names them, and where.
    fn parse_spanned_keys(&mut self) -> Parsed<(Vec<KeySpec>, Span)> {
        let start = self.peek().span;
        let keys = self.parse_key_set_item()?;
        Ok((keys, start.to(self.last_span())))
    }

    fn parse_key_set_item(&mut self) -> Parsed<Vec<KeySpec>> {
        let piece = self.peek();
        if piece.kind == TokenKind::Word
            && let Some(kind) = KeyKind::from_word(self.slice(piece.span))
        {
            self.next();
            return Ok(kind.keys().map(KeySpec::Named).collect());
        }
        let first = match self.parse_key_part()? {
            KeyPart::Key(key, _) => key,
            KeyPart::Unread(_) => return Ok(Vec::new()),
            other => {
                let piece =
                    super::Piece { kind: TokenKind::Word, span: other.span(), spaced: true };
                return self.fail_at(piece, "a key by name", None);
            }
        };
        if !self.take_sign(Sign::Dots) {
            return Ok(vec![first]);
        }
        let KeyPart::Key(last, last_span) = self.parse_key_part()? else {
            return Ok(Vec::new());
        };
        let span = piece.span.to(last_span);
        let (KeySpec::Named(from), KeySpec::Named(to)) = (first, last) else {
            let finding =
                Finding::new(Code::NoSuchKey, span, "a range goes from one named key to another");
            self.findings
                .push(finding.label("not a range").help("for example `c..k` or `f1..f12`"));
            return Ok(Vec::new());
        };
        match Key::range(from, to) {
            Ok(keys) => Ok(keys.into_iter().map(KeySpec::Named).collect()),
            Err(error) => {
                let (message, help) = range_advice(&error);
                let finding = Finding::new(Code::NoSuchKey, span, message);
                self.findings.push(finding.label("not a range").help(help));
                Ok(Vec::new())
            }
        }
    }
}

/// What is wrong with a range, and what to write instead.
pub fn range_advice(error: &KeySetError) -> (String, String) {
    match error {
        KeySetError::NoOrder { from, to } => (
            format!("there is no order from `{from}` to `{to}`"),
            "ranges run within letters, digits, function keys or the digits of the pad".to_owned(),
        ),
        KeySetError::Backwards { from, to } => {
            (format!("`{from}` comes after `{to}`"), format!("write `{to}..{from}`"))
        }
    }
}
