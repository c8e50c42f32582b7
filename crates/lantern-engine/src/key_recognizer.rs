//! The person's keys: what a press fires at once, what must wait to be told, what is given back,
//! and what is another key than it seems.
//!
//! A withheld press that may still become several things waits. While one does, every key is
//! withheld, so that all are given back in the order in which they were pressed.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use lantern_model::{
    EffectKind, HeldModifiers, Key, KeyCombination, KeySpec, ModifierKey, PressKind, ReplayKey,
    Time, TriggerKind, Value,
};

use crate::activation::{Activation, Press};
use crate::binding_table::{Candidate, KeyStroke};
use crate::chords::ChordMatch;
use crate::decision_log::{CHARACTER, DecisionKind, StopCause};
use crate::engine::Engine;
use crate::pending_press::PendingPress;
use crate::sequences::SequenceProgress;
use crate::timers::Timer;

/// A rule and its trigger.
pub(crate) type Won = (usize, usize);

/// A press whose release matters.
#[derive(Debug)]
pub(crate) struct HeldPress {
    pub press: Press,
    /// What fires when it goes up.
    on_release: Option<Won>,
    /// What it fires again and again.
    repeats: Option<Won>,
}

/// How far a sequence is.
#[derive(Debug, Clone, Copy)]
pub(crate) struct OpenSequence {
    /// Its number in the table.
    pub sequence: usize,
    /// How many of its keys came.
    pub matched: usize,
}

/// What is known of the person's keys.
#[derive(Debug, Default)]
pub(crate) struct KeyRecognizer {
    press_count: u64,
    pub held: BTreeMap<Key, HeldPress>,
    pub pending: Vec<PendingPress>,
    pub open_sequences: Vec<OpenSequence>,
    /// Keys that the person holds, of those that the back end reports.
    pub raw_keys_down: BTreeSet<Key>,
    /// When each that rules want was pressed last.
    pub last_pressed: BTreeMap<KeyStroke, Time>,
    /// Keys that are others as long as they are down.
    pub remapped: BTreeMap<Key, Vec<Key>>,
    /// The input device of the last key, in lower case.
    pub input_device: String,
}

impl KeyRecognizer {
    /// Whether every key must be withheld, as one before it waits to be told.
    pub(crate) fn withholds_all(&self) -> bool {
        self.pending.iter().any(|waiting| waiting.replay.is_some() && !waiting.is_taken)
    }

    /// The press with that number, if it is not decided.
    pub(crate) fn waiting(&mut self, number: u64) -> Option<&mut PendingPress> {
        self.pending.iter_mut().find(|waiting| waiting.press.number == number)
    }

    /// Whether the pointer's way matters, as a shape may be drawn.
    pub(crate) fn traces(&self) -> bool {
        self.pending.iter().any(|waiting| waiting.may_be_gesture && !waiting.is_released)
    }

    /// Whether the person holds a key down, seen through remaps.
    pub(crate) fn is_down(&self, key: Key) -> bool {
        let itself = self.raw_keys_down.contains(&key) && !self.remapped.contains_key(&key);
        itself || self.remapped.values().any(|keys| keys.contains(&key))
    }

    /// Keys that wait to be told wait no more; what those that are down belong to is changed as
    /// `change` says.
    pub(crate) fn remap_ids(&mut self, change: impl Fn(Won) -> Option<Won>) {
        self.pending.clear();
        self.open_sequences.clear();
        for down in self.held.values_mut() {
            down.on_release = down.on_release.and_then(&change);
            down.repeats = down.repeats.and_then(&change);
        }
    }

    fn next(&mut self, key: Key) -> Press {
        self.press_count += 1;
        Press { key, number: self.press_count }
    }
}

/// A press as rules see it, and how the program would get it.
#[derive(Debug)]
pub(crate) struct KeyPress {
    pub press: Press,
    pub stroke: KeyStroke,
    pub held: HeldModifiers,
    /// How the program gets it; nothing if it has it already.
    pub replay: Option<ReplayKey>,
    pub replay_as_tap: Option<ReplayKey>,
}

