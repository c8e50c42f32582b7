//! The parser: tokens to a tree. It reports each mistake once, recovers behind it, and always returns a
//! tree.
//!
//! A mistake inside a step costs that step, a mistake in a head costs that rule. `when` and `macro` at
//! the start of a line always begin a part of the file; other words that begin parts do so unless they
//! stand in a block of steps that is closed.

mod advice;
mod brackets;
mod commands;
mod devices;
pub(crate) mod everyday_words;
mod expectations;
mod exprs;
mod head;
mod items;
pub(crate) mod keys;
pub(crate) mod scene;
mod steps;
mod texts;
mod triggers;
pub mod words;

use crate::codes::Code;
use crate::lexer::lex;
use crate::token::{Sign, TokenKind};
use crate::tree::{Allow, File, Name};
use crate::{Finding, Fix, Source, Span, near_name};
use advice::{Advice, Advisor};
use brackets::Brackets;
use words::RESERVED;

/// Reads a file of the set into a tree and the findings on its form.
pub fn parse(source: &Source, file: usize) -> (File, Vec<Finding>) {
    let mut findings = Vec::new();
    let span = source.span_of(file);
    let (start, end) = (span.start as usize, span.end as usize);
    let mut allowed = Vec::new();
    let pieces = Parser::cut(source.text(), start, end, &mut findings, Some(&mut allowed));
    let mut parser = Parser::new(source.text(), pieces, findings);
    let items = parser.parse_items(None);
    (File { items, broken: parser.broken, allowed }, parser.findings)
}

/// A mistake that has been reported. The caller recovers at the next safe place.
pub(crate) struct ErrorReported;

type Parsed<T> = Result<T, ErrorReported>;

/// Nesting deeper than this is refused, so that no file can exhaust the stack.
const DEEPEST: usize = 64;
/// Most operators on one way from a value to its innermost part. What follows the tree recurses.
const MOST_OPERATORS: usize = 256;

/// A token that means something, and whether blanks stand before it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Piece {
    pub kind: TokenKind,
    pub span: Span,
    pub spaced: bool,
}

pub(crate) struct Parser<'a> {
    text: &'a str,
    pieces: Vec<Piece>,
    brackets: Brackets,
    /// The brace of the innermost block of steps that is being read.
    step_block: Option<usize>,
    at: usize,
    /// Above zero, line ends mean nothing.
    joined: usize,
    depth: usize,
    /// Operators on the longest way through what was read since the enclosing value began.
    operators: usize,
    findings: Vec<Finding>,
    /// Words of what could not be read: they may name something, and use it.
    broken: Vec<String>,
}

impl<'a> Parser<'a> {
    fn new(text: &'a str, pieces: Vec<Piece>, findings: Vec<Finding>) -> Parser<'a> {
        Parser {
            text,
            brackets: Brackets::of(text, &pieces),
            step_block: None,
            pieces,
            at: 0,
            joined: 0,
            depth: 0,
            operators: 0,
            findings,
            broken: Vec::new(),
        }
    }

    fn cut(
        text: &str,
        start: usize,
        end: usize,
        findings: &mut Vec<Finding>,
        mut allowed: Option<&mut Vec<Allow>>,
    ) -> Vec<Piece> {
        let mut spaced = true;
        let tokens = lex(text, start, end, findings);
        let mut pieces = Vec::with_capacity(tokens.len());
        for token in tokens {
            if token.kind == TokenKind::Comment
                && let Some(allowed) = &mut allowed
            {
                allowed.extend(allows(text, token.span, end));
            }
            if !token.kind.is_trivia() {
                pieces.push(Piece { kind: token.kind, span: token.span, spaced });
            }
            spaced = token.kind.is_trivia() || token.kind == TokenKind::LineEnd;
        }
        pieces
    }

    /// The next piece that counts; in joined lines, line ends do not.
    fn peek(&mut self) -> Piece {
        while self.joined > 0
            && matches!(self.pieces[self.at].kind, TokenKind::LineEnd | TokenKind::Description)
        {
            self.at += 1;
        }
        self.pieces[self.at]
    }

    /// The piece behind the next one, looking through line ends when they do not count.
    fn peek_second(&mut self) -> Piece {
        self.peek();
        let mut at = (self.at + 1).min(self.pieces.len() - 1);
        while self.joined > 0 && self.pieces[at].kind == TokenKind::LineEnd {
            at += 1;
        }
        self.pieces[at]
    }

    fn next(&mut self) -> Piece {
        let piece = self.peek();
        if piece.kind != TokenKind::End {
            self.at += 1;
        }
        piece
    }

    fn slice(&self, span: Span) -> &'a str {
        &self.text[span.range()]
    }

