//! The presses of the person's keys: which are pending, which are held, and what each fires.

use std::collections::BTreeMap;

use lantern_model::{
    HeldModifiers, Key, ModifierKey, ModifierSet, PressKind, ReentryPolicy, ReplayKey, RuleId,
    TriggerRef,
};

use super::chords::ChordMatch;
use super::key_press::{KeyPress, RemappedPress, through_remap};
use super::pending_press::{Fate, GestureState, PendingPress, PlainPress, Position};
use super::sequences::{OpenSequence, SequenceProgress};
use super::{KeyDecision, KeyPass, Press, ReleasedWith, Repetition};
use crate::binding_table::Candidate;
use crate::key_state::KeyState;
use crate::key_stroke::KeyStroke;
use crate::timers::{PendingKind, Timer};

/// A decided press whose release matters.
#[derive(Debug)]
struct HeldPress {
    press: Press,
    /// What fires when it goes up.
    on_release: Option<TriggerRef>,
    /// What it fires again and again.
    repeats: Option<TriggerRef>,
}

/// The presses of the person's keys.
#[derive(Debug, Default)]
pub(crate) struct KeyRecognizer {
    press_count: u64,
    held: BTreeMap<Key, HeldPress>,
    /// In the order in which they were pressed.
    pub(super) pending: Vec<PendingPress>,
    pub(super) open_sequences: Vec<OpenSequence>,
    pub(super) state: KeyState,
}

impl KeyRecognizer {
    /// Which keys are down.
    pub(crate) fn state(&self) -> &KeyState {
        &self.state
    }

    pub(crate) fn set_input_device(&mut self, name: &str) {
        self.state.set_input_device(name);
    }

    /// Takes that a key went down that no rule gets.
    pub(crate) fn note_down(&mut self, key: Key) {
        self.state.set_down(key);
    }

    /// Whether every key must be withheld, as a press before it is pending.
    pub(crate) fn withholds_all(&self) -> bool {
        self.pending.iter().any(PendingPress::withholds_all)
    }

    /// Whether the path of the pointer matters, as a shape may be drawn.
    pub(crate) fn needs_pointer_path(&self) -> bool {
        self.pending.iter().any(|pending| pending.is_for_gesture() && pending.is_down())
    }

    /// Whether a press is still down.
    pub(crate) fn is_held(&self, press: Press) -> bool {
        self.held.get(&press.key).is_some_and(|held| held.press == press)
            || self.pending.iter().any(|pending| pending.press == press && pending.is_down())
    }

    /// Replaces the set of rules: pending presses are forgotten, and what held keys fire is what
    /// `change` says.
    pub(crate) fn remap_ids(&mut self, change: impl Fn(TriggerRef) -> Option<TriggerRef>) {
        self.pending.clear();
        self.open_sequences.clear();
        for held in self.held.values_mut() {
            held.on_release = held.on_release.and_then(&change);
            held.repeats = held.repeats.and_then(&change);
        }
    }

    fn next_press(&mut self, key: Key) -> Press {
        self.press_count += 1;
        Press { key, number: self.press_count }
    }

    /// A withheld key went down.
    pub(crate) fn press(&mut self, pass: &mut KeyPass<'_>, key: Key, held: HeldModifiers) {
        let layout = pass.context.layout();
        let stroke = (key, held.modifiers(layout.alt_gr_is_level3));
        self.state.set_down(key);
        self.state.note_stroke(pass.now, stroke);
        let press = self.next_press(key);
        let replay = |output: Vec<Key>, hidden_modifiers: HeldModifiers, is_tap: bool| ReplayKey {
            key,
            output,
            modifiers: held,
            hidden_modifiers,
            is_tap,
            path: Vec::new(),
        };
        let seen = match pass.bindings.remap_for(key, held, stroke.1).cloned() {
            None => KeyPress {
                press,
                stroke,
                held,
                replay: Some(replay(vec![key], HeldModifiers::NONE, false)),
                replay_as_tap: None,
            },
            Some(remap) => {
                let RemappedPress { hidden, held, stroke } =
                    through_remap(pass.context, remap.modifiers, &remap.to, held);
                self.state.set_remapped(key, remap.to.clone());
                KeyPress {
                    press,
                    stroke,
                    held,
                    replay: Some(replay(remap.to, hidden, false)),
                    replay_as_tap: remap.tapped.map(|keys| replay(keys, hidden, true)),
                }
            }
        };
        self.take_press(pass, seen);
    }