fn escape() -> Key {
    Key::named("escape").expect("escape stands in the key table")
}

impl Engine {
    /// A withheld key went down.
    pub(crate) fn handle_press(&mut self, now: Time, key: Key, held: HeldModifiers) {
        let stroke = (key, held.modifiers(self.layout.alt_gr_is_level3));
        if self.bindings.is_panic(stroke) {
            self.panic(now, StopCause::PanicKey);
            return;
        }
        self.keys.raw_keys_down.insert(key);
        if self.is_drawing() && key == escape() {
            self.cancel_drawing(now, "escape was pressed");
            return;
        }
        self.keys.last_pressed.insert(stroke, now);
        let press = self.keys.next(key);
        let give = |becomes: Vec<Key>, hide: HeldModifiers, tap: bool| ReplayKey {
            key,
            output: becomes,
            modifiers: held,
            hidden_modifiers: hide,
            is_tap: tap,
            path: Vec::new(),
        };
        let stand = self.bindings.remap_for(key, held, stroke.1).cloned();
        let seen = match stand {
            None => KeyPress {
                press,
                stroke,
                held,
                replay: Some(give(vec![key], HeldModifiers::NONE, false)),
                replay_as_tap: None,
            },
            Some(stand) => {
                let (becomes, tapped) = (stand.to, stand.tapped);
                let (hide, held, stroke) = self.through_remap(stand.modifiers, &becomes, held);
                self.keys.remapped.insert(key, becomes.clone());
                KeyPress {
                    press,
                    stroke,
                    held,
                    replay: Some(give(becomes, hide, false)),
                    replay_as_tap: tapped.map(|keys| give(keys, hide, true)),
                }
            }
        };
        self.take_press(now, seen);
        self.request_grabs();
    }

    /// What a remapped press hides from the program, and the stroke that rules see.
    pub(crate) fn through_remap(
        &self,
        from: lantern_model::ModifierSet,
        becomes: &[Key],
        held: HeldModifiers,
    ) -> (HeldModifiers, HeldModifiers, KeyStroke) {
        let (last, with) = becomes.split_last().expect("a combination has a key");
        let with: HeldModifiers = with.iter().filter_map(|key| ModifierKey::of(*key)).collect();
        let named = |side: &ModifierKey| {
            from.contains(self.layout.modifier(*side)) && !with.contains(*side)
        };
        let hide: HeldModifiers = held.iter().filter(named).collect();
        let left: HeldModifiers = held.iter().filter(|side| !hide.contains(*side)).collect();
        let seen = with.iter().fold(left, HeldModifiers::with);
        (hide, seen, (*last, seen.modifiers(self.layout.alt_gr_is_level3)))
    }

    /// A key of the person's moved, withheld or not.
    pub(crate) fn handle_raw_key(&mut self, now: Time, key: Key, down: bool) {
        if !down {
            let known = self.keys.raw_keys_down.remove(&key);
            if known {
                self.handle_release(now, key);
            }
            return;
        }
        if !self.keys.raw_keys_down.insert(key) {
            return;
        }
        for waiting in &mut self.keys.pending {
            if waiting.press.key != key {
                waiting.interrupt();
            }
        }
        self.resolve(now);
        let held: HeldModifiers = ModifierKey::ALL
            .into_iter()
            .filter(|side| side.key() != key && self.keys.is_down(side.key()))
            .collect();
        let stroke = (key, held.modifiers(self.layout.alt_gr_is_level3));
        let rules = Arc::clone(&self.rules);
        // What is withheld comes as a press of its own.
        let withheld = self.keys.withholds_all() && ModifierKey::of(key).is_none();
        if withheld || self.bindings.withholds(&rules, stroke) || !self.is_wanted(stroke) {
            self.request_grabs();
            return;
        }
        let press = self.keys.next(key);
        self.take_press(now, KeyPress { press, stroke, held, replay: None, replay_as_tap: None });
        self.request_grabs();
    }

