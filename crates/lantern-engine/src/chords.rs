//! Plain keys together: whether a press completes some, or may still with others.

use std::collections::BTreeSet;

use lantern_model::{EffectKind, Key, ReplayKey, Time};

use crate::binding_table::{Candidate, Chord, ChordTarget};
use crate::engine::Engine;
use crate::key_recognizer::KeyPress;

/// What became of a press among keys together.
pub(crate) enum ChordMatch {
    No,
    Remapped,
    Rules(Vec<Candidate>),
}

impl Engine {
    pub(crate) fn may_become_chord(&self, seen: &KeyPress) -> bool {
        if seen.replay.is_none() || !self.bindings.has_chords() {
            return false;
        }
        let mut keys: BTreeSet<Key> = self
            .keys
            .pending
            .iter()
            .filter(|waiting| waiting.may_be_chord && !waiting.is_released)
            .map(|waiting| waiting.press.key)
            .collect();
        keys.insert(seen.stroke.0);
        self.bindings.may_become_chord(&keys, seen.stroke.1)
    }

    /// Takes the largest chord that the press completes, with all its keys that wait.
    pub(crate) fn complete_chord(&mut self, now: Time, seen: &KeyPress) -> ChordMatch {
        let (key, families) = seen.stroke;
        let found: Vec<Chord> = self
            .bindings
            .completed_chord(key, families, &self.keys.raw_keys_down)
            .into_iter()
            .cloned()
            .collect();
        let Some(first) = found.first() else {
            if self.may_become_chord(seen) {
                self.interrupt_single(now);
            } else {
                self.interrupt_all(now);
            }
            return ChordMatch::No;
        };
        let keys = first.keys.clone();
        let mut candidates = Vec::new();
        let mut remap = None;
        for chord in found {
            match chord.target {
                ChordTarget::Rule(candidate) => candidates.push(candidate),
                ChordTarget::Remap(number) => remap = remap.or(Some(number)),
            }
        }
        let fires = candidates.iter().any(|c| c.fits(seen.held) && self.may_fire(now, c.rule));
        if !fires && remap.is_none() {
            return ChordMatch::No;
        }
        for waiting in &mut self.keys.pending {
            waiting.may_be_chord = false;
            if keys.contains(&waiting.press.key) {
                waiting.is_taken = true;
                (waiting.otherwise_on_press, waiting.otherwise_on_release) = (None, None);
                waiting.interrupt();
            }
        }
        self.resolve(now);
        match remap.filter(|_| !fires) {
            None => ChordMatch::Rules(candidates),
            Some(number) => {
                let to = self.layout.press_order(&self.rules.remaps[number].to);
                if let (Ok(becomes), Some(give)) = (to, &seen.replay) {
                    let (hide, ..) = self.through_remap(families, &becomes, seen.held);
                    self.keys.remapped.insert(seen.press.key, becomes.clone());
                    let give =
                        ReplayKey { output: becomes, hidden_modifiers: hide, ..give.clone() };
                    self.emit(None, EffectKind::ReplayKey(give));
                }
                self.set_down(seen.press, None, None);
                ChordMatch::Remapped
            }
        }
    }
}
