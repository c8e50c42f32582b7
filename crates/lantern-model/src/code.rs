//! Operations: the compiled form of a rule's steps, a flat list over values.
//!
//! `lantern-script` lowers a checked file to this; `lantern-engine` runs it. A block of the file
//! (`hold`, `repeat`) is a pair of operations, so that a run is a program counter and a small stack.

use crate::{CommandKind, Corner, KeyCombination, KeySpec, LayerId, ListenMode, RoutineId, Value};

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
    KeyCombination(KeyCombinationExpr),
    /// Several values.
    List(Vec<Expr>),
    /// `not x`
    Not(Box<Expr>),
    /// `-x`
    Negate(Box<Expr>),
    /// An operator between two values.
    Binary(Operator, Box<Expr>, Box<Expr>),
    /// Whether all of these are physically down.
    IsDown(Vec<KeyCombinationExpr>),
    /// Something about the world as it is known now.
    Query(WorldQuery),
    /// A field of a record.
    Field(Box<Expr>, String),
    /// What a function makes of its values.
    Call(Function, Vec<Expr>),
    /// Whole numbers from one to another, both included.
    Range(Box<Expr>, Box<Expr>),
}

/// Something about the world.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WorldQuery {
    /// Whether the key that fired the run is still down.
    Held,
    /// Which keys are physically down; only in [`Expr::IsDown`].
    PhysicalKeys,
    /// How far right the pointer is, in pixels.
    PointerX,
    /// How far down the pointer is, in pixels.
    PointerY,
    /// The program in front.
    WindowApp,
    /// The title of the window in front.
    WindowTitle,
    /// The wall clock's hour.
    Hour,
    /// The wall clock's minute.
    Minute,
    /// The wall clock's second.
    Second,
    /// The day of the month.
    Day,
    /// The month, from 1.
    Month,
    /// The year.
    Year,
    /// The day of the week, as a word.
    Weekday,
    /// The time of day.
    TimeOfDay,
}

impl WorldQuery {
    /// Everything that is written as `thing.part`.
    pub const PARTS: [(&'static str, &'static str, WorldQuery); 12] = [
        ("pointer", "x", WorldQuery::PointerX),
        ("pointer", "y", WorldQuery::PointerY),
        ("window", "app", WorldQuery::WindowApp),
        ("window", "title", WorldQuery::WindowTitle),
        ("now", "hour", WorldQuery::Hour),
        ("now", "minute", WorldQuery::Minute),
        ("now", "second", WorldQuery::Second),
        ("now", "day", WorldQuery::Day),
        ("now", "month", WorldQuery::Month),
        ("now", "year", WorldQuery::Year),
        ("now", "weekday", WorldQuery::Weekday),
        ("now", "time", WorldQuery::TimeOfDay),
    ];

    /// Whether it changes as time goes by.
    pub const fn is_time(self) -> bool {
        matches!(
            self,
            WorldQuery::Hour
                | WorldQuery::Minute
                | WorldQuery::Second
                | WorldQuery::Day
                | WorldQuery::Month
                | WorldQuery::Year
                | WorldQuery::Weekday
                | WorldQuery::TimeOfDay
        )
    }

    /// Whether it is about the pointer.
    pub const fn is_pointer(self) -> bool {
        matches!(self, WorldQuery::PointerX | WorldQuery::PointerY)
    }
}

/// What makes a value of others.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Function {
    /// `random(from, to)`: a whole number, both ends included.
    Random,
    /// `round(number)` or `round(number, places)`
    Round,
    /// `upper(text)`
    Upper,
    /// `lower(text)`
    Lower,
    /// `trim(text)`: without blanks around it.
    Trim,
    /// `length(text or list)`
    Length,
    /// `first(list or text)`
    First,
    /// `last(list or text)`
    Last,
    /// `number(text)`: the number that the text writes.
    Number,
    /// A value as one word of a shell line; it has no name of its own.
    ShellWord,
    /// A value as one segment of a path, or one part of a query (RFC 3986, section 2.1); it has no name of
    /// its own.
    PathSegment,
}

