//! The canonical layout of a file: indents, blanks and empty lines. Line breaks, comments and
//! everything that means something stay as they are.
//!
//! It works on tokens, so that it needs no tree and keeps every comment; what touches and what does
//! not is kept where it means something (`ctrl+e` and `a + b`, `f(x)` and `tap (k)`).

use crate::lexer::lex;
use crate::token::{Sign, Token, TokenKind};

/// One level of a block, in blanks.
const BLOCK: usize = 4;
/// Indentation of a continued line, in blanks.
const CONTINUED: usize = 2;

/// A file in its canonical layout.
///
/// ```
/// use lantern_script::format;
/// let text = "when key f9   in app \"corelog\"{\n tap ctrl+s\n}\n";
/// let layout = "when key f9 in app \"corelog\" {\n    tap ctrl+s\n}\n";
/// assert_eq!(format(text), layout);
/// assert_eq!(format(layout), layout);
/// ```
pub fn format(text: &str) -> String {
    let tokens = lex(text, 0, text.len(), &mut Vec::new());
    let mut writer = Writer {
        text,
        out: String::with_capacity(text.len()),
        open: Vec::new(),
        in_head: false,
        empty_lines: 0,
    };
    let mut line: Vec<(Token, bool)> = Vec::new();
    let mut spaced = false;
    for token in tokens {
        match token.kind {
            TokenKind::Blank => spaced = true,
            TokenKind::LineEnd | TokenKind::End => {
                writer.write_line(&line);
                line.clear();
                spaced = false;
            }
            _ => {
                line.push((token, spaced));
                spaced = false;
            }
        }
    }
    writer.out
}

struct Writer<'t> {
    text: &'t str,
    out: String,
    /// Brackets that are open.
    open: Vec<Sign>,
    /// Between `when` and its block.
    in_head: bool,
    empty_lines: usize,
}

impl Writer<'_> {
    fn write_line(&mut self, line: &[(Token, bool)]) {
        let Some((first, _)) = line.first() else {
            self.empty_lines += 1;
            return;
        };
        let closes = matches!(first.kind, TokenKind::Sign(sign) if is_close(sign));
        let after_open = self.out.ends_with("{\n") || self.out.is_empty();
        if self.empty_lines > 0 && !after_open && !closes {
            self.out.push('\n');
        }
        self.empty_lines = 0;
        self.indent(first.kind);
        let mut before: Option<Token> = None;
        for (token, spaced) in line {
            if let Some(before) = before
                && self.parted(before, *token, *spaced)
            {
                self.out.push(' ');
                if token.kind == TokenKind::Comment {
                    self.out.push(' ');
                }
            }
            self.write_token(*token);
            self.follow(*token, before);
            before = Some(*token);
        }
        self.out.push('\n');
    }

    fn indent(&mut self, first: TokenKind) {
        let mut levels = self.open.len();
        let mut continued = self.in_head || self.goes_on();
        if let TokenKind::Sign(sign) = first {
            levels -= usize::from(is_close(sign)).min(levels);
            // The block of a head that took several lines stands where the head began.
            continued &= sign != Sign::BraceOpen && !is_close(sign);
        }
        let inside_brackets = self.open.last().is_some_and(|sign| *sign != Sign::BraceOpen);
        if matches!(first, TokenKind::Comment | TokenKind::Description) && !self.in_head {
            continued = false;
        }
        let extra = if continued && !inside_brackets { CONTINUED } else { 0 };
        self.out.push_str(&" ".repeat(levels * BLOCK + extra));
    }

    /// Whether the line above ends within a statement.
    fn goes_on(&self) -> bool {
        let above = self.out.trim_end();
        let last_line = above.rsplit('\n').next().unwrap_or("");
        // A comment behind the code of the line above does not end its statement.
        let tokens = lex(last_line, 0, last_line.len(), &mut Vec::new());
        let last = tokens
            .iter()
            .rev()
            .find(|token| !token.kind.is_trivia() && token.kind != TokenKind::End);
        last.is_some_and(|token| match token.kind {
            TokenKind::Sign(sign) => matches!(
                sign,
                Sign::Comma
                    | Sign::Arrow
                    | Sign::Assign
                    | Sign::Plus
                    | Sign::Minus
                    | Sign::Times
                    | Sign::Divide
                    | Sign::Equal
                    | Sign::Unequal
                    | Sign::LessOrEqual
                    | Sign::GreaterOrEqual
            ),
            TokenKind::Word => matches!(&last_line[token.span.range()], "and" | "or" | "not"),
            _ => false,
        })
    }

    fn write_token(&mut self, token: Token) {
        let text = &self.text[token.span.range()];
        match token.kind {
            TokenKind::Description => {
                let words = text.strip_prefix("##").unwrap_or(text).trim();
                self.out.push_str(if words.is_empty() { "##" } else { "## " });
                self.out.push_str(words);
            }
            TokenKind::Comment => self.out.push_str(text.trim_end()),
            _ => self.out.push_str(text),
        }
    }

    /// Keeps count of brackets and heads.
    fn follow(&mut self, token: Token, before: Option<Token>) {
        match token.kind {
            TokenKind::Sign(sign @ (Sign::BraceOpen | Sign::ParenOpen | Sign::BracketOpen)) => {
                self.in_head &= sign != Sign::BraceOpen;
                self.open.push(sign);
            }
            TokenKind::Sign(sign) if is_close(sign) => {
                self.open.pop();
            }
            TokenKind::Sign(Sign::Arrow) => self.in_head = false,
            TokenKind::Word if &self.text[token.span.range()] == "when" => {
                let starts = before.is_none_or(|before| {
                    matches!(
                        before.kind,
                        TokenKind::Sign(Sign::BraceOpen | Sign::BraceClose | Sign::Semicolon)
                    )
                });
                self.in_head |= starts;
            }
            _ => {}
        }
    }

    /// Whether a blank stands between two tokens of a line.
    fn parted(&self, before: Token, token: Token, spaced: bool) -> bool {
        let sign_of = |token: Token| match token.kind {
            TokenKind::Sign(sign) => Some(sign),
            _ => None,
        };
        match (sign_of(before), sign_of(token)) {
            (_, Some(Sign::Comma | Sign::Semicolon)) => false,
            (Some(Sign::Comma | Sign::Semicolon), _) => true,
            (Some(Sign::ParenOpen | Sign::BracketOpen), _) => false,
            (_, Some(Sign::ParenClose | Sign::BracketClose)) => false,
            // What touches these, or does not, means something.
            (Some(Sign::Plus | Sign::Minus | Sign::Dot | Sign::Dots), _)
            | (_, Some(Sign::Plus | Sign::Minus | Sign::Dot | Sign::Dots))
            | (None, Some(Sign::ParenOpen | Sign::BracketOpen)) => spaced,
            (Some(_), _) | (_, Some(_)) => true,
            _ if token.kind == TokenKind::Comment => true,
            _ => spaced,
        }
    }
}

fn is_close(sign: Sign) -> bool {
    matches!(sign, Sign::BraceClose | Sign::ParenClose | Sign::BracketClose)
}
