//! A file as a tree, each part with its place. It holds what was written, not what it means.

use std::time::Duration;

use lantern_model::code::Operator;
use lantern_model::{
    CommandKind, Corner, KeySpec, ListenMode, PressKind, ReentryPolicy, TimeOfDay, Value,
};

use crate::Span;

/// A name with its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Name {
    /// The word.
    pub text: String,
    /// Where it stands.
    pub span: Span,
}

/// A text as written, with its place.
pub type Quoted = (String, Span);

/// A whole file.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct File {
    /// Its parts in order.
    pub items: Vec<Item>,
    /// Words of parts that could not be read: they may have named something.
    pub broken: Vec<String>,
    /// Findings that are silenced.
    pub allowed: Vec<Allow>,
}

/// `# allow NAME`: silences findings of that name on the next line that is more than a comment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Allow {
    /// The finding's name.
    pub name: Name,
    /// The line it speaks of, from its first byte to its last.
    pub line: Span,
}

/// A top-level part.
#[derive(Debug, Clone, PartialEq)]
pub enum Item {
    /// `settings { ... }`
    Settings(Vec<(Name, ExprSyntax)>),
    /// `let NAME = EXPR`
    Let(Name, ExprSyntax),
    /// `macro NAME(...) { ... }`
    Macro(Macro),
    /// `when ... { ... }`
    When(When),
    /// `in app "x" { ... }`, `layer NAME { ... }`: the clause goes for all inside.
    Within(Clause, Vec<Item>),
    /// `use "file" as NAME with NAME = EXPR`
    Use(Use),
    /// `remap COMBO to COMBO, tapped to COMBO`
    Remap(RemapSyntax),
    /// `device NAME = KIND "where" at SPEED with DETAIL = EXPR, ...`
    Device(DeviceSyntax),
    /// `secret NAME = file "path"`
    Secret(Name, SecretPlace),
    /// `words NAME = "one | other"`
    Words(Name, Quoted),
    /// `shape NAME = path "..."` or `= drawn "file"`
    Shape(ShapeSyntax),
}

/// `shape NAME = path "..." any-way mirrored turned N`
#[derive(Debug, Clone, PartialEq)]
pub struct ShapeSyntax {
    /// Its name.
    pub name: Name,
    /// Whether it is drawn in a file rather than a path in words.
    pub drawn: bool,
    /// The path or file.
    pub how: Quoted,
    /// What else is taken for it.
    pub allowed: lantern_model::ShapeTolerance,
}

/// `use "file" as NAME with NAME = EXPR, ...`
#[derive(Debug, Clone, PartialEq)]
pub struct Use {
    /// The file, seen from the folder of the one that uses it.
    pub path: Quoted,
    /// What its names are put under.
    pub name: Option<Name>,
    /// What its top-level values are instead.
    pub given: Vec<(Name, ExprSyntax)>,
    /// The whole of it.
    pub span: Span,
}

/// `remap COMBO to COMBO, tapped to COMBO`
#[derive(Debug, Clone, PartialEq)]
pub struct RemapSyntax {
    /// The combination that is physically pressed.
    pub from: KeyCombinationSyntax,
    /// What it is as long as it is held.
    pub to: KeyCombinationSyntax,
    /// What it is when it is only tapped.
    pub tapped: Option<KeyCombinationSyntax>,
    /// The whole of it.
    pub span: Span,
}

/// `device NAME = KIND "where" at SPEED with DETAIL = EXPR, ...`
#[derive(Debug, Clone, PartialEq)]
pub struct DeviceSyntax {
    /// Its name.
    pub name: Name,
    /// The word for what it is.
    pub kind: Name,
    /// Where it is.
    pub place: ExprSyntax,
    /// Bits a second, for a serial port.
    pub speed: Option<ExprSyntax>,
    /// What else is to be known of it.
    pub details: Vec<DeviceDetail>,
}

/// `header "Name" = EXPR`
#[derive(Debug, Clone, PartialEq)]
pub struct DeviceDetail {
    /// The word for what it is.
    pub what: Name,
    /// Which of several it is.
    pub about: Option<Name>,
    /// What it holds.
    pub value: ExprSyntax,
}

