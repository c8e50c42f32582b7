//! Presses that wait to be told what they are: what each may still become, and what it is once it can
//! become nothing else. They are settled in the order in which they were pressed.

use std::sync::Arc;

use lantern_model::{EffectKind, Key, PressKind, ReplayKey, RuleSet, Time, TriggerKind};

use crate::activation::Press;
use crate::engine::Engine;
use crate::key_recognizer::{KeyPress, Won};
use crate::timers::{PendingKind, Timer};

/// A press that is not decided.
#[derive(Debug)]
pub(crate) struct PendingPress {
    pub press: Press,
    pub at: Time,
    /// How the program gets it if it was not meant; nothing if the program has it already.
    pub replay: Option<ReplayKey>,
    pub is_released: bool,
    /// It may become keys together with others.
    pub may_be_chord: bool,
    /// It belongs to a sequence that is not complete.
    pub may_be_sequence: bool,
    /// A shape may be drawn while it is down.
    pub may_be_gesture: bool,
    /// One is: whatever else is pressed does not change that.
    is_gesture: bool,
    /// It was a stroke of a shape that may have more.
    pub more_strokes: bool,
    /// What fires when it goes up soon.
    pub on_tap: Option<Won>,
    /// What fires when it comes once more.
    pub on_double_press: Option<Won>,
    /// What fires when it is held, after how long.
    pub on_hold: Vec<Won>,
    /// What fires when it becomes nothing else: at the press, and at the release.
    pub otherwise_on_press: Option<Won>,
    pub otherwise_on_release: Option<Won>,
    /// What it is for the program when it goes up soon.
    pub replay_as_tap: Option<ReplayKey>,
    /// A rule took it already: it is never given back.
    pub is_taken: bool,
}

impl PendingPress {
    /// A press that may become nothing yet.
    pub(crate) fn new(now: Time, seen: KeyPress) -> PendingPress {
        PendingPress {
            press: seen.press,
            at: now,
            replay: seen.replay,
            is_released: false,
            may_be_chord: false,
            may_be_sequence: false,
            may_be_gesture: false,
            is_gesture: false,
            more_strokes: false,
            on_tap: None,
            on_double_press: None,
            on_hold: Vec::new(),
            otherwise_on_press: None,
            otherwise_on_release: None,
            replay_as_tap: seen.replay_as_tap,
            is_taken: false,
        }
    }

    pub(crate) fn is_open(&self) -> bool {
        let while_down =
            self.may_be_gesture || self.replay_as_tap.is_some() || !self.on_hold.is_empty();
        let on_release = self.on_tap.is_some() && !self.is_released;
        self.may_be_chord
            || self.may_be_sequence
            || self.more_strokes
            || self.on_double_press.is_some()
            || on_release
            || (while_down && !self.is_released)
    }

    /// Whether all it waits for is to be told which of two roles a remap gave it.
    pub(crate) fn has_role_only(&self) -> bool {
        self.replay_as_tap.is_some()
            && !(self.may_be_chord || self.may_be_sequence || self.may_be_gesture)
            && self.on_tap.is_none()
            && self.on_double_press.is_none()
            && self.on_hold.is_empty()
    }

    /// Another key was pressed: it is no tap and not held alone.
    pub(crate) fn interrupt(&mut self) {
        self.on_tap = None;
        self.on_double_press = None;
        self.on_hold.clear();
        self.replay_as_tap = None;
        self.may_be_gesture &= self.is_gesture;
    }

    /// The pointer went so far that it is no press any more but a drawing.
    pub(crate) fn draw_on(&mut self) {
        self.may_be_chord = false;
        self.is_gesture = true;
        self.interrupt();
    }
}

impl Engine {
    pub(crate) fn set_pending_timers(&mut self, now: Time, waiting: &PendingPress) {
        let settings = &self.rules.settings;
        let mut spans = Vec::new();
        if waiting.may_be_chord {
            spans.push((settings.chord_window, PendingKind::Chord));
        }
        if waiting.on_tap.is_some() || waiting.replay_as_tap.is_some() {
            spans.push((settings.tap_timeout, PendingKind::Tap));
        }
        if waiting.on_double_press.is_some() {
            spans.push((settings.double_press_timeout, PendingKind::DoublePress));
        }
        for (rule, trigger) in &waiting.on_hold {
            if let TriggerKind::Key { press: PressKind::Held(span), .. } =
                self.rules.rules[*rule].triggers[*trigger].kind
            {
                spans.push((span, PendingKind::Held(*rule, *trigger)));
            }
        }
        for (span, hope) in spans {
            self.timers.set(Timer::PendingKind(waiting.press.number, hope), now + span);
        }
    }

