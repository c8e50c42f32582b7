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
    pub give: Option<ReplayKey>,
    pub up: bool,
    /// It may become keys together with others.
    pub chord: bool,
    /// It belongs to a sequence that may go on.
    pub sequence: bool,
    /// A shape may be drawn while it is down.
    pub drawing: bool,
    /// One is: whatever else is pressed does not change that.
    drawn: bool,
    /// It was a stroke of a shape that may have more.
    pub more_strokes: bool,
    /// What fires when it goes up soon.
    pub tapped: Option<Won>,
    /// What fires when it comes once more.
    pub twice: Option<Won>,
    /// What fires when it is held, after how long.
    pub held: Vec<Won>,
    /// What fires when it becomes nothing else: at the press, and at the release.
    pub else_pressed: Option<Won>,
    pub else_released: Option<Won>,
    /// What it is for the program when it goes up soon.
    pub tapped_as: Option<ReplayKey>,
    /// A rule took it already: it is never given back.
    pub taken: bool,
}

impl PendingPress {
    /// A press that may become nothing yet.
    pub(crate) fn new(now: Time, seen: KeyPress) -> PendingPress {
        PendingPress {
            press: seen.press,
            at: now,
            give: seen.give,
            up: false,
            chord: false,
            sequence: false,
            drawing: false,
            drawn: false,
            more_strokes: false,
            tapped: None,
            twice: None,
            held: Vec::new(),
            else_pressed: None,
            else_released: None,
            tapped_as: seen.tapped_as,
            taken: false,
        }
    }

    pub(crate) fn is_open(&self) -> bool {
        let while_down = self.drawing || self.tapped_as.is_some() || !self.held.is_empty();
        let on_release = self.tapped.is_some() && !self.up;
        self.chord
            || self.sequence
            || self.more_strokes
            || self.twice.is_some()
            || on_release
            || (while_down && !self.up)
    }

    /// Whether all it waits for is to be told which of two roles a remap gave it.
    pub(crate) fn has_role_only(&self) -> bool {
        self.tapped_as.is_some()
            && !(self.chord || self.sequence || self.drawing)
            && self.tapped.is_none()
            && self.twice.is_none()
            && self.held.is_empty()
    }

    /// Another key was pressed: it is no tap and not held alone.
    pub(crate) fn disturb(&mut self) {
        self.tapped = None;
        self.twice = None;
        self.held.clear();
        self.tapped_as = None;
        self.drawing &= self.drawn;
    }

    /// The pointer went so far that it is no press any more but a drawing.
    pub(crate) fn draw_on(&mut self) {
        self.chord = false;
        self.drawn = true;
        self.disturb();
    }
}

