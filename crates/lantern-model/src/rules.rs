//! A checked set of rules, ready to run.

use crate::code::{Expr, Op};
use crate::{Combo, Family, Key, KeyRef};

/// Where something stands in a file, counted from 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
pub struct Place {
    /// The line.
    pub line: u32,
    /// The column, in characters.
    pub column: u32,
}

/// A set of rules that may run.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct RuleSet {
    /// The file's name as shown in messages.
    pub file: String,
    /// Choices that hold for the whole set.
    pub settings: Settings,
    /// Top-level values.
    pub globals: Vec<Global>,
    /// The rules, in the order of the file.
    pub rules: Vec<Rule>,
    /// Bodies of rules and macros.
    pub routines: Vec<Routine>,
}

impl RuleSet {
    /// The routine with that number.
    pub fn routine(&self, id: RoutineId) -> &Routine {
        &self.routines[id.0]
    }

    /// Whether any rule or step asks what the person's fingers hold.
    pub fn asks_fingers(&self) -> bool {
        let in_rule = |rule: &Rule| rule.condition.as_ref().is_some_and(asks_fingers);
        let in_op = |op: &Op| op_exprs(op).into_iter().any(asks_fingers);
        self.rules.iter().any(in_rule)
            || self.routines.iter().flat_map(|routine| &routine.ops).any(in_op)
    }
}

/// Choices that hold for the whole set.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settings {
    /// The combination that stops everything and lets go of every key.
    pub panic: Combo,
}

impl Default for Settings {
    fn default() -> Self {
        let escape = Key::named("escape").expect("escape stands in the key table");
        Settings {
            panic: Combo(vec![
                KeyRef::Either(Family::Ctrl),
                KeyRef::Either(Family::Alt),
                KeyRef::Either(Family::Shift),
                KeyRef::Named(escape),
            ]),
        }
    }
}

/// A top-level value.
#[derive(Debug, Clone, PartialEq)]
pub struct Global {
    /// Its name.
    pub name: String,
    /// What it starts as; may use globals above it.
    pub first: Expr,
}

/// The number of a routine in its set.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct RoutineId(pub usize);

/// The body of a rule or a macro.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Routine {
    /// The macro's name; empty for a rule's body.
    pub name: String,
    /// What a caller gives; they are the first slots.
    pub parameters: Vec<Parameter>,
    /// How many slots a call needs.
    pub slots: usize,
    /// What it does.
    pub ops: Vec<Op>,
    /// Where each operation stands in the file.
    pub places: Vec<Place>,
}

/// What a caller gives a macro.
#[derive(Debug, Clone, PartialEq)]
pub struct Parameter {
    /// Its name.
    pub name: String,
    /// What it is when the caller gives nothing.
    pub default: Option<Expr>,
}

/// When, relative to the key, a rule fires.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Manner {
    /// When it goes down.
    #[default]
    Pressed,
    /// When it goes up.
    Released,
}

/// One combination that fires a rule. A set of keys is one trigger for each.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Trigger {
    /// The keys.
    pub combo: Combo,
    /// The key it brings under the rule's `as` name.
    pub brings: KeyRef,
    /// When it fires.
    pub manner: Manner,
    /// Where it stands in the file.
    pub place: Place,
}

/// What a second firing does while the first runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Again {
    /// One waits, more are dropped.
    #[default]
    Waits,
    /// It ends the run.
    Stops,
    /// It ends the run and starts anew.
    Restarts,
    /// Both run.
    Overlaps,
    /// Nothing happens.
    IsIgnored,
}

/// A rule that may fire.
#[derive(Debug, Clone, PartialEq)]
pub struct Rule {
    /// What to call it in lists: its description, name or head.
    pub label: String,
    /// Its `named` name.
    pub name: Option<String>,
    /// Where its `when` stands.
    pub place: Place,
    /// The combinations that fire it.
    pub triggers: Vec<Trigger>,
    /// Whether slot 0 of the body holds the key that fired it.
    pub brings: bool,
    /// Program names in lower case, one of which must be in front; `None` for any.
    pub apps: Option<Vec<String>>,
    /// What must hold when the key comes.
    pub condition: Option<Expr>,
    /// Whether a held key fires again.
    pub repeating: bool,
    /// Whether the program gets the key too.
    pub passing: bool,
    /// Whether the run ends when the key is let go.
    pub while_held: bool,
    /// What a second firing does.
    pub again: Again,
    /// Its body.
    pub body: RoutineId,
}

fn asks_fingers(expr: &Expr) -> bool {
    match expr {
        Expr::IsDown(_) => true,
        Expr::Value(_) | Expr::Local(_) | Expr::Global(_) | Expr::Held | Expr::Combo(_) => false,
        Expr::Text(parts) | Expr::List(parts) => parts.iter().any(asks_fingers),
        Expr::Not(inner) | Expr::Negate(inner) => asks_fingers(inner),
        Expr::Binary(_, left, right) => asks_fingers(left) || asks_fingers(right),
    }
}

fn op_exprs(op: &Op) -> Vec<&Expr> {
    match op {
        Op::Tap { times, pace, .. } => times.iter().chain(pace).collect(),
        Op::Type { text, pace, .. } => std::iter::once(text).chain(pace).collect(),
        Op::MoveTo(x, y) | Op::MoveBy(x, y) => vec![x, y],
        Op::Run { words, limit } => words.iter().chain(limit).collect(),
        Op::Wait(span) => span.iter().collect(),
        Op::Repeat { times, every } => times.iter().chain(every).collect(),
        Op::Call(_, arguments) => arguments.iter().flatten().collect(),
        Op::Hint { text, at, span } => {
            let corners = at.iter().flat_map(|(x, y)| [x, y]);
            std::iter::once(text).chain(corners).chain(span).collect()
        }
        Op::Launch(expr)
        | Op::JumpUnless(expr, _)
        | Op::SetLocal(_, expr)
        | Op::SetGlobal(_, expr)
        | Op::Log(expr) => vec![expr],
        Op::Press(_)
        | Op::Release(_)
        | Op::Toggle(_)
        | Op::Hold(_)
        | Op::EndBlock
        | Op::NextTurn(_)
        | Op::Jump(_)
        | Op::Stop(_) => Vec::new(),
    }
}
