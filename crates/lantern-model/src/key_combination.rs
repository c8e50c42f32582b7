//! Keys as a rule names them, before a layout says which key of the keyboard that is.

use std::fmt;

use crate::{Key, KeyKind, Modifier, ModifierKey, ModifierSet};

/// A key as written in a rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum KeySpec {
    /// By its name: `f9`, or `a`, the key that gives that letter in the present layout.
    Named(Key),
    /// By its place on the keyboard, `<KeyQ>`, whatever the layout.
    Placed(Key),
    /// By a character, `'?'`, with what it takes to type it.
    Character(char),
    /// Either key of a family, `ctrl`.
    Either(Modifier),
}

impl KeySpec {
    /// The side a modifier name fixes, if it does.
    pub fn side(self) -> Option<ModifierKey> {
        match self {
            KeySpec::Named(key) | KeySpec::Placed(key) => ModifierKey::of(key),
            _ => None,
        }
    }

    /// Whether it is a modifier, of either or of one side.
    pub fn is_modifier(self) -> bool {
        matches!(self, KeySpec::Either(_)) || self.side().is_some()
    }
}

impl fmt::Display for KeySpec {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            KeySpec::Named(key) => f.write_str(key.name()),
            KeySpec::Placed(key) => match key.code() {
                Some(code) => write!(f, "<{code}>"),
                None => f.write_str(key.name()),
            },
            KeySpec::Character(character) => write!(f, "'{character}'"),
            KeySpec::Either(family) => f.write_str(family.word()),
        }
    }
}

/// Keys that are down together, in the order they are pressed.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Default)]
pub struct KeyCombination(pub Vec<KeySpec>);

impl KeyCombination {
    /// A single key.
    pub fn of(key: KeySpec) -> KeyCombination {
        KeyCombination(vec![key])
    }

    /// Whether it types a character: it has a key that gives one, and no modifier but shift.
    pub fn types_character(&self) -> bool {
        let gives_one = |key: &Key| {
            matches!(key.kind(), KeyKind::Letter | KeyKind::Digit | KeyKind::Punctuation)
        };
        let (modifiers, plain): (Vec<&KeySpec>, Vec<&KeySpec>) =
            self.0.iter().partition(|key| key.is_modifier());
        let only_shift = modifiers.iter().all(|key| match key {
            KeySpec::Either(family) => *family == Modifier::Shift,
            other => other.side().is_some_and(|side| side.modifier(false) == Modifier::Shift),
        });
        let any_gives_one = plain.iter().any(|key| match key {
            KeySpec::Named(key) | KeySpec::Placed(key) => gives_one(key),
            KeySpec::Character(_) => true,
            KeySpec::Either(_) => false,
        });
        only_shift && any_gives_one
    }

    /// A key with either key of each of these families.
    pub fn with(families: ModifierSet, key: Key) -> KeyCombination {
        KeyCombination(families.iter().map(KeySpec::Either).chain([KeySpec::Named(key)]).collect())
    }

    /// All but the last key.
    pub fn modifiers(&self) -> &[KeySpec] {
        self.0.split_last().map_or(&[], |(_, rest)| rest)
    }

    /// The last key, which completes it.
    pub fn last(&self) -> Option<KeySpec> {
        self.0.last().copied()
    }

    /// The mouse button or wheel direction it is, if it is a single one.
    pub fn pointer_key(&self) -> Option<Key> {
        match self.0.as_slice() {
            [KeySpec::Named(key)] if matches!(key.kind(), KeyKind::Mouse | KeyKind::Wheel) => {
                Some(*key)
            }
            _ => None,
        }
    }
}

impl fmt::Display for KeyCombination {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, key) in self.0.iter().enumerate() {
            if index > 0 {
                f.write_str("+")?;
            }
            write!(f, "{key}")?;
        }
        Ok(())
    }
}
