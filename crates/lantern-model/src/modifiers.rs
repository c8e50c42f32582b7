//! Modifier keys: which side is down, and which family a rule asks for.

use std::fmt;
use std::sync::LazyLock;

use crate::{Key, KeyKind};

/// One modifier key of the keyboard.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[repr(u8)]
pub enum ModifierKey {
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

impl ModifierKey {
    /// Every side, in the order of their bits.
    pub const ALL: [ModifierKey; 8] = [
        ModifierKey::LeftShift,
        ModifierKey::RightShift,
        ModifierKey::LeftCtrl,
        ModifierKey::RightCtrl,
        ModifierKey::LeftAlt,
        ModifierKey::AltGr,
        ModifierKey::LeftSuper,
        ModifierKey::RightSuper,
    ];

    /// The key's name in the vocabulary.
    pub const fn name(self) -> &'static str {
        match self {
            ModifierKey::LeftShift => "left-shift",
            ModifierKey::RightShift => "right-shift",
            ModifierKey::LeftCtrl => "left-ctrl",
            ModifierKey::RightCtrl => "right-ctrl",
            ModifierKey::LeftAlt => "left-alt",
            ModifierKey::AltGr => "alt-gr",
            ModifierKey::LeftSuper => "left-super",
            ModifierKey::RightSuper => "right-super",
        }
    }

    /// The key itself.
    pub fn key(self) -> Key {
        static KEYS: LazyLock<[Key; 8]> = LazyLock::new(|| {
            ModifierKey::ALL
                .map(|side| Key::named(side.name()).expect("every side is in the key table"))
        });
        KEYS[self as usize]
    }

    /// The side that `key` is, if it is a modifier.
    pub fn of(key: Key) -> Option<ModifierKey> {
        if key.kind() != KeyKind::Modifier {
            return None;
        }
        ModifierKey::ALL.into_iter().find(|side| side.key() == key)
    }

    /// The family the side belongs to; alt-gr is its own where the layout has a third level.
    pub const fn modifier(self, alt_gr_is_level3: bool) -> Modifier {
        match self {
            ModifierKey::LeftShift | ModifierKey::RightShift => Modifier::Shift,
            ModifierKey::LeftCtrl | ModifierKey::RightCtrl => Modifier::Ctrl,
            ModifierKey::AltGr if alt_gr_is_level3 => Modifier::Level3,
            ModifierKey::LeftAlt | ModifierKey::AltGr => Modifier::Alt,
            ModifierKey::LeftSuper | ModifierKey::RightSuper => Modifier::Super,
        }
    }
}

/// What a modifier does, whichever side is pressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[repr(u8)]
pub enum Modifier {
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

impl Modifier {
    /// Every family, in the order of their bits.
    pub const ALL: [Modifier; 5] =
        [Modifier::Shift, Modifier::Ctrl, Modifier::Alt, Modifier::Super, Modifier::Level3];

    /// The word for "either side", for the families that have one.
    pub fn from_word(word: &str) -> Option<Modifier> {
        Some(match word {
            "shift" => Modifier::Shift,
            "ctrl" => Modifier::Ctrl,
            "alt" => Modifier::Alt,
            "super" => Modifier::Super,
            _ => return None,
        })
    }

    /// The family's word.
    pub const fn word(self) -> &'static str {
        match self {
            Modifier::Shift => "shift",
            Modifier::Ctrl => "ctrl",
            Modifier::Alt => "alt",
            Modifier::Super => "super",
            Modifier::Level3 => "alt-gr",
        }
    }

    /// The side pressed when a rule only names the family.
    pub const fn default_key(self) -> ModifierKey {
        match self {
            Modifier::Shift => ModifierKey::LeftShift,
            Modifier::Ctrl => ModifierKey::LeftCtrl,
            Modifier::Alt => ModifierKey::LeftAlt,
            Modifier::Super => ModifierKey::LeftSuper,
            Modifier::Level3 => ModifierKey::AltGr,
        }
    }
}

/// A set of families.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct ModifierSet(u8);

impl ModifierSet {
    /// No family.
    pub const NONE: ModifierSet = ModifierSet(0);

    /// This set and `family`.
    #[must_use]
    pub const fn with(self, family: Modifier) -> ModifierSet {
        ModifierSet(self.0 | 1 << family as u8)
    }

    /// Whether `family` is in the set.
    pub const fn contains(self, family: Modifier) -> bool {
        self.0 & (1 << family as u8) != 0
    }

    /// The families in the set.
    pub fn iter(self) -> impl Iterator<Item = Modifier> {
        Modifier::ALL.into_iter().filter(move |family| self.contains(*family))
    }

    /// Whether the set is empty.
    pub const fn is_empty(self) -> bool {
        self.0 == 0
    }
}

/// The modifier keys that are down.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct HeldModifiers(u8);

impl HeldModifiers {
    /// None down.
    pub const NONE: HeldModifiers = HeldModifiers(0);

    /// These and `side`.
    #[must_use]
    pub const fn with(self, side: ModifierKey) -> HeldModifiers {
        HeldModifiers(self.0 | 1 << side as u8)
    }

    /// These without `side`.
    #[must_use]
    pub const fn without(self, side: ModifierKey) -> HeldModifiers {
        HeldModifiers(self.0 & !(1 << side as u8))
    }

    /// Whether `side` is down.
    pub const fn contains(self, side: ModifierKey) -> bool {
        self.0 & (1 << side as u8) != 0
    }

    /// Whether none is down.
    pub const fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// The sides that are down.
    pub fn iter(self) -> impl Iterator<Item = ModifierKey> {
        ModifierKey::ALL.into_iter().filter(move |side| self.contains(*side))
    }

    /// The families that are down.
    pub fn modifiers(self, alt_gr_is_level3: bool) -> ModifierSet {
        self.iter().fold(ModifierSet::NONE, |set, side| set.with(side.modifier(alt_gr_is_level3)))
    }
}

impl FromIterator<ModifierKey> for HeldModifiers {
    fn from_iter<I: IntoIterator<Item = ModifierKey>>(sides: I) -> Self {
        sides.into_iter().fold(HeldModifiers::NONE, HeldModifiers::with)
    }
}

impl fmt::Debug for HeldModifiers {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_set().entries(self.iter()).finish()
    }
}
