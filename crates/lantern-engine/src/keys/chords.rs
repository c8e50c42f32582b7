//! Chords of plain keys: whether a press completes some, or may still with others.

use std::collections::BTreeSet;

use lantern_model::{Key, ReplayKey};

use super::key_press::{KeyPress, RemappedPress, through_remap};
use super::{KeyPass, KeyRecognizer};
use crate::binding_table::{Candidate, Chord, ChordTarget};

/// What a press completes.
pub(super) enum ChordMatch {
    /// No chord.
    None,
    /// A chord that is remapped, and is done.
    Remapped,
    /// A chord of these rules.
    Rules(Vec<Candidate>),
}

impl KeyRecognizer {
    /// Whether a press may become a chord with others.
    pub(super) fn may_become_chord(&self, pass: &KeyPass<'_>, seen: &KeyPress) -> bool {
        if seen.replay.is_none() || !pass.bindings.has_chords() {
            return false;
        }
        let waiting =
            self.pending.iter().filter(|pending| pending.may_be_chord && pending.is_down());
        let mut keys: BTreeSet<Key> = waiting.map(|pending| pending.press.key).collect();
        keys.insert(seen.stroke.0);
        pass.bindings.may_become_chord(&keys, seen.stroke.1)
    }

    /// Takes the largest chord that the press completes, with all its keys that are pending.
    pub(super) fn complete_chord(&mut self, pass: &mut KeyPass<'_>, seen: &KeyPress) -> ChordMatch {
        let (key, modifiers) = seen.stroke;
        let bindings = pass.bindings;
        let found: Vec<&Chord> = bindings.completed_chord(key, modifiers, self.state.down());
        let Some(first) = found.first() else {
            if self.may_become_chord(pass, seen) {
                self.interrupt_single(pass);
            } else {
                self.interrupt_all(pass);
            }
            return ChordMatch::None;
        };
        let keys = &first.keys;
        let mut candidates = Vec::new();
        let mut remap = None;
        for chord in &found {
            match &chord.target {
                ChordTarget::Rule(candidate) => candidates.push(candidate.clone()),
                ChordTarget::Remap(number) => remap = remap.or(Some(*number)),
            }
        }
        let fires = candidates.iter().any(|candidate| {
            candidate.has_modifier_keys(seen.held)
                && pass.may_fire(&self.state, candidate.trigger.rule)
        });
        if !fires && remap.is_none() {
            return ChordMatch::None;
        }
        for pending in &mut self.pending {
            pending.may_be_chord = false;
            if keys.contains(&pending.press.key) {
                pending.take();
            }
        }
        self.resolve(pass);
        match remap.filter(|_| !fires) {
            None => ChordMatch::Rules(candidates),
            Some(number) => {
                self.replay_chord(pass, seen, number);
                ChordMatch::Remapped
            }
        }
    }

    fn replay_chord(&mut self, pass: &mut KeyPass<'_>, seen: &KeyPress, remap: usize) {
        let output = pass.context.layout().press_order(&pass.rules.remaps[remap].to);
        if let (Ok(output), Some(replay)) = (output, &seen.replay) {
            let RemappedPress { hidden, .. } =
                through_remap(pass.context, seen.stroke.1, &output, seen.held);
            self.state.set_remapped(seen.press.key, output.clone());
            pass.replay(ReplayKey { output, hidden_modifiers: hidden, ..replay.clone() });
        }
        self.set_held(pass, seen.press, None, None);
    }
}