    /// The end of what was read last.
    fn last_span(&self) -> Span {
        let read = &self.pieces[..self.at];
        let blank = |kind| matches!(kind, TokenKind::LineEnd | TokenKind::Description);
        read.iter().rfind(|piece| !blank(piece.kind)).map_or(Span::default(), |piece| piece.span)
    }

    fn is_word(&mut self, word: &str) -> bool {
        let piece = self.peek();
        piece.kind == TokenKind::Word && self.slice(piece.span) == word
    }

    fn is_sign(&mut self, sign: Sign) -> bool {
        self.peek().kind == TokenKind::Sign(sign)
    }

    fn take_word(&mut self, word: &str) -> bool {
        let found = self.is_word(word);
        if found {
            self.next();
        }
        found
    }

    /// Whether the next words are these; if so, they are taken.
    fn take_words(&mut self, words: &[&str]) -> bool {
        let start = self.at;
        let found = words.iter().all(|word| self.take_word(word));
        if !found {
            self.at = start;
        }
        found
    }

    fn take_sign(&mut self, sign: Sign) -> bool {
        let found = self.is_sign(sign);
        if found {
            self.next();
        }
        found
    }

    fn expect_word(&mut self, word: &str, why: &str) -> Parsed<()> {
        if self.take_word(word) {
            return Ok(());
        }
        let advice = self.advisor().advise_expected(word);
        let piece = self.peek();
        self.fail_at(piece, &format!("`{word}` {why}"), advice)
    }

    fn expect_sign(&mut self, sign: Sign, why: &str) -> Parsed<Span> {
        if self.is_sign(sign) {
            Ok(self.next().span)
        } else {
            let advice = self.advisor().advise_expected(sign.text());
            let piece = self.peek();
            self.fail_at(piece, &format!("`{}` {why}", sign.text()), advice)
        }
    }

    /// A name of something that may stand in another file of the set: `room.fan-port`.
    fn expect_path(&mut self, what: &str) -> Parsed<Name> {
        let mut name = self.expect_name(what)?;
        while self.is_sign(Sign::Dot) && !self.peek().spaced && !self.peek_second().spaced {
            self.next();
            let part = self.expect_name(what)?;
            name.text = format!("{}.{}", name.text, part.text);
            name.span = name.span.to(part.span);
        }
        Ok(name)
    }

    /// A name, which must not be a word of the language.
    fn expect_name(&mut self, what: &str) -> Parsed<Name> {
        let piece = self.peek();
        if piece.kind != TokenKind::Word {
            let advice = self.advisor().advise_name();
            return self.fail_at(piece, what, advice);
        }
        self.next();
        let text = self.slice(piece.span);
        if RESERVED.contains(&text) {
            self.findings.push(
                Finding::new(
                    Code::Unexpected,
                    piece.span,
                    format!("`{text}` is a word of the language and cannot be a name"),
                )
                .label("choose another name")
                .help(format!("for example `my-{text}`"))
                .likely_fix(piece.span, format!("my-{text}")),
            );
        }
        Ok(Name { text: text.to_owned(), span: piece.span })
    }

