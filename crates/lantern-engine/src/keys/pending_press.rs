//! A press that is not decided: what it may still become, and what it is when it becomes nothing else.

use std::time::Duration;

use lantern_model::{PressKind, ReplayKey, RuleSet, Time, TriggerKind, TriggerRef};

use super::Press;
use super::key_press::KeyPress;
use crate::timers::PendingKind;

/// Whether the key of a press is down.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Position {
    Down,
    Up,
}

/// The part of a press in a gesture.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum GestureState {
    /// It is no part of one.
    None,
    /// A shape may be drawn while it is down.
    Possible,
    /// A shape is drawn: other keys do not change that.
    Drawing,
    /// It was a stroke of a drawing that may have more.
    StrokeDone,
}

/// Whether the program in front may still get the press.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Fate {
    /// It is replayed unless a rule takes it.
    Open,
    /// A rule took it: it is never replayed.
    Taken,
}

/// What a press fires when it becomes nothing else: at the press, and at the release.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct PlainPress {
    pub on_press: Option<TriggerRef>,
    pub on_release: Option<TriggerRef>,
}

/// A press that is not decided.
#[derive(Debug)]
pub(super) struct PendingPress {
    pub press: Press,
    pub at: Time,
    pub position: Position,
    pub fate: Fate,
    /// How the program gets it if no rule takes it; nothing if the program has it already.
    pub replay: Option<ReplayKey>,
    /// How the program gets it when it is tapped, for a remap with two roles.
    pub replay_as_tap: Option<ReplayKey>,
    /// It may become a chord with other keys.
    pub may_be_chord: bool,
    /// It belongs to a sequence that is not complete.
    pub may_be_sequence: bool,
    pub gesture: GestureState,
    /// What fires when it is tapped.
    pub on_tap: Option<TriggerRef>,
    /// What fires when it is pressed twice.
    pub on_double_press: Option<TriggerRef>,
    /// What fires when it is held, after how long.
    pub on_hold: Vec<TriggerRef>,
    pub plain: PlainPress,
}

impl PendingPress {
    /// A press that may become nothing yet.
    pub(super) fn new(now: Time, seen: KeyPress) -> PendingPress {
        PendingPress {
            press: seen.press,
            at: now,
            position: Position::Down,
            fate: Fate::Open,
            replay: seen.replay,
            replay_as_tap: seen.replay_as_tap,
            may_be_chord: false,
            may_be_sequence: false,
            gesture: GestureState::None,
            on_tap: None,
            on_double_press: None,
            on_hold: Vec::new(),
            plain: PlainPress::default(),
        }
    }

    pub(super) fn is_down(&self) -> bool {
        self.position == Position::Down
    }

    pub(super) fn is_taken(&self) -> bool {
        self.fate == Fate::Taken
    }

    /// Whether a shape may be, or is, drawn while it is down.
    pub(super) fn is_for_gesture(&self) -> bool {
        matches!(self.gesture, GestureState::Possible | GestureState::Drawing)
    }

    /// Whether every key must be withheld until it is decided, so that all are replayed in order.
    pub(super) fn withholds_all(&self) -> bool {
        self.replay.is_some() && !self.is_taken()
    }

    /// Whether it may still become something.
    pub(super) fn is_open(&self) -> bool {
        let while_down =
            self.is_for_gesture() || self.replay_as_tap.is_some() || !self.on_hold.is_empty();
        self.may_be_chord
            || self.may_be_sequence
            || self.gesture == GestureState::StrokeDone
            || self.on_double_press.is_some()
            || (self.is_down() && (while_down || self.on_tap.is_some()))
    }

    /// Whether only the role that a remap gives it is open.
    pub(super) fn has_role_only(&self) -> bool {
        self.replay_as_tap.is_some()
            && !(self.may_be_chord || self.may_be_sequence || self.is_for_gesture())
            && self.on_tap.is_none()
            && self.on_double_press.is_none()
            && self.on_hold.is_empty()
    }

    /// Another key was pressed: it is no tap and not held alone.
    pub(super) fn interrupt(&mut self) {
        self.on_tap = None;
        self.on_double_press = None;
        self.on_hold.clear();
        self.replay_as_tap = None;
        if self.gesture == GestureState::Possible {
            self.gesture = GestureState::None;
        }
    }

    /// A chord, a sequence or a drawing took it.
    pub(super) fn take(&mut self) {
        self.fate = Fate::Taken;
        self.plain = PlainPress::default();
        self.interrupt();
    }

    /// The pointer moved so far that the press is a drawing.
    pub(super) fn become_drawing(&mut self) {
        self.may_be_chord = false;
        if self.gesture == GestureState::Possible {
            self.gesture = GestureState::Drawing;
        }
        self.interrupt();
    }

    /// The deadlines of what it may become, from the press on.
    pub(super) fn deadlines(&self, rules: &RuleSet) -> Vec<(Duration, PendingKind)> {
        let settings = &rules.settings;
        let mut spans = Vec::new();
        if self.may_be_chord {
            spans.push((settings.chord_window, PendingKind::Chord));
        }
        if self.on_tap.is_some() || self.replay_as_tap.is_some() {
            spans.push((settings.tap_timeout, PendingKind::Tap));
        }
        if self.on_double_press.is_some() {
            spans.push((settings.double_press_timeout, PendingKind::DoublePress));
        }
        for trigger in &self.on_hold {
            if let TriggerKind::Key { press: PressKind::Held(span), .. } = rules[*trigger] {
                spans.push((span, PendingKind::Held(*trigger)));
            }
        }
        spans
    }

    /// Takes that it can no longer become this, or has; gives what fires.
    pub(super) fn end_kind(&mut self, kind: PendingKind) -> Option<TriggerRef> {
        let fires = match kind {
            PendingKind::Chord => {
                self.may_be_chord = false;
                None
            }
            PendingKind::Tap => {
                if self.is_down() {
                    self.on_tap = None;
                    self.replay_as_tap = None;
                }
                None
            }
            PendingKind::DoublePress => {
                self.on_double_press = None;
                // The single tap that waited for a second one.
                self.on_tap.take().filter(|_| !self.is_down())
            }
            PendingKind::Held(trigger) => {
                let is_known = self.on_hold.contains(&trigger) && self.is_down();
                self.on_hold.retain(|known| *known != trigger);
                is_known.then_some(trigger)
            }
        };
        if fires.is_some() {
            self.fate = Fate::Taken;
            self.on_tap = None;
            self.on_double_press = None;
        }
        fires
    }
}
