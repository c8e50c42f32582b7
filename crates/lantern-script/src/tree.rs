//! A file as a tree, each part with its place. It holds what was written, not what it means.

use lantern_model::code::Operator;
use lantern_model::{Again, KeyRef, Manner, Value};

use crate::Span;

/// A name with its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Name {
    /// The word.
    pub text: String,
    /// Where it stands.
    pub span: Span,
}

/// A whole file.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct File {
    /// Its parts in order.
    pub items: Vec<Item>,
    /// Words inside constructs this version does not do; they count as used.
    pub mentions: Vec<String>,
    /// Words of parts that could not be read: they may have named something.
    pub broken: Vec<String>,
}

/// A top-level part.
#[derive(Debug, Clone, PartialEq)]
pub enum Item {
    /// `settings { ... }`
    Settings(Vec<(Name, Expr)>),
    /// `let NAME = EXPR`
    Let(Name, Expr),
    /// `macro NAME(...) { ... }`
    Macro(Macro),
    /// `when ... { ... }`
    When(When),
    /// `in app "x" { ... }`
    InApp(Vec<(String, Span)>, Vec<Item>),
    /// `use "file"`
    Use(String, Span),
}

/// A macro.
#[derive(Debug, Clone, PartialEq)]
pub struct Macro {
    /// The `##` lines above it.
    pub description: String,
    /// Its name.
    pub name: Name,
    /// What callers give, each perhaps with a default.
    pub parameters: Vec<(Name, Option<Expr>)>,
    /// Its steps.
    pub body: Vec<Step>,
}

/// A rule.
#[derive(Debug, Clone, PartialEq)]
pub struct When {
    /// The `##` lines above it.
    pub description: String,
    /// What fires it.
    pub triggers: Vec<Trigger>,
    /// What else must hold, and how it behaves.
    pub clauses: Vec<Clause>,
    /// Its steps.
    pub body: Vec<Step>,
    /// From `when` to the end of the last clause.
    pub head: Span,
}

/// `key COMBO [MANNER] [as NAME]`
#[derive(Debug, Clone, PartialEq)]
pub struct Trigger {
    /// The keys.
    pub combo: Combo,
    /// When it fires.
    pub manner: Manner,
    /// The name it brings its key under.
    pub name: Option<Name>,
    /// The whole of it.
    pub span: Span,
}

/// A clause of a rule's head.
#[derive(Debug, Clone, PartialEq)]
pub struct Clause {
    /// Which.
    pub kind: ClauseKind,
    /// Where it stands.
    pub span: Span,
}

/// Which clause.
#[derive(Debug, Clone, PartialEq)]
pub enum ClauseKind {
    /// `in app "x", "y"`
    InApp(Vec<(String, Span)>),
    /// `if EXPR`
    If(Expr),
    /// `repeating`
    Repeating,
    /// `passing`
    Passing,
    /// `while held`
    WhileHeld,
    /// `named NAME`
    Named(Name),
    /// `again ...`
    Again(Again),
}

impl ClauseKind {
    /// The clause's first words.
    pub fn words(&self) -> &'static str {
        match self {
            ClauseKind::InApp(_) => "in app",
            ClauseKind::If(_) => "if",
            ClauseKind::Repeating => "repeating",
            ClauseKind::Passing => "passing",
            ClauseKind::WhileHeld => "while held",
            ClauseKind::Named(_) => "named",
            ClauseKind::Again(_) => "again",
        }
    }
}

/// A step.
#[derive(Debug, Clone, PartialEq)]
pub struct Step {
    /// Which.
    pub kind: StepKind,
    /// Where it stands, without its block.
    pub span: Span,
}

/// Which step. The fields stand in the order they are written.
#[derive(Debug, Clone, PartialEq)]
#[allow(missing_docs)]
pub enum StepKind {
    Tap {
        combos: Vec<Combo>,
        times: Option<Expr>,
        pace: Option<Expr>,
    },
    Press(Combo),
    Release(Combo),
    Toggle(Combo),
    Hold(Combo, Vec<Step>),
    Type {
        text: Expr,
        pace: Option<Expr>,
        anyway: bool,
    },
    MoveTo(Expr, Expr),
    MoveBy(Expr, Expr),
    Launch(Expr),
    Run {
        words: Vec<Expr>,
        limit: Option<Expr>,
    },
    Wait(Option<Expr>),
    Repeat {
        times: Option<Expr>,
        every: Option<Expr>,
        condition: Option<Expr>,
        body: Vec<Step>,
    },
    If {
        condition: Expr,
        then: Vec<Step>,
        otherwise: Vec<Step>,
    },
    Set(Name, Expr),
    Let(Name, Expr),
    Log(Expr),
    Hint {
        text: Expr,
        at: Option<(Expr, Expr)>,
        span: Option<Expr>,
    },
    Stop,
    StopAll,
    StopNamed(Name),
    Call(Name, Vec<Expr>),
    /// Something that could not be read or is not done yet; said already.
    Unread,
}

/// An expression.
#[derive(Debug, Clone, PartialEq)]
pub struct Expr {
    /// Which.
    pub kind: ExprKind,
    /// Where it stands.
    pub span: Span,
}

/// Which expression.
#[derive(Debug, Clone, PartialEq)]
pub enum ExprKind {
    /// A number, duration, share or truth as written.
    Value(Value),
    /// A text with values in it.
    Text(Vec<TextPart>),
    /// A name.
    Name(String),
    /// `key COMBO`
    Key(Combo),
    /// `[a, b]`
    List(Vec<Expr>),
    /// `not x`
    Not(Box<Expr>),
    /// `-x`
    Negate(Box<Expr>),
    /// An operator between two.
    Binary(Operator, Box<Expr>, Box<Expr>),
    /// `is-down(COMBO, ...)`
    IsDown(Vec<Combo>),
    /// Something that could not be read or is not done yet; said already.
    Unread,
}

/// A part of a text.
#[derive(Debug, Clone, PartialEq)]
pub enum TextPart {
    /// Characters as they are.
    Literal(String),
    /// `{value}`
    Value(Expr),
}

/// Keys that are down together.
#[derive(Debug, Clone, PartialEq)]
pub struct Combo {
    /// In the order they are pressed.
    pub parts: Vec<KeyPart>,
    /// Where it stands.
    pub span: Span,
}

impl Combo {
    /// Its keys, if it holds no values and no sets.
    pub fn fixed(&self) -> Option<lantern_model::Combo> {
        let keys = self.parts.iter().map(|part| match part {
            KeyPart::Key(key, _) => Some(*key),
            _ => None,
        });
        keys.collect::<Option<Vec<_>>>().map(lantern_model::Combo)
    }
}

/// One part of a combination.
#[derive(Debug, Clone, PartialEq)]
pub enum KeyPart {
    /// A key by name.
    Key(KeyRef, Span),
    /// `[a, c..k]`, one of them.
    Set(Vec<KeyRef>, Span),
    /// `(value)`
    Value(Expr),
    /// Something that is no key; said already.
    Unread(Span),
}

impl KeyPart {
    /// Where it stands.
    pub fn span(&self) -> Span {
        match self {
            KeyPart::Key(_, span) | KeyPart::Set(_, span) | KeyPart::Unread(span) => *span,
            KeyPart::Value(expr) => expr.span,
        }
    }
}
