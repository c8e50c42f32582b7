//! Text to tokens. Every byte of the file is in exactly one token, so that joining them gives the
//! text back; what is wrong inside a token is found by the lexer and said once.
//!
//! Called by the parser for a whole file, and again for each value inside a text.

use lantern_model::key_synonym;

use crate::codes::Code;
use crate::token::{Sign, Token, TokenKind};
use crate::{Finding, Span};

/// What some editors write at the start of a file; it means nothing.
pub(crate) const BYTE_ORDER_MARK: char = '\u{feff}';

/// Cuts `text` from `start` to `end` into tokens, adding what is wrong to `findings`.
pub fn lex(text: &str, start: usize, end: usize, findings: &mut Vec<Finding>) -> Vec<Token> {
    let mut lexer = Lexer { text, start, at: start, end, findings, value_before: false };
    // About five bytes to a token, as files go.
    let mut tokens = Vec::with_capacity((end - start) / 5 + 2);
    while lexer.at < end {
        let from = lexer.at;
        let kind = lexer.next_kind();
        debug_assert!(lexer.at > from, "every token takes at least one byte");
        lexer.value_before = ends_value(kind) || kind == TokenKind::Comment && lexer.value_before;
        tokens.push(Token { kind, span: Span::new(from, lexer.at) });
    }
    tokens.push(Token { kind: TokenKind::End, span: Span::new(end, end) });
    tokens
}

/// Whether a value may end with it, so that a touching minus cannot be a sign.
fn ends_value(kind: TokenKind) -> bool {
    matches!(
        kind,
        TokenKind::Word
            | TokenKind::Number
            | TokenKind::Text
            | TokenKind::Raw
            | TokenKind::Character
            | TokenKind::Sign(Sign::ParenClose | Sign::BracketClose)
    )
}

/// Signs that other languages have, longest first; the parser says what to write instead.
const FOREIGN_SIGNS: &[&str] = &["&&", "||", "->", ":=", "&", "|", "!", ":"];

struct Lexer<'a> {
    text: &'a str,
    start: usize,
    at: usize,
    end: usize,
    findings: &'a mut Vec<Finding>,
    value_before: bool,
}

