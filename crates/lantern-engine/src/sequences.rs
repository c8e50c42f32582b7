//! Keys one after another: which sequences are under way, and what the next press makes of them.

use std::mem;

use lantern_model::{ModifierKey, Time};

use crate::engine::Engine;
use crate::key_recognizer::{KeyPress, OpenSequence};
use crate::timers::Timer;

/// What became of the sequences under way.
pub(crate) enum SequenceProgress {
    Nowhere,
    On,
    Through,
}

impl Engine {
    /// Begins the sequences whose first key this is.
    pub(crate) fn begin_sequences(&mut self, now: Time, seen: &KeyPress) -> bool {
        let mut begun = Vec::new();
        for (number, sequence) in self.bindings.sequences.iter().enumerate() {
            let (stroke, sides) = &sequence.strokes[0];
            if *stroke == seen.stroke && sides.iter().all(|side| seen.held.contains(*side)) {
                begun.push((number, sequence.rule, sequence.timeout));
            }
        }
        begun.retain(|(_, rule, _)| self.may_fire(now, *rule));
        let Some(longest) = begun.iter().map(|(.., within)| *within).max() else {
            return false;
        };
        self.keys.open_sequences =
            begun.into_iter().map(|(sequence, ..)| OpenSequence { sequence, matched: 1 }).collect();
        self.timers.set(Timer::Sequence, now + longest);
        true
    }

    /// Advances open sequences by a press.
    pub(crate) fn advance_sequences(&mut self, now: Time, seen: &KeyPress) -> SequenceProgress {
        let progress = mem::take(&mut self.keys.open_sequences);
        if progress.is_empty() {
            return SequenceProgress::Nowhere;
        }
        let next = |p: &OpenSequence| {
            let sequence = self.bindings.sequences.get(p.sequence);
            sequence
                .and_then(|sequence| sequence.strokes.get(p.matched))
                .map(|(stroke, _)| stroke.0)
        };
        // A modifier on the way to the next combination is no key of its own.
        let key = seen.stroke.0;
        if ModifierKey::of(key).is_some() && !progress.iter().any(|p| next(p) == Some(key)) {
            self.keys.open_sequences = progress;
            return SequenceProgress::Nowhere;
        }
        let mut further = Vec::new();
        let mut through: Vec<(usize, usize, usize)> = Vec::new();
        for OpenSequence { sequence, matched: done } in progress {
            let Some(known) = self.bindings.sequences.get(sequence) else { continue };
            let (stroke, sides) = &known.strokes[done];
            if *stroke != seen.stroke || !sides.iter().all(|side| seen.held.contains(*side)) {
                continue;
            }
            if done + 1 == known.strokes.len() {
                through.push((known.strokes.len(), known.rule, known.trigger));
            } else {
                further.push((OpenSequence { sequence, matched: done + 1 }, known.timeout));
            }
        }
        let best = through.into_iter().max_by_key(|(length, rule, _)| (*length, usize::MAX - rule));
        if let Some((_, rule, trigger)) = best {
            self.timers.cancel(Timer::Sequence);
            for waiting in &mut self.keys.pending {
                waiting.is_taken |= waiting.may_be_sequence;
                waiting.may_be_sequence = false;
                (waiting.otherwise_on_press, waiting.otherwise_on_release) = (None, None);
                waiting.interrupt();
            }
            self.resolve(now);
            self.set_down(seen.press, None, None);
            self.fire_key(now, rule, trigger, seen.press, false);
            return SequenceProgress::Through;
        }
        if let Some(longest) = further.iter().map(|(_, within)| *within).max() {
            self.keys.open_sequences = further.into_iter().map(|(progress, _)| progress).collect();
            self.timers.set(Timer::Sequence, now + longest);
            return SequenceProgress::On;
        }
        self.drop_sequence(now);
        SequenceProgress::Nowhere
    }

    /// The next key of a sequence did not come in time.
    pub(crate) fn end_sequence(&mut self, now: Time) {
        if !self.keys.open_sequences.is_empty() {
            self.keys.open_sequences.clear();
            self.drop_sequence(now);
            self.request_grabs();
        }
    }

    fn drop_sequence(&mut self, now: Time) {
        self.timers.cancel(Timer::Sequence);
        for waiting in &mut self.keys.pending {
            waiting.may_be_sequence = false;
        }
        self.resolve(now);
    }
}
