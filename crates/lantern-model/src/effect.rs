//! What the engine asks of the world.

use std::fmt;
use std::time::Duration;

use crate::{Command, HeldModifiers, Key, Listening, ModifierKey, ModifierSet};

/// The number of an effect, by which its outcome comes back.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct EffectId(pub u64);

/// The number of a run of a rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct RunId(pub u64);

/// One order to the world.
#[derive(Debug, Clone, PartialEq)]
pub struct Effect {
    /// Its number.
    pub id: EffectId,
    /// The run it is for, if any.
    pub run: Option<RunId>,
    /// What to do.
    pub kind: EffectKind,
}

/// What to do.
#[derive(Debug, Clone, PartialEq)]
pub enum EffectKind {
    /// Withhold exactly these keys from now on. No outcome; [`crate::Event::GrabsRefused`] may follow.
    SetGrabs(GrabSet),
    /// Do one indivisible input step. Has an outcome.
    Input(InputBatch),
    /// Listen for exactly this from now on; the ear is closed when there is nothing. No outcome.
    Listen(Listening),
    /// Hand a withheld key to the program. No outcome.
    ReplayKey(ReplayKey),
    /// Do something with programs, devices or the person. Has an outcome.
    Execute(Command),
    /// Nobody waits for the outcome of this effect any more; what can be ended is ended.
    Cancel(EffectId),
    /// Show something small for a time. No outcome.
    Hint(Hint),
    /// Write a line to the log.
    Log(String),
}

/// A withheld key that the program gets after all, as itself or as what it is remapped to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReplayKey {
    /// The key of the board.
    pub key: Key,
    /// What goes down in the program, in this order: the key itself, or others in its place. It
    /// goes up again with the finger, and counts as the person's until then.
    pub output: Vec<Key>,
    /// The modifiers that were down when it was pressed; the program sees it under these.
    pub modifiers: HeldModifiers,
    /// Modifiers of the person's that the program does not see while it is down.
    pub hidden_modifiers: HeldModifiers,
    /// Whether it is up again already: it goes down and up at once.
    pub is_tap: bool,
    /// Where the pointer went in between, from where it was pressed.
    pub path: Vec<(i32, i32)>,
}

/// Something small that is shown for a time and takes no focus.
#[derive(Debug, Clone, PartialEq)]
pub struct Hint {
    /// What is shown.
    pub content: HintContent,
    /// Where.
    pub place: HintPlace,
    /// For how long.
    pub duration: Duration,
    /// The rule it is of: a newer hint of the same takes its place. None for our own.
    pub rule: Option<usize>,
}

/// What a hint shows.
#[derive(Debug, Clone, PartialEq)]
pub enum HintContent {
    /// A text, in lines.
    Text(String),
    /// What was drawn.
    Drawing(String),
    /// How loud it is.
    Level {
        /// From 0 to 1.
        share: f64,
        /// Whether nothing is heard all the same.
        muted: bool,
    },
}

impl fmt::Display for HintContent {
    /// What it says, in words.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            HintContent::Text(text) | HintContent::Drawing(text) => f.write_str(text),
            HintContent::Level { muted: true, .. } => f.write_str("Muted"),
            HintContent::Level { share, .. } => write!(f, "Volume {:.0} %", share * 100.0),
        }
    }
}

/// Where a hint appears.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HintPlace {
    /// Beside the pointer.
    Pointer,
    /// At pixels of the screen.
    At(i32, i32),
    /// In a corner of the screen the pointer is on.
    Corner(Corner),
    /// In the middle, below.
    BottomCenter,
}

/// A corner of a screen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Corner {
    /// Above, to the left.
    TopLeft,
    /// Above, to the right.
    TopRight,
    /// Below, to the left.
    BottomLeft,
    /// Below, to the right.
    BottomRight,
}

impl Corner {
    /// Every corner.
    pub const ALL: [Corner; 4] =
        [Corner::TopLeft, Corner::TopRight, Corner::BottomLeft, Corner::BottomRight];

    /// Its word in a file.
    pub const fn word(self) -> &'static str {
        match self {
            Corner::TopLeft => "top-left",
            Corner::TopRight => "top-right",
            Corner::BottomLeft => "bottom-left",
            Corner::BottomRight => "bottom-right",
        }
    }
}

/// The keys that the rules in force need to see.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct GrabSet {
    /// Keys to withhold, distinct and in order.
    pub keys: Vec<KeyGrab>,
    /// Whether every key and button of the person must be reported.
    pub raw_keys: bool,
    /// Whether what the person types must be reported as characters.
    pub text_input: bool,
    /// Whether the pointer's place must be reported.
    pub pointer_position: bool,
    /// Whether the input device of each key must be reported.
    pub source_devices: bool,
    /// Whether the pointer's way must be reported, as a shape may be drawn; and if so, whether it
    /// leaves a trail on the screen.
    pub pointer_path: Option<bool>,
    /// Whether every key but modifiers is withheld, as a key before it is not decided yet.
    pub whole_keyboard: bool,
    /// The panic combination, which also is among the keys: a desk that has the keyboard to itself
    /// gives it back at once when that is pressed, before anybody decides anything.
    pub panic: Option<(Key, ModifierSet)>,
}

impl GrabSet {
    /// Whether a press under exactly these families is withheld, and if so, whether its release is reported.
    pub fn withholds(&self, key: Key, families: ModifierSet) -> Option<bool> {
        let takes = |armed: &&KeyGrab| {
            armed.key == key
                && (armed.modifiers == families
                    || armed.any_extra_modifiers
                        && armed.modifiers.iter().all(|f| families.contains(f)))
        };
        let mut armed = self.keys.iter().filter(takes).peekable();
        if armed.peek().is_some() {
            return Some(armed.any(|armed| armed.report_release));
        }
        (self.whole_keyboard && ModifierKey::of(key).is_none()).then_some(true)
    }
}

/// A key with the modifier families it is withheld under.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct KeyGrab {
    /// The key of the board.
    pub key: Key,
    /// Exactly these families are down.
    pub modifiers: ModifierSet,
    /// Whether it is withheld with further families down as well.
    pub any_extra_modifiers: bool,
    /// Whether it matters which side is down.
    pub side_specific: bool,
    /// Whether the release must be reported.
    pub report_release: bool,
    /// Whether it may turn out not to be meant, or to mean something for the keys after it, so that
    /// nothing may overtake it.
    pub synchronous: bool,
}

/// One step of input that nothing may divide.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct InputBatch {
    /// What to do, in order.
    pub actions: Vec<InputAction>,
    /// Whether the person's modifiers are out of the way meanwhile.
    pub suspend_modifiers: bool,
    /// Keys that the run holds and that stay down.
    pub keep: Vec<Key>,
    /// Keys that other runs hold: up for the step, down again after it.
    pub park: Vec<Key>,
}

impl InputBatch {
    /// Whether it types characters.
    pub fn types(&self) -> bool {
        self.actions.iter().any(|act| matches!(act, InputAction::Text(_)))
    }
}

/// One act of an input step. Buttons and wheel directions are keys.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum InputAction {
    /// Press these in order, let them go in reverse.
    Tap(Vec<Key>),
    /// Press a key and leave it down.
    Down(Key),
    /// Let a key go.
    Up(Key),
    /// Type these characters, whatever the layout.
    Text(String),
    /// Move the pointer by pixels.
    MoveBy(i32, i32),
    /// Move the pointer to a pixel of the screen.
    MoveTo(i32, i32),
}
