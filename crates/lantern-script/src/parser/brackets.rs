//! Which brackets of a file are closed.
//!
//! Words that begin a part of a file may also begin a step (`let`) or be names of a call. At the
//! start of a line they begin a part only where the block around them is never closed; so the
//! brackets are matched before the file is read.

use super::Piece;
use crate::token::{Sign, TokenKind};

/// The brackets of a file, by the index of their piece.
pub(super) struct Brackets {
    is_closed: Vec<bool>,
}

/// A bracket that is open.
struct OpenBracket {
    at: usize,
    sign: Sign,
    /// Whether parts of a file may stand in it: the block of `in ...` or `layer NAME`.
    holds_items: bool,
}

impl Brackets {
    /// Matches the brackets of `pieces`. A rule or macro at the start of a line shows that the
    /// blocks of steps around it are not closed.
    pub(super) fn of(text: &str, pieces: &[Piece]) -> Brackets {
        let mut brackets = Brackets { is_closed: vec![false; pieces.len()] };
        let mut open: Vec<OpenBracket> = Vec::new();
        let mut first_word = "";
        let mut starts_line = true;
        for (at, piece) in pieces.iter().enumerate() {
            if starts_line {
                first_word = &text[piece.span.range()];
                if matches!(first_word, "when" | "macro") {
                    open.truncate(
                        open.iter().rposition(|open| open.holds_items).map_or(0, |at| at + 1),
                    );
                }
            }
            starts_line = piece.kind == TokenKind::LineEnd;
            let TokenKind::Sign(sign) = piece.kind else { continue };
            match sign {
                Sign::BraceOpen | Sign::ParenOpen | Sign::BracketOpen => {
                    let heads_items =
                        sign == Sign::BraceOpen && matches!(first_word, "in" | "layer");
                    let outside = open.last().is_none_or(|around| around.holds_items);
                    open.push(OpenBracket { at, sign, holds_items: heads_items && outside });
                }
                Sign::BraceClose | Sign::ParenClose | Sign::BracketClose => {
                    let pair = |open: &OpenBracket| open.sign == opening(sign);
                    if let Some(found) = open.iter().rposition(pair) {
                        brackets.is_closed[open[found].at] = true;
                        open.truncate(found);
                    }
                }
                _ => {}
            }
        }
        brackets
    }

    /// Whether the bracket at that piece is closed.
    pub(super) fn is_closed(&self, at: usize) -> bool {
        self.is_closed[at]
    }
}

fn opening(close: Sign) -> Sign {
    match close {
        Sign::ParenClose => Sign::ParenOpen,
        Sign::BracketClose => Sign::BracketOpen,
        _ => Sign::BraceOpen,
    }
}
