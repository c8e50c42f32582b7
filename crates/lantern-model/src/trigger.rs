//! What fires a rule, and where a rule applies.

use std::time::Duration;

use crate::{DeviceId, KeyCombination, KeySpec, SourceLocation, TimeOfDay};

/// The number of a layer in its set.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct LayerId(pub usize);

/// Something that fires a rule. A set of keys is one trigger for each.
#[derive(Debug, Clone, PartialEq)]
pub struct Trigger {
    /// What it is.
    pub kind: TriggerKind,
    /// Where it stands in the file.
    pub place: SourceLocation,
}

/// What fires a rule.
#[derive(Debug, Clone, PartialEq)]
pub enum TriggerKind {
    /// `key COMBO`
    Key {
        /// The keys.
        combo: KeyCombination,
        /// The key it brings under the rule's `as` name.
        payload_key: KeySpec,
        /// When it fires.
        press: PressKind,
    },
    /// `keys COMBO, COMBO within D`: a sequence.
    Keys {
        /// The combinations, two at least.
        combos: Vec<KeyCombination>,
        /// Maximum time from one to the next.
        timeout: Duration,
    },
    /// `typed "text"`
    Typed(String),
    /// `voice "phrase"`, in the notation of phrases.
    Voice(String),
    /// `gesture SHAPE while holding COMBO`
    Gesture {
        /// The shape's name.
        shape: String,
        /// The key or button held while it is drawn.
        holding: KeyCombination,
    },
    /// `line from DEVICE`, with a test of its text.
    Line(DeviceId, Option<LineTest>),
    /// `message "topic/+" on BROKER`
    Message(DeviceId, String),
    /// `call "/path" on LISTENER`
    Call(DeviceId, String),
    /// `every D`
    Every(Duration),
    /// `at 06:30`
    At(TimeOfDay),
    /// `started`
    Started,
    /// `window opened ...` or `window focused ...`
    Window {
        /// Whether it must be new rather than come to the front.
        must_be_new: bool,
        /// Program names in lower case, one of which it must have; any if empty.
        apps: Vec<String>,
        /// Parts of a title in lower case, one of which it must have; any if empty.
        titles: Vec<String>,
    },
}

/// When, relative to the key, a rule fires.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
pub enum PressKind {
    /// When it goes down.
    #[default]
    Pressed,
    /// When it goes up.
    Released,
    /// When it goes up soon, with nothing between.
    Tapped,
    /// When it goes down again soon.
    DoublePressed,
    /// When it has been down for this time.
    Held(Duration),
}

impl PressKind {
    /// Whether it is known only some time after the press.
    pub const fn must_wait(self) -> bool {
        matches!(self, PressKind::Tapped | PressKind::DoublePressed | PressKind::Held(_))
    }
}

/// How a line of a device is tested.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LineTest {
    /// The same text, apart from blanks around it.
    Is(String),
    /// A part of it.
    Contains(String),
    /// A regular expression that fits somewhere in it.
    Matches(String),
}

/// Filter of the context in which a rule applies. Every part that is given must be met.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ContextFilter {
    /// Program names in lower case, one of which must be focused.
    pub apps: Option<Vec<String>>,
    /// Program names in lower case, none of which may be focused.
    pub not_apps: Vec<String>,
    /// Parts of a title in lower case, one of which the focused window must have.
    pub titles: Option<Vec<String>>,
    /// The layer that must be active.
    pub layer: Option<LayerId>,
    /// Names of input devices in lower case, from one of which the key must come.
    pub input_devices: Option<Vec<String>>,
}

impl ContextFilter {
    /// Whether it applies everywhere.
    pub fn is_anywhere(&self) -> bool {
        *self == ContextFilter::default()
    }

    /// How narrow it is; a narrower one is preferred: a layer beats a title beats a program beats
    /// any program but some beats none.
    pub fn narrowness(&self) -> u8 {
        u8::from(self.layer.is_some()) << 3
            | u8::from(self.titles.is_some()) << 2
            | u8::from(self.apps.is_some()) << 1
            | u8::from(!self.not_apps.is_empty())
    }
}

/// `remap COMBO to COMBO, tapped to COMBO`
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Remap {
    /// The combination that is physically pressed.
    pub from: KeyCombination,
    /// What it is as long as it is held.
    pub to: KeyCombination,
    /// What it is when it is let go soon, with nothing between.
    pub tapped: Option<KeyCombination>,
    /// Where it applies.
    pub filter: ContextFilter,
    /// Where it stands in the file.
    pub place: SourceLocation,
}