    /// A key that is not withheld went down.
    pub(crate) fn raw_press(&mut self, pass: &mut KeyPass<'_>, key: Key) {
        if !self.state.set_down(key) {
            return;
        }
        for pending in self.pending.iter_mut().filter(|pending| pending.press.key != key) {
            pending.interrupt();
        }
        self.resolve(pass);
        let held = self.state.held_modifiers_except(key);
        let stroke = (key, held.modifiers(pass.context.layout().alt_gr_is_level3));
        // What is withheld comes as a press of its own.
        let is_withheld = self.withholds_all() && ModifierKey::of(key).is_none();
        if is_withheld
            || pass.bindings.withholds(pass.rules, stroke)
            || !self.is_wanted(pass, stroke)
        {
            return;
        }
        let press = self.next_press(key);
        self.take_press(pass, KeyPress { press, stroke, held, replay: None, replay_as_tap: None });
    }

    fn is_wanted(&self, pass: &KeyPass<'_>, stroke: KeyStroke) -> bool {
        let bindings = pass.bindings;
        let begins = |stroke| bindings.sequences().iter().any(|s| s.strokes[0].0 == stroke);
        !bindings.candidates(stroke).is_empty()
            || begins(stroke)
            || !self.open_sequences.is_empty()
            || !bindings.completed_chord(stroke.0, stroke.1, self.state.down()).is_empty()
    }

    /// Decides a press, or lets it wait.
    fn take_press(&mut self, pass: &mut KeyPass<'_>, seen: KeyPress) {
        let seen_stroke = seen.stroke;
        if self.is_double_press(pass, &seen) {
            return;
        }
        let stopped = rules_to_stop(pass, seen.stroke, seen.held);
        if !stopped.is_empty() {
            pass.decisions.push(KeyDecision::StopRuns(stopped));
            self.set_held(pass, seen.press, None, None);
            return;
        }
        match self.advance_sequences(pass, &seen) {
            SequenceProgress::Complete => return,
            SequenceProgress::Advanced => {
                let mut pending = PendingPress::new(pass.now, seen);
                pending.may_be_sequence = true;
                self.pending.push(pending);
                return;
            }
            SequenceProgress::None => {}
        }
        match self.complete_chord(pass, &seen) {
            ChordMatch::Remapped => {}
            ChordMatch::Rules(candidates) => {
                self.take_candidates(pass, seen, &candidates, Fate::Taken);
            }
            ChordMatch::None => {
                let bindings = pass.bindings;
                self.take_candidates(pass, seen, bindings.candidates(seen_stroke), Fate::Open);
            }
        }
    }

    /// Takes a press with the candidates for it. One that completes a chord is taken already.
    fn take_candidates(
        &mut self,
        pass: &mut KeyPass<'_>,
        seen: KeyPress,
        candidates: &[Candidate],
        fate: Fate,
    ) {
        let (held, stroke, press) = (seen.held, seen.stroke, seen.press);
        let plain = PlainPress {
            on_press: pass.winner(&self.state, candidates, held, PressKind::Pressed),
            on_release: pass.winner(&self.state, candidates, held, PressKind::Released),
        };
        let on_tap = pass.winner(&self.state, candidates, held, PressKind::Tapped);
        let on_double_press = pass.winner(&self.state, candidates, held, PressKind::DoublePressed);
        let on_hold = pass.hold_winners(&self.state, candidates, held);
        let may_be_chord = fate == Fate::Open && self.may_become_chord(pass, &seen);
        let may_be_sequence = fate == Fate::Open && self.begin_sequences(pass, &seen);
        let mut pending = PendingPress {
            fate,
            may_be_chord,
            may_be_sequence,
            on_tap,
            on_double_press,
            on_hold,
            ..PendingPress::new(pass.now, seen)
        };
        if pending.replay.is_some() && pass.bindings.is_gesture_key(stroke) {
            pending.gesture = GestureState::Possible;
        }
        let is_wanted = is_wanted(pass, plain);
        if pending.has_role_only() && !is_wanted {
            // The key is its first role at once; only the tap is undecided.
            if let Some(key) = pending.replay.take() {
                self.interrupt_all(pass);
                pass.replay(key);
            }
        }
        if !may_be_chord && is_wanted {
            pending.fate = Fate::Taken;
        }
        if !pending.is_open() {
            self.resolve_plain(pass, pending, stroke, plain);
            return;
        }
        for (span, kind) in pending.deadlines(pass.rules) {
            pass.timers.set(Timer::PendingKind(press.number, kind), pass.now + span);
        }
        if pending.is_for_gesture() {
            pass.decisions.push(KeyDecision::StrokeMayBegin(press, stroke));
        }
        if may_be_chord {
            pending.plain = plain;
        } else {
            self.set_held(pass, press, plain.on_release, None);
        }
        self.pending.push(pending);
        if !may_be_chord {
            pass.fire(plain.on_press, press);
        }
        self.resolve(pass);
    }