/// Where a secret is kept.
#[derive(Debug, Clone, PartialEq)]
pub enum SecretPlace {
    /// `file "path"`
    File(Quoted),
    /// `environment "NAME"`
    Environment(String),
}

/// A macro.
#[derive(Debug, Clone, PartialEq)]
pub struct Macro {
    /// The `##` lines above it.
    pub description: String,
    /// Its name.
    pub name: Name,
    /// What callers give, each perhaps with a default.
    pub parameters: Vec<(Name, Option<ExprSyntax>)>,
    /// Its steps.
    pub body: Vec<Step>,
    /// From its name to the end of its steps.
    pub whole: Span,
}

/// A rule.
#[derive(Debug, Clone, PartialEq)]
pub struct When {
    /// The `##` lines above it.
    pub description: String,
    /// What fires it.
    pub triggers: Vec<TriggerSyntax>,
    /// What else must hold, and how it behaves.
    pub clauses: Vec<Clause>,
    /// Its steps.
    pub body: Vec<Step>,
    /// From `when` to the end of the last clause.
    pub head: Span,
    /// From `when` to the end of its steps.
    pub whole: Span,
}

/// `key COMBO [MANNER] [as NAME]` and all others.
#[derive(Debug, Clone, PartialEq)]
pub struct TriggerSyntax {
    /// What fires the rule.
    pub kind: TriggerSyntaxKind,
    /// The name it brings something under.
    pub name: Option<Name>,
    /// The whole of it.
    pub span: Span,
}

/// What fires a rule. The fields stand in the order they are written.
#[derive(Debug, Clone, PartialEq)]
#[allow(missing_docs)]
pub enum TriggerSyntaxKind {
    Key { combo: KeyCombinationSyntax, press: PressKind },
    Keys { combos: Vec<KeyCombinationSyntax>, within: Option<Duration> },
    Typed(Quoted),
    Voice(Quoted),
    Gesture { shape: Name, holding: KeyCombinationSyntax },
    Line { device: Name, test: Option<(LineWord, Quoted)> },
    Message { topic: Quoted, broker: Name },
    Call { path: Quoted, listener: Name },
    Every(Duration),
    At(TimeOfDay),
    Started,
    Window { opened: bool, apps: Vec<Quoted>, titles: Vec<Quoted> },
}

impl TriggerSyntaxKind {
    /// The trigger's first word.
    pub const fn word(&self) -> &'static str {
        match self {
            TriggerSyntaxKind::Key { .. } => "key",
            TriggerSyntaxKind::Keys { .. } => "keys",
            TriggerSyntaxKind::Typed(_) => "typed",
            TriggerSyntaxKind::Voice(_) => "voice",
            TriggerSyntaxKind::Gesture { .. } => "gesture",
            TriggerSyntaxKind::Line { .. } => "line",
            TriggerSyntaxKind::Message { .. } => "message",
            TriggerSyntaxKind::Call { .. } => "call",
            TriggerSyntaxKind::Every(_) => "every",
            TriggerSyntaxKind::At(_) => "at",
            TriggerSyntaxKind::Started => "started",
            TriggerSyntaxKind::Window { .. } => "window",
        }
    }
}

/// How a line is tested.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum LineWord {
    Is,
    Contains,
    Matches,
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
    InApp(Vec<Quoted>),
    /// `not in app "x"`
    NotInApp(Vec<Quoted>),
    /// `in title "x"`
    InTitle(Vec<Quoted>),
    /// `in layer NAME`
    InLayer(Name),
    /// `from device "x"`
    FromDevice(Vec<Quoted>),
    /// `if EXPR`
    If(ExprSyntax),
    /// `at most once per D`
    AtMost(Duration),
    /// `after quiet D`
    AfterQuiet(Duration),
    /// `repeating`
    Repeating,
    /// `passing`
    Passing,
    /// `while held`
    WhileHeld,
    /// `named NAME`
    Named(Name),
    /// `again ...`
    ReentryPolicy(ReentryPolicy),
    /// `even when locked`
    EvenLocked,
    /// `fast`
    Fast,
    /// `without attention`
    Uncalled,
}

