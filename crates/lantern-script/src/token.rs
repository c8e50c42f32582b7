//! The pieces a file is cut into.

use crate::Span;

/// What a piece is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TokenKind {
    /// Blanks within a line.
    Blank,
    /// `#` to the end of the line.
    Comment,
    /// `##` to the end of the line.
    Description,
    /// The end of a line.
    LineEnd,
    /// A lower-case word, with hyphens and digits.
    Word,
    /// A number, perhaps with a touching sign, unit or `%`.
    Number,
    /// A time of day, `06:30`.
    Clock,
    /// A text between double quotes, one line or several.
    Text,
    /// A raw text between backticks.
    Raw,
    /// A character between single quotes.
    Character,
    /// A place on the keyboard, `<KeyQ>`.
    KeyPlace,
    /// A sign or pair of signs.
    Sign(Sign),
    /// Something the language has no use for.
    Stray,
    /// A sign of other languages, such as `&&`: the parser says what to write.
    Foreign,
    /// The end of the file.
    End,
}

/// Signs of the language.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Sign {
    BraceOpen,
    BraceClose,
    ParenOpen,
    ParenClose,
    BracketOpen,
    BracketClose,
    Comma,
    Semicolon,
    Arrow,
    Assign,
    Equal,
    Unequal,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
    Plus,
    Minus,
    Times,
    Divide,
    Percent,
    Dots,
    Dot,
}

impl Sign {
    /// The sign that a text begins with.
    pub fn at_start_of(text: &[u8]) -> Option<Sign> {
        let first = *text.first()?;
        let second = text.get(1).copied().unwrap_or(0);
        Some(match (first, second) {
            (b'=', b'>') => Sign::Arrow,
            (b'=', b'=') => Sign::Equal,
            (b'!', b'=') => Sign::Unequal,
            (b'<', b'=') => Sign::LessOrEqual,
            (b'>', b'=') => Sign::GreaterOrEqual,
            (b'.', b'.') => Sign::Dots,
            (b'{', _) => Sign::BraceOpen,
            (b'}', _) => Sign::BraceClose,
            (b'(', _) => Sign::ParenOpen,
            (b')', _) => Sign::ParenClose,
            (b'[', _) => Sign::BracketOpen,
            (b']', _) => Sign::BracketClose,
            (b',', _) => Sign::Comma,
            (b';', _) => Sign::Semicolon,
            (b'=', _) => Sign::Assign,
            (b'<', _) => Sign::Less,
            (b'>', _) => Sign::Greater,
            (b'+', _) => Sign::Plus,
            (b'-', _) => Sign::Minus,
            (b'*', _) => Sign::Times,
            (b'/', _) => Sign::Divide,
            (b'%', _) => Sign::Percent,
            (b'.', _) => Sign::Dot,
            _ => return None,
        })
    }

    /// The sign as written.
    pub fn text(self) -> &'static str {
        match self {
            Sign::Arrow => "=>",
            Sign::Equal => "==",
            Sign::Unequal => "!=",
            Sign::LessOrEqual => "<=",
            Sign::GreaterOrEqual => ">=",
            Sign::Dots => "..",
            Sign::BraceOpen => "{",
            Sign::BraceClose => "}",
            Sign::ParenOpen => "(",
            Sign::ParenClose => ")",
            Sign::BracketOpen => "[",
            Sign::BracketClose => "]",
            Sign::Comma => ",",
            Sign::Semicolon => ";",
            Sign::Assign => "=",
            Sign::Less => "<",
            Sign::Greater => ">",
            Sign::Plus => "+",
            Sign::Minus => "-",
            Sign::Times => "*",
            Sign::Divide => "/",
            Sign::Percent => "%",
            Sign::Dot => ".",
        }
    }
}

/// One piece of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Token {
    /// What it is.
    pub kind: TokenKind,
    /// Where it stands.
    pub span: Span,
}

impl TokenKind {
    /// Whether the parser looks through it.
    pub fn is_trivia(self) -> bool {
        matches!(self, TokenKind::Blank | TokenKind::Comment)
    }

    /// The word for it in a message.
    pub fn describe(self) -> &'static str {
        match self {
            TokenKind::Blank | TokenKind::Comment => "a blank",
            TokenKind::Description => "a description",
            TokenKind::LineEnd => "the end of the line",
            TokenKind::Word => "a word",
            TokenKind::Number => "a number",
            TokenKind::Clock => "a time of day",
            TokenKind::Text | TokenKind::Raw => "a text",
            TokenKind::Character => "a character",
            TokenKind::KeyPlace => "a key's place",
            TokenKind::Sign(_) => "a sign",
            TokenKind::Stray | TokenKind::Foreign => "a stray character",
            TokenKind::End => "the end of the file",
        }
    }
}
