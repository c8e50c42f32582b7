//! What a rule's steps become: a flat list of operations over values.
//!
//! `lantern-script` lowers a checked file to this; `lantern-engine` runs it. A block of the file
//! (`hold`, `repeat`) is a pair of operations, so that a run is a program counter and a small stack.

use crate::{KeyRef, RoutineId, Value};

/// An expression over values.
#[derive(Debug, Clone, PartialEq)]
pub enum Expr {
    /// A value as written.
    Value(Value),
    /// The value in a slot of the present call.
    Local(usize),
    /// A top-level value.
    Global(usize),
    /// Texts and values joined.
    Text(Vec<Expr>),
    /// Keys down together, some of them values.
    Combo(ComboExpr),
    /// Several values.
    List(Vec<Expr>),
    /// `not x`
    Not(Box<Expr>),
    /// `-x`
    Negate(Box<Expr>),
    /// An operator between two values.
    Binary(Operator, Box<Expr>, Box<Expr>),
    /// Whether the person's fingers hold all of these.
    IsDown(Vec<ComboExpr>),
    /// Whether the key that fired the run is still down.
    Held,
}

/// Operators between two values.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Operator {
    /// `+`, which also joins texts.
    Add,
    /// `-`
    Subtract,
    /// `*`
    Multiply,
    /// `/`
    Divide,
    /// `%`
    Remainder,
    /// `==`
    Equal,
    /// `!=`
    Unequal,
    /// `<`
    Less,
    /// `<=`
    LessOrEqual,
    /// `>`
    Greater,
    /// `>=`
    GreaterOrEqual,
    /// `and`; the right side is not looked at when the left decides.
    And,
    /// `or`; the right side is not looked at when the left decides.
    Or,
    /// `contains`, of texts and lists.
    Contains,
}

impl Operator {
    /// The operator as written.
    pub const fn symbol(self) -> &'static str {
        match self {
            Operator::Add => "+",
            Operator::Subtract => "-",
            Operator::Multiply => "*",
            Operator::Divide => "/",
            Operator::Remainder => "%",
            Operator::Equal => "==",
            Operator::Unequal => "!=",
            Operator::Less => "<",
            Operator::LessOrEqual => "<=",
            Operator::Greater => ">",
            Operator::GreaterOrEqual => ">=",
            Operator::And => "and",
            Operator::Or => "or",
            Operator::Contains => "contains",
        }
    }
}

/// Keys down together, as written: each a key or a value in parentheses.
#[derive(Debug, Clone, PartialEq)]
pub struct ComboExpr(pub Vec<KeyTerm>);

/// One part of a combination.
#[derive(Debug, Clone, PartialEq)]
pub enum KeyTerm {
    /// A key by name.
    Key(KeyRef),
    /// A value that is a key.
    Value(Expr),
}

/// What `stop` ends.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum StopTarget {
    /// The run that says it.
    ThisRun,
    /// Runs of the rules with that name.
    Named(String),
    /// Every run.
    All,
}

/// One operation. Jump targets are indexes into the same list.
#[derive(Debug, Clone, PartialEq)]
pub enum Op {
    /// Press and let go each combination, the whole list `times` over, `pace` apart.
    Tap {
        /// The combinations.
        combos: Vec<ComboExpr>,
        /// How often; once if missing.
        times: Option<Expr>,
        /// The time from one to the next.
        pace: Option<Expr>,
    },
    /// Press and leave down until released or the run ends.
    Press(ComboExpr),
    /// Give up the run's own share of a held key.
    Release(ComboExpr),
    /// Press if the person's toggle does not hold it, else let go.
    Toggle(ComboExpr),
    /// Begin a block that holds keys.
    Hold(ComboExpr),
    /// End the innermost block, whatever it is, and let go of what it holds.
    EndBlock,
    /// Type a text.
    Type {
        /// The text.
        text: Expr,
        /// The time from one character to the next.
        pace: Option<Expr>,
        /// Whether it goes on when another program comes to the front.
        anyway: bool,
    },
    /// Move the pointer to pixels of the screen.
    MoveTo(Expr, Expr),
    /// Move the pointer by pixels.
    MoveBy(Expr, Expr),
    /// Start a program.
    Launch(Expr),
    /// Start a program and wait for it.
    Run {
        /// Program and arguments.
        words: Vec<Expr>,
        /// The longest it may take.
        limit: Option<Expr>,
    },
    /// Wait for a time, or until the run is ended.
    Wait(Option<Expr>),
    /// Begin a loop; [`Op::NextTurn`] decides whether a turn is due.
    Repeat {
        /// How often; for ever if missing.
        times: Option<Expr>,
        /// The time from the start of one turn to the next.
        every: Option<Expr>,
    },
    /// Begin the next turn of the innermost loop when it is due, or jump to the index when done.
    NextTurn(usize),
    /// Go on at the index.
    Jump(usize),
    /// Go on at the index unless the condition holds.
    JumpUnless(Expr, usize),
    /// Put a value into a slot of the present call.
    SetLocal(usize, Expr),
    /// Put a value into a top-level name.
    SetGlobal(usize, Expr),
    /// Call a macro as part of this run.
    Call(RoutineId, Vec<Option<Expr>>),
    /// Write a line to the log.
    Log(Expr),
    /// Show a small text.
    Hint {
        /// What to show.
        text: Expr,
        /// Pixels of the screen; beside the pointer if missing.
        at: Option<(Expr, Expr)>,
        /// For how long; two seconds if missing.
        span: Option<Expr>,
    },
    /// End runs.
    Stop(StopTarget),
}