impl ClauseKind {
    /// The clause's first words.
    pub fn words(&self) -> &'static str {
        match self {
            ClauseKind::InApp(_) => "in app",
            ClauseKind::NotInApp(_) => "not in app",
            ClauseKind::InTitle(_) => "in title",
            ClauseKind::InLayer(_) => "in layer",
            ClauseKind::FromDevice(_) => "from device",
            ClauseKind::If(_) => "if",
            ClauseKind::AtMost(_) => "at most once per",
            ClauseKind::AfterQuiet(_) => "after quiet",
            ClauseKind::Repeating => "repeating",
            ClauseKind::Passing => "passing",
            ClauseKind::WhileHeld => "while held",
            ClauseKind::Named(_) => "named",
            ClauseKind::ReentryPolicy(_) => "again",
            ClauseKind::EvenLocked => "even when locked",
            ClauseKind::Fast => "fast",
            ClauseKind::Uncalled => "without attention",
        }
    }
}

/// A step.
#[derive(Debug, Clone, PartialEq)]
pub struct Step {
    /// Which.
    pub kind: StepKind,
    /// What is done instead if it fails.
    pub otherwise: Option<Vec<Step>>,
    /// Where it stands, without its block.
    pub span: Span,
}

impl Step {
    /// The blocks of steps inside it.
    pub fn blocks(&self) -> Vec<&[Step]> {
        let mut blocks: Vec<&[Step]> = match &self.kind {
            StepKind::Hold(_, body)
            | StepKind::With(_, body)
            | StepKind::Repeat { body, .. }
            | StepKind::For { body, .. } => vec![body],
            StepKind::If { then, otherwise, .. } => vec![then, otherwise],
            StepKind::AnyOf(bodies) => bodies.iter().map(Vec::as_slice).collect(),
            _ => Vec::new(),
        };
        blocks.extend(self.otherwise.as_deref());
        blocks
    }
}

/// Which step. The fields stand in the order they are written.
#[derive(Debug, Clone, PartialEq)]
#[allow(missing_docs)]
pub enum StepKind {
    Tap {
        combos: Vec<KeyCombinationSyntax>,
        times: Option<ExprSyntax>,
        pace: Option<ExprSyntax>,
    },
    Press(KeyCombinationSyntax),
    Release(KeyCombinationSyntax),
    Toggle(KeyCombinationSyntax),
    Hold(KeyCombinationSyntax, Vec<Step>),
    Type {
        text: ExprSyntax,
        pace: Option<ExprSyntax>,
        anyway: bool,
    },
    Move {
        to: MoveTargetSyntax,
        over: Option<ExprSyntax>,
    },
    Drag {
        button: KeyCombinationSyntax,
        to: MoveTargetSyntax,
        over: Option<ExprSyntax>,
    },
    Do(Box<CommandSyntax>),
    With(ExprSyntax, Vec<Step>),
    Wait(Option<ExprSyntax>),
    WaitUntil {
        condition: ExprSyntax,
        limit: Option<ExprSyntax>,
    },
    For {
        name: Name,
        list: ExprSyntax,
        body: Vec<Step>,
    },
    AnyOf(Vec<Vec<Step>>),
    Repeat {
        times: Option<ExprSyntax>,
        every: Option<ExprSyntax>,
        condition: Option<ExprSyntax>,
        body: Vec<Step>,
    },
    If {
        condition: ExprSyntax,
        then: Vec<Step>,
        otherwise: Vec<Step>,
    },
    Set(Name, ExprSyntax),
    Let(Name, ExprSyntax),
    Log(ExprSyntax),
    Hint {
        text: ExprSyntax,
        at: HintPlaceSyntax,
        span: Option<ExprSyntax>,
    },
    Stop,
    StopAll,
    /// `stop all until resumed`
    StopUntilResumed,
    StopNamed(Name),
    Pause(Name),
    Resume(Name),
    Enter(Name),
    /// `listen when called`
    Listen(ListenMode),
    Leave(Name),
    Call(Name, Vec<ExprSyntax>),
    /// Something that could not be read; said already.
    Unread,
}