    fn advisor(&mut self) -> Advisor<'_> {
        self.peek();
        Advisor::new(self.text, &self.pieces, self.at)
    }

    /// Says that something else was expected here.
    fn fail<T>(&mut self, expected: &str) -> Parsed<T> {
        let piece = self.peek();
        let advice = self.advisor().advise_sign();
        self.fail_at(piece, expected, advice)
    }

    fn fail_at<T>(&mut self, piece: Piece, expected: &str, advice: Option<Advice>) -> Parsed<T> {
        if piece.kind != TokenKind::Stray {
            let found = match piece.kind {
                TokenKind::Word
                | TokenKind::Number
                | TokenKind::Sign(_)
                | TokenKind::Foreign
                | TokenKind::Clock => {
                    format!("`{}`", self.slice(piece.span))
                }
                other => other.describe().to_owned(),
            };
            let message = format!("expected {expected}, found {found}");
            // The end of a line is shown behind its last word, not as a mark over two lines.
            let span = match piece.kind {
                TokenKind::LineEnd => Span { start: piece.span.start, end: piece.span.start },
                _ => piece.span,
            };
            let mut finding =
                Finding::new(Code::Unexpected, span, message).label(format!("expected {expected}"));
            if let Some(advice) = advice {
                finding.help = Some(advice.help);
                finding.fix = advice.fix;
            }
            self.findings.push(finding);
        }
        Err(ErrorReported)
    }

    /// Says that the next word is none of `known`, with the nearest of them.
    fn fail_unknown<T>(&mut self, expected: &str, known: &[&str]) -> Parsed<T> {
        self.fail_advised(expected, known, None)
    }

    /// Says that something else was expected here, with `advice`, else with the nearest of `known`.
    fn fail_advised<T>(
        &mut self,
        expected: &str,
        known: &[&str],
        advice: Option<Advice>,
    ) -> Parsed<T> {
        let piece = self.peek();
        let advice = advice.or_else(|| {
            if piece.kind != TokenKind::Word {
                return self.advisor().advise_sign();
            }
            let name = near_name(self.slice(piece.span), known.iter().copied())?;
            let fix = Fix { span: piece.span, text: name.to_owned(), is_certain: false };
            Some(Advice { help: format!("did you mean `{name}`?"), fix: Some(fix) })
        });
        self.fail_at(piece, expected, advice)
    }

    /// Runs `read` with line ends meaning nothing.
    fn join_lines<T>(&mut self, read: impl FnOnce(&mut Self) -> T) -> T {
        self.joined += 1;
        let result = read(self);
        self.joined -= 1;
        result
    }

    /// Runs `read` with line ends meaning what they mean in a block.
    fn split_lines<T>(&mut self, read: impl FnOnce(&mut Self) -> T) -> T {
        let joined = std::mem::take(&mut self.joined);
        let result = read(self);
        self.joined = joined;
        result
    }

    /// Runs `read` one level deeper, refusing to go deeper than [`DEEPEST`].
    fn nest<T>(&mut self, read: impl FnOnce(&mut Self) -> Parsed<T>) -> Parsed<T> {
        if self.depth >= DEEPEST {
            let piece = self.peek();
            self.findings.push(
                Finding::new(Code::TooMuch, piece.span, "this is nested too deep")
                    .label(format!("more than {DEEPEST} levels"))
                    .help("move the inner part to a macro or a `let` of its own"),
            );
            return Err(ErrorReported);
        }
        self.depth += 1;
        let result = read(self);
        self.depth -= 1;
        result
    }

    fn take_line_ends(&mut self) {
        while self.pieces[self.at].kind == TokenKind::LineEnd {
            self.at += 1;
        }
    }

    /// Whether the piece at `at` is the first of its line.
    fn starts_line(&self, at: usize) -> bool {
        at == 0 || self.pieces[at - 1].kind == TokenKind::LineEnd
    }

    /// Whether a top-level part must begin at `at`: its word at the start of a line. Words that
    /// are also steps, or stand in blocks, count only when nothing stands before them.
    fn begins_item(&self, at: usize) -> bool {
        self.begins_item_within(self.step_block, at)
    }

    /// The same, in the bracket at the piece `within`, if in any. One that is closed ends where it
    /// does, whatever its lines begin with.
    fn begins_item_within(&self, within: Option<usize>, at: usize) -> bool {
        if !self.starts_line(at) {
            return false;
        }
        let is_closed = within.is_some_and(|open| self.brackets.is_closed(open));
        let piece = self.pieces[at];
        let unindented =
            piece.span.start == 0 || self.text.as_bytes()[piece.span.start as usize - 1] == b'\n';
        match piece.kind {
            TokenKind::Description => !is_closed,
            TokenKind::Word => match self.slice(piece.span) {
                "when" | "macro" => true,
                "let" | "use" | "device" | "layer" | "remap" | "secret" | "settings" | "shape"
                | "words" => unindented && !is_closed,
                _ => false,
            },
            _ => false,
        }
    }

    /// Skips to the end of the present statement: a line end, `;` or closing brace outside all brackets
    /// opened on the way, or the start of an item.
    fn skip_statement(&mut self) {
        let mut open: Vec<usize> = Vec::new();
        while self.pieces[self.at].kind != TokenKind::End {
            if !open.is_empty() && self.begins_item_within(open.last().copied(), self.at) {
                return;
            }
            let piece = self.pieces[self.at];
            match piece.kind {
                TokenKind::LineEnd | TokenKind::Sign(Sign::Semicolon)
                    if open.is_empty() && !self.continues(self.at) =>
                {
                    return;
                }
                TokenKind::Sign(Sign::BraceOpen | Sign::ParenOpen | Sign::BracketOpen) => {
                    open.push(self.at);
                }
                TokenKind::Sign(Sign::BraceClose | Sign::ParenClose | Sign::BracketClose)
                    if open.is_empty() =>
                {
                    return;
                }
                TokenKind::Sign(Sign::BraceClose | Sign::ParenClose | Sign::BracketClose) => {
                    open.pop();
                }
                _ => {}
            }
            self.mention(piece);
            self.at += 1;
        }
    }

    /// Skips a statement that began at `start` and could not be read, at least by one token.
    fn recover_statement(&mut self, start: usize) {
        self.joined = 0;
        self.skip_statement();
        if self.at == start {
            self.next();
        }
        // A bracket that closes nothing was told with the statement.
        while let TokenKind::Sign(Sign::ParenClose | Sign::BracketClose) = self.pieces[self.at].kind
        {
            self.at += 1;
            self.skip_statement();
        }
    }

    /// Whether a statement continues after the line end at `at`.
    fn continues(&self, at: usize) -> bool {
        let before = at.checked_sub(1).map(|before| self.pieces[before]);
        let joins = before.is_some_and(|piece| {
            matches!(piece.kind, TokenKind::Sign(Sign::Comma | Sign::Plus | Sign::Minus))
        });
        let closed = before.is_some_and(|piece| piece.kind == TokenKind::Sign(Sign::BraceClose));
        let mut next = at;
        while self.pieces[next].kind == TokenKind::LineEnd {
            next += 1;
        }
        let follower = self.pieces[next];
        let carries_on =
            follower.kind == TokenKind::Word && matches!(self.slice(follower.span), "else" | "or");
        joins || closed && carries_on
    }

    /// Remembers the words of something that could not be read.
    fn mention(&mut self, piece: Piece) {
        let text = self.slice(piece.span);
        match piece.kind {
            TokenKind::Word => self.broken.push(text.to_owned()),
            TokenKind::Text => {
                let inside = text.split('{').skip(1);
                let words = inside.filter_map(|rest| {
                    rest.split(|c: char| {
                        !(c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-')
                    })
                    .next()
                });
                self.broken.extend(words.map(str::to_owned));
            }
            _ => {}
        }
    }
}