impl Engine {
    pub(crate) fn set_hopes(&mut self, now: Time, waiting: &PendingPress) {
        let settings = &self.rules.settings;
        let mut spans = Vec::new();
        if waiting.chord {
            spans.push((settings.chord_window, PendingKind::Chord));
        }
        if waiting.tapped.is_some() || waiting.tapped_as.is_some() {
            spans.push((settings.tap_timeout, PendingKind::Tap));
        }
        if waiting.twice.is_some() {
            spans.push((settings.double_press_timeout, PendingKind::Twice));
        }
        for (rule, trigger) in &waiting.held {
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
    pub(crate) fn end_hope(&mut self, now: Time, press: u64, hope: PendingKind) {
        let Some(waiting) = self.keys.waiting(press) else { return };
        let mut fires = None;
        match hope {
            PendingKind::Chord => waiting.chord = false,
            PendingKind::Tap if !waiting.up => {
                waiting.tapped = None;
                waiting.tapped_as = None;
            }
            PendingKind::Tap => {}
            PendingKind::Twice => {
                waiting.twice = None;
                // The single tap that waited for a second one.
                fires = waiting.tapped.take().filter(|_| waiting.up);
            }
            PendingKind::Held(rule, trigger) => {
                let known = waiting.held.contains(&(rule, trigger)) && !waiting.up;
                waiting.held.retain(|won| *won != (rule, trigger));
                fires = Some((rule, trigger)).filter(|_| known);
            }
        }
        if let Some(won) = fires {
            waiting.taken = true;
            waiting.tapped = None;
            waiting.twice = None;
            let press = waiting.press;
            self.fire_key(now, won.0, won.1, press, false);
        }
        self.decide(now);
        self.arm();
    }

    /// The second press of a key that was waited for.
    pub(crate) fn comes_twice(&mut self, now: Time, seen: &KeyPress) -> bool {
        let same = |w: &PendingPress| w.press.key == seen.press.key && w.up && w.twice.is_some();
        let Some(at) = self.keys.undecided.iter().position(same) else {
            return false;
        };
        let waiting = self.keys.undecided.remove(at);
        self.set_down(seen.press, None, None);
        if let Some((rule, trigger)) = waiting.twice {
            self.fire_key(now, rule, trigger, seen.press, false);
        }
        self.decide(now);
        true
    }

    /// Another key came: whatever waits for being alone, or for keys together, is not it.
    pub(crate) fn disturb_all(&mut self, now: Time) {
        for waiting in &mut self.keys.undecided {
            waiting.chord = false;
        }
        self.disturb_lone(now);
    }

    /// Ends what needs a press without another key: taps, double taps, long presses. Chords stay open.
    pub(crate) fn disturb_lone(&mut self, now: Time) {
        let mut taps = Vec::new();
        for waiting in &mut self.keys.undecided {
            // A tap that waited for a second one is a single one.
            if waiting.up
                && waiting.twice.is_some()
                && let Some(won) = waiting.tapped
            {
                waiting.taken = true;
                taps.push((won, waiting.press));
            }
            waiting.disturb();
        }
        for ((rule, trigger), press) in taps {
            self.fire_key(now, rule, trigger, press, false);
        }
        self.decide(now);
    }

    /// Settles what waits, in the order of the presses, as far as it is decided.
    pub(crate) fn decide(&mut self, now: Time) {
        while let Some(first) = self.keys.undecided.first() {
            if first.is_open() {
                return;
            }
            let waiting = self.keys.undecided.remove(0);
            self.settle_press(now, waiting);
        }
    }

    pub(crate) fn settle_press(&mut self, now: Time, waiting: PendingPress) {
        let rules: Arc<RuleSet> = Arc::clone(&self.rules);
        let passes = |won: &Won| rules.rules[won.0].passes_key_through;
        let (pressed, released) = (waiting.else_pressed, waiting.else_released);
        let taken =
            waiting.taken || [pressed, released].into_iter().flatten().any(|won| !passes(&won));
        if pressed.is_some() || released.is_some() {
            let repeats =
                pressed.filter(|won| rules.rules[won.0].repeats_while_held && !waiting.up);
            if waiting.up {
                self.fire_pressed(now, pressed, waiting.press);
                self.fire_pressed(now, released, waiting.press);
            } else {
                self.set_down(waiting.press, released, repeats);
                self.begin_repeat(now, waiting.press);
                self.fire_pressed(now, pressed, waiting.press);
            }
        }
        if let Some(mut give) = waiting.give.filter(|_| !taken) {
            give.is_tap = waiting.up;
            self.emit(None, EffectKind::ReplayKey(give));
        }
    }

    /// Everything that waits is given back: nothing fires any more that it waited for.
    pub(crate) fn give_all_back(&mut self, now: Time) {
        self.keys.progress.clear();
        self.timers.cancel(Timer::Sequence);
        for waiting in &mut self.keys.undecided {
            waiting.sequence = false;
            waiting.tapped = None;
            (waiting.else_pressed, waiting.else_released) = (None, None);
        }
        self.disturb_all(now);
    }

    /// A shape was drawn with this key held: it was not meant as a press.
    pub(crate) fn take_drawing(&mut self, now: Time, key: Key) -> Option<Press> {
        let waiting = self.keys.undecided.iter_mut().find(|w| w.press.key == key && w.drawing)?;
        waiting.taken = true;
        waiting.disturb();
        waiting.drawing = false;
        let press = waiting.press;
        self.forget_drawing();
        self.decide(now);
        Some(press)
    }
}
