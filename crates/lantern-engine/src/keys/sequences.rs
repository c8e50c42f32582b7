//! Sequences of keys: which are open, and what the next press makes of them.

use std::mem;

use lantern_model::{ModifierKey, TriggerRef};

use super::key_press::KeyPress;
use super::pending_press::PlainPress;
use super::{KeyPass, KeyRecognizer};
use crate::timers::Timer;

/// A sequence whose first keys came.
#[derive(Debug, Clone, Copy)]
pub(super) struct OpenSequence {
    /// Its number in the binding table.
    sequence: usize,
    /// How many of its keys came.
    matched: usize,
}

/// What a press makes of the open sequences.
pub(super) enum SequenceProgress {
    /// It belongs to none.
    None,
    /// It is the next key of some.
    Advanced,
    /// It completes one.
    Complete,
}

impl KeyRecognizer {
    /// Opens the sequences whose first key this is; whether there are any.
    pub(super) fn begin_sequences(&mut self, pass: &mut KeyPass<'_>, seen: &KeyPress) -> bool {
        let bindings = pass.bindings;
        let mut begun = Vec::new();
        for (number, sequence) in bindings.sequences().iter().enumerate() {
            let (stroke, modifiers) = &sequence.strokes[0];
            if *stroke == seen.stroke && modifiers.iter().all(|key| seen.held.contains(*key)) {
                begun.push((number, sequence));
            }
        }
        begun.retain(|(_, sequence)| pass.may_fire(&self.state, sequence.trigger.rule));
        let Some(longest) = begun.iter().map(|(_, sequence)| sequence.timeout).max() else {
            return false;
        };
        let opened = |(sequence, _)| OpenSequence { sequence, matched: 1 };
        self.open_sequences = begun.into_iter().map(opened).collect();
        pass.timers.set(Timer::Sequence, pass.now + longest);
        true
    }

    /// Advances open sequences by a press.
    pub(super) fn advance_sequences(
        &mut self,
        pass: &mut KeyPass<'_>,
        seen: &KeyPress,
    ) -> SequenceProgress {
        let open = mem::take(&mut self.open_sequences);
        if open.is_empty() {
            return SequenceProgress::None;
        }
        let sequences = pass.bindings.sequences();
        let next = |open: &OpenSequence| {
            let sequence = sequences.get(open.sequence);
            let stroke = sequence.and_then(|sequence| sequence.strokes.get(open.matched));
            stroke.map(|(stroke, _)| stroke.0)
        };
        // A modifier on the way to the next combination is no key of its own.
        let key = seen.stroke.0;
        if ModifierKey::of(key).is_some() && !open.iter().any(|open| next(open) == Some(key)) {
            self.open_sequences = open;
            return SequenceProgress::None;
        }
        let mut advanced = Vec::new();
        let mut complete: Vec<(usize, TriggerRef)> = Vec::new();
        for OpenSequence { sequence, matched } in open {
            let Some(known) = sequences.get(sequence) else { continue };
            let (stroke, modifiers) = &known.strokes[matched];
            if *stroke != seen.stroke || !modifiers.iter().all(|key| seen.held.contains(*key)) {
                continue;
            }
            if matched + 1 == known.strokes.len() {
                complete.push((known.strokes.len(), known.trigger));
            } else {
                let open = OpenSequence { sequence, matched: matched + 1 };
                advanced.push((open, known.timeout));
            }
        }
        let by_length =
            |(length, trigger): &(usize, TriggerRef)| (*length, usize::MAX - trigger.rule.0);
        if let Some((_, trigger)) = complete.into_iter().max_by_key(by_length) {
            self.complete_sequence(pass, seen, trigger);
            return SequenceProgress::Complete;
        }
        if let Some(longest) = advanced.iter().map(|(_, timeout)| *timeout).max() {
            self.open_sequences = advanced.into_iter().map(|(open, _)| open).collect();
            pass.timers.set(Timer::Sequence, pass.now + longest);
            return SequenceProgress::Advanced;
        }
        self.drop_sequence(pass);
        SequenceProgress::None
    }

    fn complete_sequence(&mut self, pass: &mut KeyPass<'_>, seen: &KeyPress, trigger: TriggerRef) {
        pass.timers.cancel(Timer::Sequence);
        for pending in &mut self.pending {
            if mem::take(&mut pending.may_be_sequence) {
                pending.take();
            } else {
                pending.plain = PlainPress::default();
                pending.interrupt();
            }
        }
        self.resolve(pass);
        self.set_held(pass, seen.press, None, None);
        pass.fire(Some(trigger), seen.press);
    }

    /// The next key of a sequence did not come in time.
    pub(crate) fn end_sequence(&mut self, pass: &mut KeyPass<'_>) {
        if !self.open_sequences.is_empty() {
            self.open_sequences.clear();
            self.drop_sequence(pass);
        }
    }

    fn drop_sequence(&mut self, pass: &mut KeyPass<'_>) {
        pass.timers.cancel(Timer::Sequence);
        for pending in &mut self.pending {
            pending.may_be_sequence = false;
        }
        self.resolve(pass);
    }
}
