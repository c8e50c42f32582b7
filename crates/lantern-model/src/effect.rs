//! Effects: the engine's requests to back ends and services.

use std::fmt;
use std::time::Duration;

use crate::{Command, HeldModifiers, Key, Listening, ModifierKey, ModifierSet, RuleId};

/// The number of an effect, by which its outcome comes back.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct EffectId(pub u64);

/// The number of a run of a rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct RunId(pub u64);

/// One request of the engine.
#[derive(Debug, Clone, PartialEq)]
pub struct Effect {
    /// Its number.
    pub id: EffectId,
    /// The run it is for, if any.
    pub run: Option<RunId>,
    /// What is requested.
    pub kind: EffectKind,
}

/// What an effect requests.
#[derive(Debug, Clone, PartialEq)]
pub enum EffectKind {
    /// Replaces the set of grabs. No outcome; [`crate::Event::GrabsRefused`] may follow.
    SetGrabs(GrabSet),
    /// Sends a batch of input as one indivisible step. Has an outcome.
    Input(InputBatch),
    /// Replaces the active phrases. With none the microphone is closed. No outcome.
    Listen(Listening),
    /// Gives a withheld key to the program in front. No outcome.
    ReplayKey(ReplayKey),
    /// Executes a command. Has an outcome.
    Execute(Command),
    /// Cancels this effect: its outcome is no longer needed, and what can be stopped is stopped.
    Cancel(EffectId),
    /// Shows a hint. No outcome.
    Hint(Hint),
    /// Write a line to the log.
    Log(String),
}

/// A withheld press that goes to the program in front, as itself or as what it is remapped to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReplayKey {
    /// The key of the keyboard.
    pub key: Key,
    /// The keys that the program receives, in this order: the key itself, or its remap. They go up
    /// when the person releases the key, and count as the person's until then.
    pub output: Vec<Key>,
    /// The modifiers that were down at the press; the program receives the key with these.
    pub modifiers: HeldModifiers,
    /// Modifiers that the person holds and that are released while the key is down.
    pub hidden_modifiers: HeldModifiers,
    /// Whether the person has released it already: it goes down and up at once.
    pub is_tap: bool,
    /// Positions of the pointer since the press.
    pub path: Vec<(i32, i32)>,
}

/// A small window with text that takes no focus and disappears after a time.
#[derive(Debug, Clone, PartialEq)]
pub struct Hint {
    /// What is shown.
    pub content: HintContent,
    /// Where.
    pub place: HintPlace,
    /// For how long.
    pub duration: Duration,
    /// The rule it belongs to: a newer hint of the same rule at the same place replaces it. None for the
    /// program's own.
    pub rule: Option<RuleId>,
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

/// What the back end has to withhold and report for the active rules.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct GrabSet {
    /// Keys to withhold, sorted and without duplicates.
    pub keys: Vec<KeyGrab>,
    /// Whether every press and release is reported, as [`crate::Event::RawKey`].
    pub raw_keys: bool,
    /// Whether typed characters are reported, as [`crate::Event::TextInput`].
    pub text_input: bool,
    /// Whether the position of the pointer is reported, as [`crate::Event::Pointer`].
    pub pointer_position: bool,
    /// Whether the source device of each key is reported, as [`crate::Event::ActiveDevice`].
    pub source_devices: bool,
    /// Whether the path of the pointer is reported, as [`crate::Event::PointerPath`]; if so, whether a
    /// trail is drawn on the screen.
    pub pointer_path: Option<bool>,
    /// Whether every key but modifiers is withheld, because a press before it is pending.
    pub whole_keyboard: bool,
    /// The panic combination, which is also one of `keys`. A back end with exclusive access to the
    /// keyboard gives it up at once when this is pressed, without waiting for the engine.
    pub panic: Option<(Key, ModifierSet)>,
}

impl GrabSet {
    /// If a press under exactly these modifiers is withheld: whether its release is reported.
    pub fn withholds(&self, key: Key, families: ModifierSet) -> Option<bool> {
        let takes = |grab: &&KeyGrab| {
            grab.key == key
                && (grab.modifiers == families
                    || grab.any_extra_modifiers
                        && grab.modifiers.iter().all(|f| families.contains(f)))
        };
        let mut matching = self.keys.iter().filter(takes).peekable();
        if matching.peek().is_some() {
            return Some(matching.any(|grab| grab.report_release));
        }
        (self.whole_keyboard && ModifierKey::of(key).is_none()).then_some(true)
    }
}

/// A key and the modifiers under which it is withheld.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct KeyGrab {
    /// The key of the keyboard.
    pub key: Key,
    /// The modifiers that are down, exactly.
    pub modifiers: ModifierSet,
    /// Whether it is also withheld with further modifiers down.
    pub any_extra_modifiers: bool,
    /// Whether left and right modifier keys are distinguished.
    pub side_specific: bool,
    /// Whether the release is reported.
    pub report_release: bool,
    /// Whether the server waits for the engine's decision before it delivers later keys: the press may
    /// become a replay, or change what the next keys mean.
    pub synchronous: bool,
}

/// Input that is sent as one indivisible step.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct InputBatch {
    /// The actions, in order.
    pub actions: Vec<InputAction>,
    /// Whether modifiers that the person holds are released meanwhile.
    pub suspend_modifiers: bool,
    /// Keys held by the run, which stay down.
    pub keep: Vec<Key>,
    /// Keys held by other runs, which are released for the batch and pressed again after it.
    pub park: Vec<Key>,
}

impl InputBatch {
    /// Whether it types characters.
    pub fn types(&self) -> bool {
        self.actions.iter().any(|act| matches!(act, InputAction::Text(_)))
    }
}

/// One action of a batch. Buttons and wheel directions are keys.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum InputAction {
    /// Press these in order, release them in reverse order.
    Tap(Vec<Key>),
    /// Press a key and leave it down.
    Down(Key),
    /// Release a key.
    Up(Key),
    /// Type these characters, whatever the layout.
    Text(String),
    /// Move the pointer by pixels.
    MoveBy(i32, i32),
    /// Move the pointer to a pixel of the screen.
    MoveTo(i32, i32),
}
