//! Text to tokens. Every byte of the file is in exactly one token, so that joining them gives the
//! text back; what is wrong inside a token is found by the lexer and said once.
//!
//! Called by the parser for a whole file, and again for each value inside a text.

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
                self.take_word();
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
        if let Some(sign) = Sign::at_start_of(&self.text.as_bytes()[self.at..self.end]) {
            self.at += sign.text().len();
            return TokenKind::Sign(sign);
        }
        let from = self.at;
        let first = self.rest().chars().next().expect("the caller checked for the end");
        if first.is_alphabetic() {
            let length = self.rest().find(|c: char| !c.is_alphanumeric() && c != '_' && c != '-');
            self.at += length.unwrap_or(self.rest().len());
        } else {
            self.at += first.len_utf8();
        }
        let span = Span::new(from, self.at);
        self.findings.push(stray_finding(&self.text[from..self.at], first, span));
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
    let finding = Finding::new(
        Code::BadCharacter,
        span,
        format!("`{}` has no meaning here", text.escape_debug()),
    );
    if first.is_alphabetic() {
        let lower = text.to_lowercase().replace('_', "-");
        finding
            .label("names are lower-case words joined by hyphens")
            .help(format!("write `{lower}`, or put a text between double quotes"))
            .fix(span, lower)
    } else {
        finding
            .label("not part of the language")
            .help("remove it, or put a text between double quotes")
    }
}