    fn is_wanted(&self, stroke: KeyStroke) -> bool {
        let begins =
            |stroke: KeyStroke| self.bindings.sequences.iter().any(|s| s.strokes[0].0 == stroke);
        !self.bindings.candidates(stroke).is_empty()
            || begins(stroke)
            || !self.keys.open_sequences.is_empty()
            || !self
                .bindings
                .completed_chord(stroke.0, stroke.1, &self.keys.raw_keys_down)
                .is_empty()
    }

    /// Decides a press, or lets it wait.
    fn take_press(&mut self, now: Time, seen: KeyPress) {
        if self.is_double_press(now, &seen) {
            return;
        }
        if self.stop_by_trigger(now, seen.stroke, seen.held) {
            self.set_down(seen.press, None, None);
            return;
        }
        match self.advance_sequences(now, &seen) {
            SequenceProgress::Through => return,
            SequenceProgress::On => {
                let mut waiting = PendingPress::new(now, seen);
                waiting.may_be_sequence = true;
                self.keys.pending.push(waiting);
                return;
            }
            SequenceProgress::Nowhere => {}
        }
        let candidates = match self.complete_chord(now, &seen) {
            ChordMatch::Remapped => return,
            ChordMatch::Rules(candidates) => Some(candidates),
            ChordMatch::No => None,
        };
        let watch = Arc::clone(&self.bindings);
        let chorded = candidates.is_some();
        let candidates = candidates.as_deref().unwrap_or_else(|| watch.candidates(seen.stroke));
        self.take_candidates(now, seen, candidates, chorded);
    }

    fn take_candidates(
        &mut self,
        now: Time,
        seen: KeyPress,
        candidates: &[Candidate],
        chorded: bool,
    ) {
        let rules = Arc::clone(&self.rules);
        let mut winner = |manner| self.winner(now, candidates, seen.held, manner);
        let pressed = winner(Some(PressKind::Pressed));
        let released = winner(Some(PressKind::Released));
        let tapped = winner(Some(PressKind::Tapped));
        let twice = winner(Some(PressKind::DoublePressed));
        let held = self.held_winners(now, candidates, seen.held);
        let chord = !chorded && self.may_become_chord(&seen);
        let sequence = !chorded && self.begin_sequences(now, &seen);
        let stroke = seen.stroke;
        let mut waiting = PendingPress::new(now, seen);
        waiting.may_be_chord = chord;
        waiting.may_be_sequence = sequence;
        waiting.may_be_gesture = waiting.replay.is_some() && self.bindings.is_drawing(stroke);
        waiting.on_tap = tapped;
        waiting.on_double_press = twice;
        waiting.on_hold = held;
        let passes = |won: &Won| rules.rules[won.0].passes_key_through;
        let wanted = [pressed, released].into_iter().flatten().any(|won| !passes(&won));
        if waiting.has_role_only() && !wanted {
            // The key is its first role at once; only the tap is still to be told.
            if let Some(give) = waiting.replay.take() {
                self.interrupt_all(now);
                self.emit(None, EffectKind::ReplayKey(give));
            }
        }
        if !chord {
            waiting.is_taken = chorded || wanted;
        }
        if !waiting.is_open() {
            self.resolve_tap(now, waiting, stroke, [pressed, released]);
            return;
        }
        let press = waiting.press;
        self.set_pending_timers(now, &waiting);
        if waiting.may_be_gesture {
            self.begin_stroke(now, press, stroke);
        }
        if chord {
            (waiting.otherwise_on_press, waiting.otherwise_on_release) = (pressed, released);
        } else {
            self.set_down(press, released, None);
        }
        self.keys.pending.push(waiting);
        if !chord {
            self.fire_pressed(now, pressed, press);
        }
        self.resolve(now);
    }