impl Lexer<'_> {
    fn rest(&self) -> &str {
        &self.text[self.at..self.end]
    }

    fn byte(&self, ahead: usize) -> u8 {
        self.text.as_bytes()[self.at..self.end].get(ahead).copied().unwrap_or(0)
    }

    fn take_while(&mut self, keep: impl Fn(u8) -> bool) {
        let bytes = &self.text.as_bytes()[self.at..self.end];
        let length = bytes.iter().take_while(|byte| keep(**byte)).count();
        self.at += length;
    }

    fn next_kind(&mut self) -> TokenKind {
        if self.at == self.start && self.rest().starts_with(BYTE_ORDER_MARK) && self.starts_file() {
            self.at += BYTE_ORDER_MARK.len_utf8();
            return TokenKind::Blank;
        }
        match self.byte(0) {
            b' ' | b'\t' | b'\r' => {
                self.take_while(|byte| matches!(byte, b' ' | b'\t' | b'\r'));
                TokenKind::Blank
            }
            b'\n' => {
                self.at += 1;
                TokenKind::LineEnd
            }
            b'#' => {
                let described = self.byte(1) == b'#' && self.starts_line();
                self.take_while(|byte| byte != b'\n');
                if described { TokenKind::Description } else { TokenKind::Comment }
            }
            b'a'..=b'z' => {
                let from = self.at;
                self.take_word();
                if self.rest().starts_with(|c: char| c.is_alphanumeric() || c == '_') {
                    return self.bad_word(from);
                }
                TokenKind::Word
            }
            b'0'..=b'9' => self.next_number(),
            b'-' if self.byte(1).is_ascii_digit() && !self.value_before => {
                self.at += 1;
                self.next_number()
            }
            b'"' => self.next_text(),
            b'`' => self.next_raw(),
            b'\'' => self.next_character(),
            b'<' if self.byte(1).is_ascii_uppercase() => self.next_place(),
            _ => self.next_sign(),
        }
    }

    /// Whether a file of the set begins here: files stand one behind another, each on a line of its
    /// own.
    fn starts_file(&self) -> bool {
        self.at == 0 || self.text.as_bytes()[self.at - 1] == b'\n'
    }

    fn starts_line(&self) -> bool {
        let line = self.text[..self.at].rfind('\n').map_or(0, |at| at + 1);
        self.text[line..self.at].trim_start_matches(BYTE_ORDER_MARK).trim().is_empty()
    }

    /// Lower-case letters, digits and single hyphens between them.
    fn take_word(&mut self) {
        loop {
            self.take_while(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit());
            let next = self.byte(1);
            if self.byte(0) != b'-' || !(next.is_ascii_lowercase() || next.is_ascii_digit()) {
                return;
            }
            self.at += 1;
        }
    }

    fn next_number(&mut self) -> TokenKind {
        self.take_while(|byte| byte.is_ascii_digit());
        if self.byte(0) == b':' && self.byte(1).is_ascii_digit() {
            while self.byte(0) == b':' && self.byte(1).is_ascii_digit() {
                self.at += 1;
                self.take_while(|byte| byte.is_ascii_digit());
            }
            return TokenKind::Clock;
        }
        if self.byte(0) == b'.' && self.byte(1).is_ascii_digit() {
            self.at += 1;
            self.take_while(|byte| byte.is_ascii_digit());
        }
        if self.byte(0) == b'%' {
            self.at += 1;
        } else {
            self.take_while(|byte| byte.is_ascii_lowercase());
        }
        TokenKind::Number
    }

    fn next_text(&mut self) -> TokenKind {
        let from = self.at;
        let several_lines = self.rest().starts_with("\"\"\"");
        self.at += if several_lines { 3 } else { 1 };
        loop {
            match self.byte(0) {
                _ if self.at >= self.end => break,
                b'\n' if !several_lines => break,
                b'\\' if self.byte(1) != b'\n' && self.at + 1 < self.end => {
                    self.at += 1;
                    self.at += self.rest().chars().next().map_or(0, char::len_utf8);
                }
                b'"' if several_lines && !self.rest().starts_with("\"\"\"") => self.at += 1,
                b'"' => {
                    self.at += if several_lines { 3 } else { 1 };
                    return TokenKind::Text;
                }
                _ => self.at += 1,
            }
        }
        let close = if several_lines { "\"\"\"" } else { "\"" };
        self.unclosed(from, "text", close);
        TokenKind::Text
    }

    fn next_raw(&mut self) -> TokenKind {
        let from = self.at;
        match self.rest()[1..].find('`') {
            Some(length) => self.at += length + 2,
            None => {
                self.at += 1;
                self.take_while(|byte| byte != b'\n');
                self.unclosed(from, "raw text", "`");
            }
        }
        TokenKind::Raw
    }

    fn next_character(&mut self) -> TokenKind {
        let from = self.at;
        let mut inside = self.rest()[1..].chars();
        let character = inside.next();
        if let (Some(character), Some('\'')) = (character, inside.next())
            && character != '\n'
        {
            self.at += character.len_utf8() + 2;
            return TokenKind::Character;
        }
        if let Some(inner) = self.single_quoted().map(str::to_owned) {
            self.at += inner.len() + 2;
            let span = Span::new(from, self.at);
            let text = format!("\"{inner}\"");
            self.findings.push(
                Finding::new(Code::BadText, span, "a text stands between double quotes")
                    .label("single quotes are for one character: `'?'`")
                    .help(format!("write `{text}`"))
                    .fix(span, text),
            );
            return TokenKind::Stray;
        }
        self.at += 1;
        let span = Span::new(from, self.at);
        self.findings.push(
            Finding::new(
                Code::BadText,
                span,
                "a character stands between single quotes",
            )
            .label("expected one character and another `'`")
            .help("for the key that gives an apostrophe write `'''`, for a text use double quotes"),
        );
        TokenKind::Stray
    }

    /// What stands between this single quote and the next one of the line, if it could be a text.
    fn single_quoted(&self) -> Option<&str> {
        let line = self.rest()[1..].lines().next()?;
        let inner = line.split_once('\'')?.0;
        (!inner.is_empty() && !inner.contains(['"', '\\', '{', '}'])).then_some(inner)
    }

    fn next_place(&mut self) -> TokenKind {
        let from = self.at;
        self.at += 1;
        self.take_while(|byte| byte.is_ascii_alphanumeric());
        if self.byte(0) == b'>' {
            self.at += 1;
        } else {
            self.unclosed(from, "place of a key", ">");
        }
        TokenKind::KeyPlace
    }

    fn next_sign(&mut self) -> TokenKind {
        let from = self.at;
        let own = Sign::at_start_of(&self.text.as_bytes()[self.at..self.end]);
        if let Some(sign) = own.filter(|_| !self.rest().starts_with("->")) {
            self.at += sign.text().len();
            return TokenKind::Sign(sign);
        }
        if let Some(sign) = FOREIGN_SIGNS.iter().find(|sign| self.rest().starts_with(**sign)) {
            self.at += sign.len();
            return TokenKind::Foreign;
        }
        let first = self.rest().chars().next().expect("the caller checked for the end");
        if first.is_alphabetic() {
            return self.bad_word(from);
        }
        self.at += first.len_utf8();
        let span = Span::new(from, self.at);
        self.findings.push(stray_finding(&self.text[from..self.at], first, span));
        TokenKind::Stray
    }

    /// A word with capital letters, underscores or letters of other alphabets, up to its end.
    fn bad_word(&mut self, from: usize) -> TokenKind {
        let length = self.rest().find(|c: char| !c.is_alphanumeric() && c != '_' && c != '-');
        self.at += length.unwrap_or(self.rest().len());
        let span = Span::new(from, self.at);
        self.findings.push(bad_word_finding(&self.text[from..self.at], span));
        TokenKind::Stray
    }

    fn unclosed(&mut self, from: usize, what: &str, close: &str) {
        let span = Span::new(from, self.at);
        self.findings.push(
            Finding::new(Code::Unclosed, span, format!("this {what} is not closed"))
                .label(format!("`{close}` is missing"))
                .help(format!("end it with `{close}`"))
                .fix(span.after(), close),
        );
    }
}