impl Function {
    /// Every function with its name and how many values it takes.
    pub const ALL: [(&'static str, Function, std::ops::RangeInclusive<usize>); 9] = [
        ("random", Function::Random, 2..=2),
        ("round", Function::Round, 1..=2),
        ("upper", Function::Upper, 1..=1),
        ("lower", Function::Lower, 1..=1),
        ("trim", Function::Trim, 1..=1),
        ("length", Function::Length, 1..=1),
        ("first", Function::First, 1..=1),
        ("last", Function::Last, 1..=1),
        ("number", Function::Number, 1..=1),
    ];
}

impl Expr {
    /// Whether it asks for something that is `wanted`.
    pub fn reads(&self, wanted: &dyn Fn(&WorldQuery) -> bool) -> bool {
        let combo = |combo: &KeyCombinationExpr| combo.exprs().any(|expr| expr.reads(wanted));
        match self {
            Expr::Query(asked) => wanted(asked),
            Expr::IsDown(combos) => wanted(&WorldQuery::PhysicalKeys) || combos.iter().any(combo),
            Expr::KeyCombination(keys) => combo(keys),
            Expr::Value(_) | Expr::Local(_) | Expr::Global(_) => false,
            Expr::Text(parts) | Expr::List(parts) | Expr::Call(_, parts) => {
                parts.iter().any(|part| part.reads(wanted))
            }
            Expr::Not(inner) | Expr::Negate(inner) | Expr::Field(inner, _) => inner.reads(wanted),
            Expr::Binary(_, left, right) | Expr::Range(left, right) => {
                left.reads(wanted) || right.reads(wanted)
            }
        }
    }
}

/// What a value is put into.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AssignTarget {
    /// A slot of the present call.
    Local(usize),
    /// A top-level value.
    Global(usize),
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
    /// `matches`: a regular expression fits somewhere in a text.
    Matches,
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
            Operator::Matches => "matches",
        }
    }
}

/// Keys down together, as written: each a key or a value in parentheses.
#[derive(Debug, Clone, PartialEq)]
pub struct KeyCombinationExpr(pub Vec<KeyTerm>);

impl KeyCombinationExpr {
    /// The combination, if each of its keys is known before it runs.
    pub fn fixed(&self) -> Option<KeyCombination> {
        let key = |term: &KeyTerm| match term {
            KeyTerm::Key(key) => Some(*key),
            KeyTerm::Value(_) => None,
        };
        self.0.iter().map(key).collect::<Option<_>>().map(KeyCombination)
    }

    fn exprs(&self) -> impl Iterator<Item = &Expr> {
        self.0.iter().filter_map(|term| match term {
            KeyTerm::Value(expr) => Some(expr),
            KeyTerm::Key(_) => None,
        })
    }
}

/// One part of a combination.
#[derive(Debug, Clone, PartialEq)]
pub enum KeyTerm {
    /// A key by name.
    Key(KeySpec),
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
    /// Every run, and nothing fires until the person resumes.
    AllUntilResumed,
}

/// One operation. Jump targets are indexes into the same list.
#[derive(Debug, Clone, PartialEq)]
pub enum Op {
    /// Press and release each combination; the whole list `times` times, with `pace` between taps.
    Tap {
        /// The combinations.
        combos: Vec<KeyCombinationExpr>,
        /// How often; once if missing.
        times: Option<Expr>,
        /// The time from one to the next.
        pace: Option<Expr>,
    },
    /// Press and leave down until released or the run ends.
    Press(KeyCombinationExpr),
    /// Release a key that the run holds.
    Release(KeyCombinationExpr),
    /// Press it, or release it if a toggle holds it.
    Toggle(KeyCombinationExpr),
    /// Begin a block that holds keys.
    Hold(KeyCombinationExpr),
    /// End the innermost block and release the keys it holds.
    EndBlock,
    /// Type a text.
    Type {
        /// The text.
        text: Expr,
        /// The time from one character to the next.
        pace: Option<Expr>,
        /// Whether typing continues when another program comes to the front.
        despite_focus_change: bool,
    },
    /// Erase the characters that the person typed to fire the run.
    Erase,
    /// Move the pointer, at once or over a time.
    Move {
        /// Where to.
        to: MoveTarget,
        /// How long it takes; at once if missing.
        over: Option<Expr>,
    },
    /// Execute a command on a program, a device or the desktop, or ask the person.
    Command {
        /// What.
        kind: CommandKind,
        /// The verb's words.
        arguments: Vec<Expr>,
        /// What else it takes.
        value: Option<Expr>,
        /// The longest it may take.
        timeout: Option<Expr>,
        /// Where its value goes.
        into: Option<AssignTarget>,
        /// The name that what is launched gets.
        name: Option<String>,
    },
    /// Bring a program to the front for the steps up to the end of the block.
    With(Expr),
    /// Follows a step that can fail. After a failure execution continues here, otherwise at the index.
    OnFailure(usize),
    /// Wait for a time, or until the run is ended.
    Wait(Option<Expr>),
    /// Wait until a condition holds.
    WaitUntil {
        /// The condition.
        condition: Expr,
        /// The longest it may take.
        timeout: Option<Expr>,
    },
    /// Begin a loop; [`Op::NextIteration`] decides whether an iteration is due.
    Repeat {
        /// How often; for ever if missing.
        times: Option<Expr>,
        /// The time from the start of one iteration to the next.
        every: Option<Expr>,
    },
    /// Begin a loop over a list, each of its values in the slot in turn.
    For {
        /// The list.
        list: Expr,
        /// The slot.
        slot: usize,
    },
    /// Begin the next iteration of the innermost loop when it is due, or jump to the index when done.
    NextIteration(usize),
    /// Jump to one of the indexes at random, never to the same one twice in a row.
    AnyOf(Vec<usize>),
    /// Jump to the index.
    Jump(usize),
    /// Jump to the index unless the condition holds.
    JumpUnless(Expr, usize),
    /// Put a value somewhere.
    Set(AssignTarget, Expr),
    /// Call a macro as part of this run.
    Call(RoutineId, Vec<Option<Expr>>),
    /// Write a line to the log.
    Log(Expr),
    /// Show a small text.
    Hint {
        /// What to show.
        text: Expr,
        /// Where.
        at: HintPlaceExpr,
        /// For how long; two seconds if missing.
        duration: Option<Expr>,
    },
    /// End runs.
    Stop(StopTarget),
    /// Pause or resume the rules of that name.
    Pause {
        /// The name.
        name: String,
        /// True to pause, false to resume.
        paused: bool,
    },
    /// Listen for that from now on.
    Listen(ListenMode),
    /// Switch a layer on or off.
    Layer {
        /// Which.
        layer: LayerId,
        /// Whether it is on.
        on: bool,
    },
}