    /// Nothing has to be waited for: fires, or gives the key to the program.
    fn resolve_tap(
        &mut self,
        now: Time,
        decided: PendingPress,
        stroke: KeyStroke,
        [pressed, released]: [Option<Won>; 2],
    ) {
        // Whatever waits before it comes first.
        self.interrupt_all(now);
        let repeats = pressed.filter(|won| self.rules.rules[won.0].repeats_while_held);
        self.set_down(decided.press, released, repeats);
        self.begin_repeat(now, decided.press);
        self.fire_pressed(now, pressed, decided.press);
        let Some(give) = decided.replay.filter(|_| !decided.is_taken) else { return };
        if pressed.is_none() && released.is_none() && !self.bindings.candidates(stroke).is_empty() {
            let words = self.stroke_words(stroke);
            self.record_decision(now, None, DecisionKind::Replayed(words));
        }
        self.emit(None, EffectKind::ReplayKey(give));
    }

    fn stroke_words(&self, stroke: KeyStroke) -> String {
        let candidate = self.bindings.candidates(stroke).first();
        let cause = candidate.map(|c| &self.rules.rules[c.rule].triggers[c.trigger].kind);
        match cause {
            Some(TriggerKind::Key { combo, .. }) if combo.types_character() => CHARACTER.to_owned(),
            Some(TriggerKind::Key { combo, .. }) => combo.to_string(),
            _ if KeyCombination::with(stroke.1, stroke.0).types_character() => CHARACTER.to_owned(),
            _ => stroke.0.to_string(),
        }
    }

    pub(crate) fn fire_pressed(&mut self, now: Time, won: Option<Won>, press: Press) {
        if let Some((rule, trigger)) = won {
            self.fire_key(now, rule, trigger, press, false);
        }
    }

    /// Fires a rule by a key.
    pub(crate) fn fire_key(
        &mut self,
        now: Time,
        rule: usize,
        trigger: usize,
        press: Press,
        is_repeat: bool,
    ) {
        let brings = match &self.rules.rules[rule].triggers[trigger].kind {
            TriggerKind::Key { payload_key: brings, .. } => KeyCombination::of(*brings),
            TriggerKind::Keys { combos, .. } => {
                let last: Option<KeySpec> = combos.last().and_then(KeyCombination::last);
                last.map_or_else(KeyCombination::default, KeyCombination::of)
            }
            _ => KeyCombination::default(),
        };
        let brought = Value::Key(brings);
        let firing = Activation {
            trigger,
            press: Some(press),
            payload: brought,
            typed_characters: 0,
            is_repeat,
        };
        self.fire(now, rule, firing);
    }

    pub(crate) fn set_down(&mut self, press: Press, on_release: Option<Won>, repeats: Option<Won>) {
        self.timers.cancel(Timer::Repeat(press.key));
        self.keys.held.insert(press.key, HeldPress { press, on_release, repeats });
    }

    pub(crate) fn begin_repeat(&mut self, now: Time, press: Press) {
        let repeats = self.keys.held.get(&press.key).is_some_and(|down| down.repeats.is_some());
        if repeats {
            let due = now + self.layout.repeat.delay;
            self.timers.set(Timer::Repeat(press.key), due);
        }
    }

    /// The first rule among candidates of that manner whose condition holds.
    pub(crate) fn winner(
        &mut self,
        now: Time,
        candidates: &[Candidate],
        held: HeldModifiers,
        manner: Option<PressKind>,
    ) -> Option<Won> {
        let fits = |candidate: &&Candidate| {
            !candidate.stops_only
                && manner.is_none_or(|manner| candidate.press == manner)
                && candidate.fits(held)
        };
        let found = candidates.iter().filter(fits).find(|found| self.may_fire(now, found.rule));
        found.map(|found| (found.rule, found.trigger))
    }

