//! Modifier keys: which side is down, and which family a rule asks for.

use std::fmt;
use std::sync::LazyLock;

use crate::{Key, KeyKind};

/// One modifier key of the keyboard.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[repr(u8)]
pub enum Side {
    /// Left shift.
    LeftShift = 0,
    /// Right shift.
    RightShift = 1,
    /// Left control.
    LeftCtrl = 2,
    /// Right control.
    RightCtrl = 3,
    /// Left alt.
    LeftAlt = 4,
    /// Right alt, which many layouts use as the third-level key.
    AltGr = 5,
    /// Left super.
    LeftSuper = 6,
    /// Right super.
    RightSuper = 7,
}

impl Side {
    /// Every side, in the order of their bits.
    pub const ALL: [Side; 8] = [
        Side::LeftShift,
        Side::RightShift,
        Side::LeftCtrl,
        Side::RightCtrl,
        Side::LeftAlt,
        Side::AltGr,
        Side::LeftSuper,
        Side::RightSuper,
    ];

    /// The key's name in the vocabulary.
    pub const fn name(self) -> &'static str {
        match self {
            Side::LeftShift => "left-shift",
            Side::RightShift => "right-shift",
            Side::LeftCtrl => "left-ctrl",
            Side::RightCtrl => "right-ctrl",
            Side::LeftAlt => "left-alt",
            Side::AltGr => "alt-gr",
            Side::LeftSuper => "left-super",
            Side::RightSuper => "right-super",
        }
    }

    /// The key itself.
    pub fn key(self) -> Key {
        static KEYS: LazyLock<[Key; 8]> = LazyLock::new(|| {
            Side::ALL.map(|side| Key::named(side.name()).expect("every side is in the key table"))
        });
        KEYS[self as usize]
    }

    /// The side that `key` is, if it is a modifier.
    pub fn of(key: Key) -> Option<Side> {
        if key.kind() != KeyKind::Modifier {
            return None;
        }
        Side::ALL.into_iter().find(|side| side.key() == key)
    }

    /// The family the side belongs to; alt-gr is its own where the layout has a third level.
    pub const fn family(self, alt_gr_is_level3: bool) -> Family {
        match self {
            Side::LeftShift | Side::RightShift => Family::Shift,
            Side::LeftCtrl | Side::RightCtrl => Family::Ctrl,
            Side::AltGr if alt_gr_is_level3 => Family::Level3,
            Side::LeftAlt | Side::AltGr => Family::Alt,
            Side::LeftSuper | Side::RightSuper => Family::Super,
        }
    }
}

/// What a modifier does, whichever side is pressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[repr(u8)]
pub enum Family {
    /// Shift.
    Shift = 0,
    /// Control.
    Ctrl = 1,
    /// Alt.
    Alt = 2,
    /// Super.
    Super = 3,
    /// The third level of a layout (AltGr).
    Level3 = 4,
}

impl Family {
    /// Every family, in the order of their bits.
    pub const ALL: [Family; 5] =
        [Family::Shift, Family::Ctrl, Family::Alt, Family::Super, Family::Level3];

    /// The word for "either side", for the families that have one.
    pub fn from_word(word: &str) -> Option<Family> {
        Some(match word {
            "shift" => Family::Shift,
            "ctrl" => Family::Ctrl,
            "alt" => Family::Alt,
            "super" => Family::Super,
            _ => return None,
        })
    }

    /// The family's word.
    pub const fn word(self) -> &'static str {
        match self {
            Family::Shift => "shift",
            Family::Ctrl => "ctrl",
            Family::Alt => "alt",
            Family::Super => "super",
            Family::Level3 => "alt-gr",
        }
    }

    /// The side pressed when a rule only names the family.
    pub const fn usual_side(self) -> Side {
        match self {
            Family::Shift => Side::LeftShift,
            Family::Ctrl => Side::LeftCtrl,
            Family::Alt => Side::LeftAlt,
            Family::Super => Side::LeftSuper,
            Family::Level3 => Side::AltGr,
        }
    }
}

/// A set of families.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct Families(u8);

impl Families {
    /// No family.
    pub const NONE: Families = Families(0);

    /// This set and `family`.
    #[must_use]
    pub const fn with(self, family: Family) -> Families {
        Families(self.0 | 1 << family as u8)
    }

    /// Whether `family` is in the set.
    pub const fn contains(self, family: Family) -> bool {
        self.0 & (1 << family as u8) != 0
    }

    /// The families in the set.
    pub fn iter(self) -> impl Iterator<Item = Family> {
        Family::ALL.into_iter().filter(move |family| self.contains(*family))
    }

    /// Whether the set is empty.
    pub const fn is_empty(self) -> bool {
        self.0 == 0
    }
}

/// The modifier keys that are down.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct Modifiers(u8);

impl Modifiers {
    /// None down.
    pub const NONE: Modifiers = Modifiers(0);

    /// These and `side`.
    #[must_use]
    pub const fn with(self, side: Side) -> Modifiers {
        Modifiers(self.0 | 1 << side as u8)
    }

    /// These without `side`.
    #[must_use]
    pub const fn without(self, side: Side) -> Modifiers {
        Modifiers(self.0 & !(1 << side as u8))
    }

    /// Whether `side` is down.
    pub const fn contains(self, side: Side) -> bool {
        self.0 & (1 << side as u8) != 0
    }

    /// Whether none is down.
    pub const fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// The sides that are down.
    pub fn iter(self) -> impl Iterator<Item = Side> {
        Side::ALL.into_iter().filter(move |side| self.contains(*side))
    }

    /// The families that are down.
    pub fn families(self, alt_gr_is_level3: bool) -> Families {
        self.iter().fold(Families::NONE, |set, side| set.with(side.family(alt_gr_is_level3)))
    }
}

impl FromIterator<Side> for Modifiers {
    fn from_iter<I: IntoIterator<Item = Side>>(sides: I) -> Self {
        sides.into_iter().fold(Modifiers::NONE, Modifiers::with)
    }
}

impl fmt::Debug for Modifiers {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_set().entries(self.iter()).finish()
    }
}
