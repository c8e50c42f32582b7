//! What the language has but this version does not do: it is named, looked past as a whole, and
//! what it mentions counts as used.

use super::Parser;
use crate::codes::Code;
use crate::token::{Sign, TokenKind};
use crate::{Finding, Span};

/// Top-level parts, by their first word.
pub(super) const ITEMS: &[(&str, &str)] = &[
    ("device", "devices"),
    ("words", "lists of spoken words"),
    ("shape", "shapes"),
    ("remap", "remaps"),
    ("layer", "layers"),
];

/// Triggers, by their first word.
pub(super) const TRIGGERS: &[(&str, &str)] = &[
    ("keys", "keys one after another"),
    ("typed", "typed abbreviations"),
    ("voice", "voice triggers"),
    ("gesture", "gestures"),
    ("line", "lines from devices"),
    ("message", "messages from brokers"),
    ("call", "calls from the web"),
    ("every", "timers"),
    ("at", "times of day"),
    ("started", "`started`"),
    ("window", "window triggers"),
];

/// Clauses, by their first two words.
pub(super) const CLAUSES: &[(&str, &str)] = &[
    ("in", "title"),
    ("in", "layer"),
    ("not", "in"),
    ("from", "device"),
    ("at", "most"),
    ("after", "quiet"),
    ("even", "when"),
];

/// Steps, by their first word.
pub(super) const STEPS: &[&str] = &[
    "paste", "drag", "open", "end", "focus", "close", "with", "choose", "notify", "say", "play",
    "volume", "ask", "confirm", "pick", "send", "publish", "get", "put", "post", "for", "any",
    "pause", "resume", "enter", "leave", "shell", "read",
];

impl Parser<'_> {
    /// Names a construct that this version does not do.
    pub(super) fn say_not_yet(&mut self, what: &str, span: Span) {
        self.findings.push(
            Finding::new(Code::NotYet, span, format!("{what}: this version does not do that yet"))
                .label("not yet")
                .help("the rest of the file is still checked; take this part out to run it"),
        );
    }

    /// Names the statement that begins here and looks past it, with its blocks.
    pub(super) fn skip_not_yet(&mut self, what: &str) -> Span {
        let first = self.peek().span;
        self.split_lines(Parser::skip_with_parts);
        self.say_not_yet(what, first);
        first.to(self.last_span())
    }

    /// Looks past a part of a rule's head, up to the next clause, `or`, or the body.
    pub(super) fn skip_head_part(&mut self) -> Span {
        let first = self.next();
        self.mention(first);
        let mut span = first.span;
        let mut depth = 0usize;
        loop {
            let piece = self.peek();
            match piece.kind {
                TokenKind::End => return span,
                TokenKind::Sign(Sign::BraceOpen | Sign::BraceClose | Sign::Arrow) => return span,
                TokenKind::Word if depth == 0 && self.begins_clause() => return span,
                _ if self.begins_item(self.at) => return span,
                TokenKind::Sign(Sign::ParenOpen | Sign::BracketOpen) => depth += 1,
                TokenKind::Sign(Sign::ParenClose | Sign::BracketClose) => {
                    depth = depth.saturating_sub(1);
                }
                _ => {}
            }
            self.mention(piece);
            span = span.to(self.next().span);
        }
    }

    /// Whether a clause, `or` or `as` begins here.
    pub(super) fn begins_clause(&mut self) -> bool {
        let alone = ["or", "as", "if", "repeating", "passing", "named", "again"];
        alone.iter().any(|word| self.is_word(word))
            || self.is_words("in", "app")
            || self.is_words("while", "held")
            || CLAUSES.iter().any(|(first, second)| self.is_words(first, second))
    }

    /// Looks past brackets that open here; gives the closing one.
    pub(super) fn skip_brackets(&mut self) -> Span {
        let mut depth = 0usize;
        self.join_lines(|parser| {
            loop {
                let piece = parser.next();
                parser.mention(piece);
                match piece.kind {
                    TokenKind::End => return piece.span,
                    TokenKind::Sign(Sign::ParenOpen | Sign::BracketOpen) => depth += 1,
                    TokenKind::Sign(Sign::ParenClose | Sign::BracketClose) => {
                        depth = depth.saturating_sub(1);
                        if depth == 0 {
                            return piece.span;
                        }
                    }
                    _ => {}
                }
            }
        })
    }
}