    /// Something that a press could have become has not come in time, or has.
    pub(crate) fn end_pending_kind(&mut self, now: Time, press: u64, hope: PendingKind) {
        let Some(waiting) = self.keys.waiting(press) else { return };
        let mut fires = None;
        match hope {
            PendingKind::Chord => waiting.may_be_chord = false,
            PendingKind::Tap if !waiting.is_released => {
                waiting.on_tap = None;
                waiting.replay_as_tap = None;
            }
            PendingKind::Tap => {}
            PendingKind::DoublePress => {
                waiting.on_double_press = None;
                // The single tap that waited for a second one.
                fires = waiting.on_tap.take().filter(|_| waiting.is_released);
            }
            PendingKind::Held(rule, trigger) => {
                let known = waiting.on_hold.contains(&(rule, trigger)) && !waiting.is_released;
                waiting.on_hold.retain(|won| *won != (rule, trigger));
                fires = Some((rule, trigger)).filter(|_| known);
            }
        }
        if let Some(won) = fires {
            waiting.is_taken = true;
            waiting.on_tap = None;
            waiting.on_double_press = None;
            let press = waiting.press;
            self.fire_key(now, won.0, won.1, press, false);
        }
        self.resolve(now);
        self.request_grabs();
    }

    /// The second press of a key that was waited for.
    pub(crate) fn is_double_press(&mut self, now: Time, seen: &KeyPress) -> bool {
        let same = |w: &PendingPress| {
            w.press.key == seen.press.key && w.is_released && w.on_double_press.is_some()
        };
        let Some(at) = self.keys.pending.iter().position(same) else {
            return false;
        };
        let waiting = self.keys.pending.remove(at);
        self.set_down(seen.press, None, None);
        if let Some((rule, trigger)) = waiting.on_double_press {
            self.fire_key(now, rule, trigger, seen.press, false);
        }
        self.resolve(now);
        true
    }

    /// Another key came: whatever waits for being alone, or for keys together, is not it.
    pub(crate) fn interrupt_all(&mut self, now: Time) {
        for waiting in &mut self.keys.pending {
            waiting.may_be_chord = false;
        }
        self.interrupt_single(now);
    }

    /// Ends what needs a press without another key: taps, double taps, long presses. Chords stay open.
    pub(crate) fn interrupt_single(&mut self, now: Time) {
        let mut taps = Vec::new();
        for waiting in &mut self.keys.pending {
            // A tap that waited for a second one is a single one.
            if waiting.is_released
                && waiting.on_double_press.is_some()
                && let Some(won) = waiting.on_tap
            {
                waiting.is_taken = true;
                taps.push((won, waiting.press));
            }
            waiting.interrupt();
        }
        for ((rule, trigger), press) in taps {
            self.fire_key(now, rule, trigger, press, false);
        }
        self.resolve(now);
    }

    /// Resolves pending presses in their order, up to the first that is undecided.
    pub(crate) fn resolve(&mut self, now: Time) {
        while let Some(first) = self.keys.pending.first() {
            if first.is_open() {
                return;
            }
            let waiting = self.keys.pending.remove(0);
            self.resolve_press(now, waiting);
        }
    }

    pub(crate) fn resolve_press(&mut self, now: Time, waiting: PendingPress) {
        let rules: Arc<RuleSet> = Arc::clone(&self.rules);
        let passes = |won: &Won| rules.rules[won.0].passes_key_through;
        let (pressed, released) = (waiting.otherwise_on_press, waiting.otherwise_on_release);
        let taken =
            waiting.is_taken || [pressed, released].into_iter().flatten().any(|won| !passes(&won));
        if pressed.is_some() || released.is_some() {
            let repeats =
                pressed.filter(|won| rules.rules[won.0].repeats_while_held && !waiting.is_released);
            if waiting.is_released {
                self.fire_pressed(now, pressed, waiting.press);
                self.fire_pressed(now, released, waiting.press);
            } else {
                self.set_down(waiting.press, released, repeats);
                self.begin_repeat(now, waiting.press);
                self.fire_pressed(now, pressed, waiting.press);
            }
        }
        if let Some(mut give) = waiting.replay.filter(|_| !taken) {
            give.is_tap = waiting.is_released;
            self.emit(None, EffectKind::ReplayKey(give));
        }
    }

    /// Everything that waits is given back: nothing fires any more that it waited for.
    pub(crate) fn replay_all(&mut self, now: Time) {
        self.keys.open_sequences.clear();
        self.timers.cancel(Timer::Sequence);
        for waiting in &mut self.keys.pending {
            waiting.may_be_sequence = false;
            waiting.on_tap = None;
            (waiting.otherwise_on_press, waiting.otherwise_on_release) = (None, None);
        }
        self.interrupt_all(now);
    }

    /// A shape was drawn with this key held: it was not meant as a press.
    pub(crate) fn take_drawing(&mut self, now: Time, key: Key) -> Option<Press> {
        let waiting =
            self.keys.pending.iter_mut().find(|w| w.press.key == key && w.may_be_gesture)?;
        waiting.is_taken = true;
        waiting.interrupt();
        waiting.may_be_gesture = false;
        let press = waiting.press;
        self.forget_drawing();
        self.resolve(now);
        Some(press)
    }
}