    /// A press that becomes nothing else fires, or is replayed.
    fn resolve_plain(
        &mut self,
        pass: &mut KeyPass<'_>,
        decided: PendingPress,
        stroke: KeyStroke,
        plain: PlainPress,
    ) {
        // Presses before it come first.
        self.interrupt_all(pass);
        let repeats = plain.on_press.filter(|on| pass.rules[on.rule].repeats_while_held);
        self.set_held(pass, decided.press, plain.on_release, repeats);
        self.begin_repeat(pass, decided.press);
        pass.fire(plain.on_press, decided.press);
        let Some(key) = decided.replay.filter(|_| decided.fate == Fate::Open) else { return };
        if plain == PlainPress::default() && !pass.bindings.candidates(stroke).is_empty() {
            let words = pass.stroke_words(stroke);
            pass.decisions.push(KeyDecision::Unwanted(words));
        }
        pass.replay(key);
    }

    /// Takes a press as decided and down.
    pub(super) fn set_held(
        &mut self,
        pass: &mut KeyPass<'_>,
        press: Press,
        on_release: Option<TriggerRef>,
        repeats: Option<TriggerRef>,
    ) {
        pass.timers.cancel(Timer::Repeat(press.key));
        self.held.insert(press.key, HeldPress { press, on_release, repeats });
    }

    fn begin_repeat(&mut self, pass: &mut KeyPass<'_>, press: Press) {
        if self.held.get(&press.key).is_some_and(|held| held.repeats.is_some()) {
            let due = pass.now + pass.context.layout().repeat.delay;
            pass.timers.set(Timer::Repeat(press.key), due);
        }
    }

    /// A held key is due to repeat.
    pub(crate) fn repeat(&mut self, pass: &mut KeyPass<'_>, key: Key) {
        let Some(held) = self.held.get(&key) else { return };
        let Some(trigger) = held.repeats else { return };
        let due = pass.now + pass.context.layout().repeat.interval;
        pass.timers.set(Timer::Repeat(key), due);
        let (press, repetition) = (held.press, Repetition::Repeat);
        pass.decisions.push(KeyDecision::Fire { trigger, press, repetition });
    }

    /// Takes that a key is up, before it is decided what its release means. Gives the press of it with
    /// which a shape may be drawn.
    pub(crate) fn note_up(&mut self, key: Key) -> Option<Press> {
        self.state.set_up(key);
        let drawn = |pending: &&PendingPress| {
            pending.press.key == key && pending.is_down() && pending.is_for_gesture()
        };
        self.pending.iter().find(drawn).map(|pending| pending.press)
    }

    /// A key whose release matters went up, after [`KeyRecognizer::note_up`].
    pub(crate) fn release(&mut self, pass: &mut KeyPass<'_>, key: Key, with: ReleasedWith) {
        let mut fires = None;
        let mut as_tap = None;
        let is_it = |pending: &&mut PendingPress| pending.press.key == key && pending.is_down();
        if let Some(pending) = self.pending.iter_mut().find(is_it) {
            if with == ReleasedWith::Stroke {
                pending.interrupt();
            }
            let is_soon = pass.now.since(pending.at) <= pass.rules.settings.tap_timeout;
            pending.position = Position::Up;
            pending.may_be_chord = false;
            if pending.is_for_gesture() {
                pending.gesture = GestureState::None;
            }
            pending.on_hold.clear();
            if let Some(replay) = pending.replay_as_tap.take().filter(|_| is_soon) {
                as_tap = Some((replay, pending.press));
            }
            if is_soon && pending.on_double_press.is_none() {
                fires = pending.on_tap.take().map(|trigger| (trigger, pending.press));
                if fires.is_some() {
                    pending.fate = Fate::Taken;
                }
            } else if !is_soon {
                pending.on_tap = None;
            }
        }
        if let Some((trigger, press)) = fires {
            pass.fire(Some(trigger), press);
        }
        self.resolve(pass);
        self.end_held(pass, key);
        if let Some((replay, press)) = as_tap {
            self.replay_tap(pass, replay, press);
        }
    }

    /// A remapped key was tapped: rules see what it then is as well.
    fn replay_tap(&mut self, pass: &mut KeyPass<'_>, replay: ReplayKey, press: Press) {
        let RemappedPress { held, stroke, .. } =
            through_remap(pass.context, ModifierSet::NONE, &replay.output, replay.modifiers);
        let bindings = pass.bindings;
        let candidates = bindings.candidates(stroke);
        let trigger = pass.winner(&self.state, candidates, held, PressKind::Pressed);
        pass.fire(trigger, press);
        if trigger.is_none_or(|trigger| pass.passes_through(trigger)) {
            pass.replay(replay);
        }
    }

    fn end_held(&mut self, pass: &mut KeyPass<'_>, key: Key) {
        let Some(held) = self.held.remove(&key) else { return };
        pass.timers.cancel(Timer::Repeat(key));
        pass.decisions.push(KeyDecision::EndHeldRuns(key));
        pass.fire(held.on_release, held.press);
    }