/// A step that asks something of programs, devices or the person.
#[derive(Debug, Clone, PartialEq)]
pub struct CommandSyntax {
    /// What is to be done; a device in it is not looked up yet.
    pub verb: CommandKind,
    /// The device.
    pub device: Option<Name>,
    /// The verb's words.
    pub words: Vec<ExprSyntax>,
    /// What else it takes.
    pub value: Option<ExprSyntax>,
    /// `at most D`
    pub limit: Option<ExprSyntax>,
    /// `as NAME`
    pub name: Option<Name>,
    /// Whether its value goes into a new name, and which.
    pub into: Option<(bool, Name)>,
}

/// Where a hint appears.
#[derive(Debug, Clone, PartialEq)]
pub enum HintPlaceSyntax {
    /// Beside the pointer.
    Pointer,
    /// In a corner of the screen.
    Corner(Corner),
    /// At pixels of the screen.
    Point(ExprSyntax, ExprSyntax),
}

/// Where the pointer goes.
#[derive(Debug, Clone, PartialEq)]
pub struct MoveTargetSyntax {
    /// How far right.
    pub x: ExprSyntax,
    /// How far down.
    pub y: ExprSyntax,
    /// From where it counts.
    pub from: MoveOrigin,
}

/// From where a place counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum MoveOrigin {
    Corner,
    Pointer,
    Window,
    Screen,
}

/// An expression.
#[derive(Debug, Clone, PartialEq)]
pub struct ExprSyntax {
    /// Which.
    pub kind: ExprSyntaxKind,
    /// Where it stands.
    pub span: Span,
}

/// Which expression.
#[derive(Debug, Clone, PartialEq)]
pub enum ExprSyntaxKind {
    /// A number, duration, share or truth as written.
    Value(Value),
    /// A text with values in it.
    Text(Vec<TextPart>),
    /// A name, perhaps with parts behind dots.
    Name(String),
    /// `round(n, 1)`
    Call(Name, Vec<ExprSyntax>),
    /// `1..9`
    Range(Box<ExprSyntax>, Box<ExprSyntax>),
    /// `key COMBO`
    Key(KeyCombinationSyntax),
    /// `[a, b]`
    List(Vec<ExprSyntax>),
    /// `not x`
    Not(Box<ExprSyntax>),
    /// `-x`
    Negate(Box<ExprSyntax>),
    /// An operator between two.
    Binary(Operator, Box<ExprSyntax>, Box<ExprSyntax>),
    /// `is-down(COMBO, ...)`
    IsDown(Vec<KeyCombinationSyntax>),
    /// Something that could not be read; said already.
    Unread,
}

/// A part of a text.
#[derive(Debug, Clone, PartialEq)]
pub enum TextPart {
    /// Characters as they are.
    Literal(String),
    /// `{value}`
    Value(ExprSyntax),
}

/// Keys that are down together.
#[derive(Debug, Clone, PartialEq)]
pub struct KeyCombinationSyntax {
    /// In the order they are pressed.
    pub parts: Vec<KeyPart>,
    /// Where it stands.
    pub span: Span,
}

impl KeyCombinationSyntax {
    /// Its keys, if it holds no values and no sets.
    pub fn fixed(&self) -> Option<lantern_model::KeyCombination> {
        let keys = self.parts.iter().map(|part| match part {
            KeyPart::Key(key, _) => Some(*key),
            _ => None,
        });
        keys.collect::<Option<Vec<_>>>().map(lantern_model::KeyCombination)
    }
}

/// One part of a combination.
#[derive(Debug, Clone, PartialEq)]
pub enum KeyPart {
    /// A key by name.
    Key(KeySpec, Span),
    /// `[a, c..k]`, one of them.
    Set(Vec<KeySpec>, Span),
    /// `(value)`
    Value(ExprSyntax),
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
