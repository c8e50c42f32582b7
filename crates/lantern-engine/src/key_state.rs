//! The state of the keys that a person holds, seen through remaps.

use std::collections::{BTreeMap, BTreeSet};

use lantern_model::{HeldModifiers, Key, ModifierKey, Time};

use crate::key_stroke::KeyStroke;

/// Which keys are down, which of them are remapped, and which device sent the last one.
#[derive(Debug, Default)]
pub(crate) struct KeyState {
    /// Keys that the person holds, of those that the back end reports.
    down: BTreeSet<Key>,
    /// Output of the remapped keys that are down.
    remapped: BTreeMap<Key, Vec<Key>>,
    /// When each key stroke that rules want was pressed last.
    last_pressed: BTreeMap<KeyStroke, Time>,
    /// The input device of the last key, in lower case.
    input_device: String,
}

impl KeyState {
    /// The keys that are down, before remaps.
    pub(crate) fn down(&self) -> &BTreeSet<Key> {
        &self.down
    }

    /// Takes that a key went down; whether it was up.
    pub(crate) fn set_down(&mut self, key: Key) -> bool {
        self.down.insert(key)
    }

    /// Takes that a key went up.
    pub(crate) fn set_up(&mut self, key: Key) {
        self.down.remove(&key);
        self.remapped.remove(&key);
    }

    /// Takes what a key that goes down is remapped to.
    pub(crate) fn set_remapped(&mut self, key: Key, output: Vec<Key>) {
        self.remapped.insert(key, output);
    }

    /// Whether the person holds a key down, seen through remaps.
    pub(crate) fn is_down(&self, key: Key) -> bool {
        let itself = self.down.contains(&key) && !self.remapped.contains_key(&key);
        itself || self.remapped.values().any(|keys| keys.contains(&key))
    }

    /// The modifier keys that are down, except `key`.
    pub(crate) fn held_modifiers_except(&self, key: Key) -> HeldModifiers {
        ModifierKey::ALL
            .into_iter()
            .filter(|modifier| modifier.key() != key && self.is_down(modifier.key()))
            .collect()
    }

    pub(crate) fn note_stroke(&mut self, now: Time, stroke: KeyStroke) {
        self.last_pressed.insert(stroke, now);
    }

    /// When a key stroke that rules want was pressed last.
    pub(crate) fn last_pressed(&self, stroke: KeyStroke) -> Option<Time> {
        self.last_pressed.get(&stroke).copied()
    }

    /// The input device of the last key, in lower case.
    pub(crate) fn input_device(&self) -> &str {
        &self.input_device
    }

    pub(crate) fn set_input_device(&mut self, name: &str) {
        self.input_device = name.to_lowercase();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key(name: &str) -> Key {
        Key::named(name).expect("the key is in the table")
    }

    #[test]
    fn a_remapped_key_is_down_as_its_output() {
        let mut keys = KeyState::default();
        assert!(keys.set_down(key("caps-lock")) && !keys.set_down(key("caps-lock")));
        assert!(keys.is_down(key("caps-lock")));
        keys.set_remapped(key("caps-lock"), vec![key("left-ctrl")]);
        assert!(!keys.is_down(key("caps-lock")) && keys.is_down(key("left-ctrl")));
        let held = keys.held_modifiers_except(key("a"));
        assert_eq!(
            held.iter().collect::<Vec<_>>(),
            ModifierKey::of(key("left-ctrl")).into_iter().collect::<Vec<_>>()
        );
        assert!(keys.held_modifiers_except(key("left-ctrl")).iter().next().is_none());
        keys.set_up(key("caps-lock"));
        assert!(!keys.is_down(key("left-ctrl")) && keys.down().is_empty());
    }
}