    /// What a press could have become has not come in time, or has.
    pub(crate) fn end_pending_kind(
        &mut self,
        pass: &mut KeyPass<'_>,
        press: u64,
        kind: PendingKind,
    ) {
        let Some(pending) = self.pending_press(press) else { return };
        let (fires, press) = (pending.end_kind(kind), pending.press);
        pass.fire(fires, press);
        self.resolve(pass);
    }

    /// Takes the second press of a key that was waited for; whether it is one.
    fn is_double_press(&mut self, pass: &mut KeyPass<'_>, seen: &KeyPress) -> bool {
        let is_first = |pending: &PendingPress| {
            pending.press.key == seen.press.key
                && !pending.is_down()
                && pending.on_double_press.is_some()
        };
        let Some(at) = self.pending.iter().position(is_first) else { return false };
        let first = self.pending.remove(at);
        self.set_held(pass, seen.press, None, None);
        pass.fire(first.on_double_press, seen.press);
        self.resolve(pass);
        true
    }

    /// Another key came: presses that need to be alone, or in a chord, are neither.
    pub(super) fn interrupt_all(&mut self, pass: &mut KeyPass<'_>) {
        for pending in &mut self.pending {
            pending.may_be_chord = false;
        }
        self.interrupt_single(pass);
    }

    /// Ends what needs a press without another key: taps, double presses, long presses. Chords stay
    /// open.
    pub(super) fn interrupt_single(&mut self, pass: &mut KeyPass<'_>) {
        let mut taps = Vec::new();
        for pending in &mut self.pending {
            // A tap that waited for a second one is a single one.
            if !pending.is_down()
                && pending.on_double_press.is_some()
                && let Some(trigger) = pending.on_tap
            {
                pending.fate = Fate::Taken;
                taps.push((trigger, pending.press));
            }
            pending.interrupt();
        }
        for (trigger, press) in taps {
            pass.fire(Some(trigger), press);
        }
        self.resolve(pass);
    }

    /// Resolves pending presses in their order, up to the first that is open.
    pub(crate) fn resolve(&mut self, pass: &mut KeyPass<'_>) {
        while self.pending.first().is_some_and(|first| !first.is_open()) {
            let decided = self.pending.remove(0);
            self.resolve_press(pass, decided);
        }
    }

    fn resolve_press(&mut self, pass: &mut KeyPass<'_>, decided: PendingPress) {
        let (plain, press) = (decided.plain, decided.press);
        let is_taken = decided.is_taken() || is_wanted(pass, plain);
        if plain != PlainPress::default() {
            if decided.is_down() {
                let repeats = plain.on_press.filter(|on| pass.rules[on.rule].repeats_while_held);
                self.set_held(pass, press, plain.on_release, repeats);
                self.begin_repeat(pass, press);
                pass.fire(plain.on_press, press);
            } else {
                pass.fire(plain.on_press, press);
                pass.fire(plain.on_release, press);
            }
        }
        let is_tap = !decided.is_down();
        if let Some(replay) = decided.replay.filter(|_| !is_taken) {
            pass.replay(ReplayKey { is_tap, ..replay });
        }
    }

    /// Replays everything that is pending: nothing fires any more that it waited for.
    pub(crate) fn replay_all(&mut self, pass: &mut KeyPass<'_>) {
        self.open_sequences.clear();
        pass.timers.cancel(Timer::Sequence);
        for pending in &mut self.pending {
            pending.may_be_sequence = false;
            pending.on_tap = None;
            pending.plain = PlainPress::default();
        }
        self.interrupt_all(pass);
    }

    pub(super) fn pending_press(&mut self, number: u64) -> Option<&mut PendingPress> {
        self.pending.iter_mut().find(|pending| pending.press.number == number)
    }
}

/// Whether a rule that withholds the key fires by a press that becomes nothing else.
fn is_wanted(pass: &KeyPass<'_>, plain: PlainPress) -> bool {
    let triggers = [plain.on_press, plain.on_release].into_iter().flatten();
    triggers.into_iter().any(|trigger| !pass.passes_through(trigger))
}

/// The `again stops` rules with live runs that the stroke is a trigger of.
fn rules_to_stop(pass: &KeyPass<'_>, stroke: KeyStroke, held: HeldModifiers) -> Vec<RuleId> {
    let candidates = pass.bindings.candidates(stroke).iter();
    candidates
        .filter(|candidate| candidate.has_modifier_keys(held))
        .map(|candidate| candidate.trigger.rule)
        .filter(|rule| pass.rules[*rule].reentry == ReentryPolicy::Toggle)
        .filter(|rule| (pass.is_running)(*rule))
        .collect()
}