fn stray_finding(text: &str, first: char, span: Span) -> Finding {
    if first == '\0' {
        return Finding::new(Code::BadCharacter, span, "there is a NUL byte in the file")
            .label("here")
            .help("this is not a plain text file, or it was cut; save it again as UTF-8 text");
    }
    Finding::new(Code::BadCharacter, span, format!("`{}` has no meaning here", text.escape_debug()))
        .label("not part of the language")
        .help("remove it, or put a text between double quotes")
}

fn bad_word_finding(text: &str, span: Span) -> Finding {
    let message = format!("`{}` is not a word of lower-case letters", text.escape_debug());
    let finding = Finding::new(Code::BadCharacter, span, message)
        .label("names are lower-case letters a to z, digits and hyphens");
    let name = key_synonym(text).unwrap_or_else(|| hyphenated(text));
    // The name of a key can only be meant as that; a single letter may be a name or a text.
    if text.len() > 1 && key_synonym(text).is_some() {
        finding.help(format!("write `{name}`")).fix(span, name)
    } else if name.is_ascii() {
        finding
            .help(format!("write `{name}`, or put a text between double quotes"))
            .likely_fix(span, name)
    } else {
        finding
            .help(format!("choose another name, or put a text between double quotes: `\"{text}\"`"))
    }
}

/// `coreDepth` and `core_depth` as `core-depth`.
pub(crate) fn hyphenated(text: &str) -> String {
    let mut name = String::with_capacity(text.len() + 2);
    let mut after_lower = false;
    for character in text.chars() {
        let is_gap = matches!(character, '_' | '-');
        let begins_word = is_gap || character.is_uppercase() && after_lower;
        if begins_word && !name.is_empty() && !name.ends_with('-') {
            name.push('-');
        }
        if !is_gap {
            name.extend(character.to_lowercase());
        }
        after_lower = character.is_lowercase() || character.is_ascii_digit();
    }
    name.trim_end_matches('-').to_owned()
}