    fn held_winners(
        &mut self,
        now: Time,
        candidates: &[Candidate],
        held: HeldModifiers,
    ) -> Vec<Won> {
        let manners = candidates.iter().map(|candidate| candidate.press);
        let mut spans: Vec<PressKind> =
            manners.filter(|manner| matches!(manner, PressKind::Held(_))).collect();
        spans.sort();
        spans.dedup();
        let winner = |span| self.winner(now, candidates, held, Some(span));
        spans.into_iter().filter_map(winner).collect()
    }

    /// A key whose release matters went up.
    pub(crate) fn handle_release(&mut self, now: Time, key: Key) {
        self.keys.raw_keys_down.remove(&key);
        self.keys.remapped.remove(&key);
        let mut fires = None;
        let mut as_tap = None;
        let is_it = |w: &PendingPress| w.press.key == key && !w.is_released;
        let drawn = self.keys.pending.iter().find(|w| is_it(w) && w.may_be_gesture);
        let drawn = drawn.map(|w| w.press.number).is_some_and(|n| self.end_stroke(now, n));
        let found = self.keys.pending.iter_mut().find(|w| is_it(w));
        if let Some(waiting) = found {
            if drawn {
                waiting.interrupt();
            }
            let soon = now.since(waiting.at) <= self.rules.settings.tap_timeout;
            waiting.is_released = true;
            waiting.may_be_chord = false;
            waiting.may_be_gesture = false;
            waiting.on_hold.clear();
            if let Some(give) = waiting.replay_as_tap.take().filter(|_| soon) {
                as_tap = Some((give, waiting.press));
            }
            if soon && waiting.on_double_press.is_none() {
                fires = waiting.on_tap.take().map(|won| (won, waiting.press));
                waiting.is_taken |= fires.is_some();
            } else if !soon {
                waiting.on_tap = None;
            }
        }
        if let Some(((rule, trigger), press)) = fires {
            self.fire_key(now, rule, trigger, press, false);
        }
        self.resolve(now);
        self.end_down(now, key);
        if let Some((give, press)) = as_tap {
            self.tap_as(now, give, press);
        }
        self.request_grabs();
    }

    /// A remapped key was tapped: what it then is, is seen by rules as well.
    fn tap_as(&mut self, now: Time, give: ReplayKey, press: Press) {
        let (_, held, stroke) =
            self.through_remap(lantern_model::ModifierSet::NONE, &give.output, give.modifiers);
        let watch = Arc::clone(&self.bindings);
        let won = self.winner(now, watch.candidates(stroke), held, Some(PressKind::Pressed));
        self.fire_pressed(now, won, press);
        if won.is_none_or(|won| self.rules.rules[won.0].passes_key_through) {
            self.emit(None, EffectKind::ReplayKey(give));
        }
    }

    fn end_down(&mut self, now: Time, key: Key) {
        let Some(down) = self.keys.held.remove(&key) else { return };
        self.timers.cancel(Timer::Repeat(key));
        self.end_held_runs(now, key);
        if let Some((rule, trigger)) = down.on_release {
            self.fire_key(now, rule, trigger, down.press, false);
        }
    }

    /// A held key is due to repeat.
    pub(crate) fn handle_repeat(&mut self, now: Time, key: Key) {
        let down = self.keys.held.get(&key);
        let Some((press, (rule, trigger))) =
            down.and_then(|down| Some((down.press, down.repeats?)))
        else {
            return;
        };
        let due = now + self.layout.repeat.interval;
        self.timers.set(Timer::Repeat(key), due);
        self.fire_key(now, rule, trigger, press, true);
    }

    /// Whether the press a run began with is still down.
    pub(crate) fn is_held(&self, press: Option<Press>) -> bool {
        press.is_some_and(|press| {
            let down = self.keys.held.get(&press.key);
            down.is_some_and(|down| down.press == press)
                || self.keys.pending.iter().any(|w| w.press == press && !w.is_released)
        })
    }
}