/// The names that a comment `# allow NAME` lists, and the line they are allowed on: the next one
/// that is more than a comment.
fn allows(text: &str, comment: Span, end: usize) -> Vec<Allow> {
    let words = text[comment.range()].trim_start_matches('#');
    let Some(names) = words.trim_start().strip_prefix("allow ") else {
        return Vec::new();
    };
    let mut start = comment.end as usize;
    let before = text[..comment.start as usize].rfind('\n').map_or(0, |at| at + 1);
    if !text[before..comment.start as usize].trim().is_empty() {
        // Behind something on the same line it speaks of that line.
        start = before;
    } else {
        start = text[start..end].find('\n').map_or(end, |at| start + at + 1);
    }
    let mut line = Span::new(start, end);
    for found in text[start..end].split_inclusive('\n') {
        line = Span::new(start, start + found.len());
        let found = found.trim_start();
        if !found.is_empty() && !found.starts_with('#') {
            break;
        }
        start = line.end as usize;
    }
    let mut at = comment.end as usize - names.len();
    let mut allowed = Vec::new();
    for name in names.split(',') {
        let from = at + name.len() - name.trim_start().len();
        let span = Span::new(from, from + name.trim().len());
        allowed.push(Allow { name: Name { text: name.trim().to_owned(), span }, line });
        at += name.len() + 1;
    }
    allowed
}