/// Where the pointer goes.
#[derive(Debug, Clone, PartialEq)]
pub enum MoveTarget {
    /// To pixels of the screens.
    At(Expr, Expr),
    /// By pixels.
    By(Expr, Expr),
    /// To shares of the window in front.
    OfWindow(Expr, Expr),
    /// To shares of the screen the pointer is on.
    OfScreen(Expr, Expr),
}

impl MoveTarget {
    /// How far right and how far down.
    pub const fn coordinates(&self) -> [&Expr; 2] {
        let (MoveTarget::At(x, y)
        | MoveTarget::By(x, y)
        | MoveTarget::OfWindow(x, y)
        | MoveTarget::OfScreen(x, y)) = self;
        [x, y]
    }
}

impl Op {
    /// Every expression of the operation.
    pub fn exprs(&self) -> Vec<&Expr> {
        match self {
            Op::Tap { combos, times, pace } => {
                let keys = combos.iter().flat_map(KeyCombinationExpr::exprs);
                keys.chain(times).chain(pace).collect()
            }
            Op::Press(combo) | Op::Release(combo) | Op::Toggle(combo) | Op::Hold(combo) => {
                combo.exprs().collect()
            }
            Op::Type { text, pace, .. } => std::iter::once(text).chain(pace).collect(),
            Op::Move { to, over } => to.coordinates().into_iter().chain(over).collect(),
            Op::Command { arguments: words, value, timeout: limit, .. } => {
                words.iter().chain(value).chain(limit).collect()
            }
            Op::Wait(span) => span.iter().collect(),
            Op::WaitUntil { condition, timeout: limit } => {
                std::iter::once(condition).chain(limit).collect()
            }
            Op::Repeat { times, every } => times.iter().chain(every).collect(),
            Op::Call(_, arguments) => arguments.iter().flatten().collect(),
            Op::Hint { text, at, duration: span } => {
                let point = match at {
                    HintPlaceExpr::Point(x, y) => vec![x, y],
                    HintPlaceExpr::Pointer | HintPlaceExpr::Corner(_) => Vec::new(),
                };
                std::iter::once(text).chain(point).chain(span).collect()
            }
            Op::With(expr)
            | Op::For { list: expr, .. }
            | Op::JumpUnless(expr, _)
            | Op::Set(_, expr)
            | Op::Log(expr) => vec![expr],
            Op::Erase
            | Op::EndBlock
            | Op::OnFailure(_)
            | Op::NextIteration(_)
            | Op::AnyOf(_)
            | Op::Jump(_)
            | Op::Stop(_)
            | Op::Pause { .. }
            | Op::Listen(_)
            | Op::Layer { .. } => Vec::new(),
        }
    }
}

/// Where a hint appears, before its numbers are known.
#[derive(Debug, Clone, PartialEq)]
pub enum HintPlaceExpr {
    /// Beside the pointer.
    Pointer,
    /// In a corner of the screen.
    Corner(Corner),
    /// At pixels of the screen.
    Point(Expr, Expr),
}
