//! What a gesture makes of pending presses. The gesture recognizer keeps the path of the pointer; this is
//! its effect on the key that is held meanwhile.

use lantern_model::Key;

use super::pending_press::{Fate, GestureState, PendingPress};
use super::{KeyRecognizer, Press};

impl KeyRecognizer {
    /// The pointer moved so far that the press is a drawing.
    pub(crate) fn become_drawing(&mut self, press: u64) {
        if let Some(pending) = self.pending_press(press) {
            pending.become_drawing();
        }
    }

    /// The press is no gesture any more. One that was a drawing already is taken.
    pub(crate) fn cancel_gesture(&mut self, press: u64, was_drawing: bool) {
        if let Some(pending) = self.pending_press(press) {
            pending.gesture = GestureState::None;
            if was_drawing {
                pending.fate = Fate::Taken;
            }
        }
    }

    /// The press was an ordinary one, and the pointer moved along this path meanwhile.
    pub(crate) fn set_replayed_path(&mut self, press: u64, path: Vec<(i32, i32)>) {
        let replay = self.pending_press(press).and_then(|pending| pending.replay.as_mut());
        if let Some(replay) = replay {
            replay.path = path;
        }
    }

    /// The press was a stroke of a drawing that may have more.
    pub(crate) fn end_stroke(&mut self, press: u64) {
        if let Some(pending) = self.pending_press(press) {
            pending.gesture = GestureState::StrokeDone;
        }
    }

    /// The press of the last stroke that waits for others.
    pub(crate) fn last_stroke(&self) -> Option<Press> {
        let mut strokes = self.strokes();
        strokes.next_back().map(|pending| pending.press)
    }

    /// The strokes were a shape, or none: their presses are never replayed.
    pub(crate) fn take_strokes(&mut self) {
        for pending in &mut self.pending {
            if pending.gesture == GestureState::StrokeDone {
                pending.gesture = GestureState::None;
                pending.fate = Fate::Taken;
            }
        }
    }

    /// The strokes were taps of the key: they are ordinary presses.
    pub(crate) fn free_strokes(&mut self) {
        for pending in &mut self.pending {
            if pending.gesture == GestureState::StrokeDone {
                pending.gesture = GestureState::None;
            }
        }
    }

    /// A shape was drawn with this key held; takes the press.
    pub(crate) fn take_gesture_press(&mut self, key: Key) -> Option<Press> {
        let is_it =
            |pending: &&mut PendingPress| pending.press.key == key && pending.is_for_gesture();
        let pending = self.pending.iter_mut().find(is_it)?;
        pending.fate = Fate::Taken;
        pending.interrupt();
        pending.gesture = GestureState::None;
        Some(pending.press)
    }

    fn strokes(&self) -> impl DoubleEndedIterator<Item = &PendingPress> {
        self.pending.iter().filter(|pending| pending.gesture == GestureState::StrokeDone)
    }
}
