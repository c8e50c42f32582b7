//! The table from a key stroke to the rules that want it, in the present context and layout. It also
//! gives the grabs that the back end needs.
//!
//! It is rebuilt when the context or the layout changes, from the rules that may apply. A press costs
//! one look-up, for any number of rules.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use lantern_model::{
    ContextFilter, GrabSet, HeldModifiers, Key, KeyCombination, KeyGrab, Layout, ModifierKey,
    ModifierSet, PressKind, ReentryPolicy, Remap, Rule, RuleId, RuleSet, TriggerKind, TriggerRef,
};

use crate::context::Context;
use crate::key_stroke::{KeyStroke, MissingKey, chord_of, key_stroke_of, key_strokes_of, lacking};

/// A rule that wants a stroke, or keys together.
#[derive(Debug, Clone)]
pub(crate) struct Candidate {
    pub trigger: TriggerRef,
    pub press: PressKind,
    /// Modifier keys of one side that must be down.
    modifier_keys: Vec<ModifierKey>,
    /// Only its live run may hear it, to stop.
    pub stops_only: bool,
}

impl Candidate {
    /// Whether the modifier keys of one side that it wants are down.
    pub(crate) fn has_modifier_keys(&self, held: HeldModifiers) -> bool {
        self.modifier_keys.iter().all(|side| held.contains(*side))
    }
}

/// Several plain keys together.
#[derive(Debug, Clone)]
pub(crate) struct Chord {
    /// The plain keys.
    pub keys: BTreeSet<Key>,
    /// The modifiers that must be down, exactly.
    pub modifiers: ModifierSet,
    pub target: ChordTarget,
}

#[derive(Debug, Clone)]
pub(crate) enum ChordTarget {
    Rule(Candidate),
    Remap(usize),
}

/// Keys one after another.
#[derive(Debug, Clone)]
pub(crate) struct KeySequence {
    pub trigger: TriggerRef,
    pub strokes: Vec<(KeyStroke, Vec<ModifierKey>)>,
    pub timeout: Duration,
}

/// A key that stands for others.
#[derive(Debug, Clone)]
pub(crate) struct ActiveRemap {
    pub remap: usize,
    pub modifiers: ModifierSet,
    modifier_keys: Vec<ModifierKey>,
    /// What goes down in its place, in order.
    pub to: Vec<Key>,
    pub tapped: Option<Vec<Key>>,
}

impl ActiveRemap {
    fn fits(&self, held: HeldModifiers, families: ModifierSet) -> bool {
        self.modifiers.iter().all(|family| families.contains(family))
            && self.modifier_keys.iter().all(|side| held.contains(*side))
    }
}

/// The table.
#[derive(Debug, Default)]
pub(crate) struct BindingTable {
    /// Candidates by the key's number in the table, then by families.
    strokes: Vec<BTreeMap<ModifierSet, Vec<Candidate>>>,
    chords: BTreeMap<Key, Vec<Chord>>,
    sequences: Vec<KeySequence>,
    remaps: BTreeMap<Key, Vec<ActiveRemap>>,
    /// What is held while a shape is drawn.
    gesture_keys: BTreeSet<KeyStroke>,
    panic: Option<KeyStroke>,
    missing_keys: Vec<MissingCombination>,
}

/// A combination that this keyboard does not have.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct MissingCombination {
    /// The rule that wants it; none for a remap or the panic combination.
    pub rule: Option<RuleId>,
    /// The combination and the key that is missing.
    pub words: String,
}

/// Rules by the filters they have.
#[derive(Debug, Default)]
pub(crate) struct RuleIndex {
    everywhere: Vec<RuleId>,
    by_app: BTreeMap<String, Vec<RuleId>>,
    by_layer: BTreeMap<usize, Vec<RuleId>>,
}

impl RuleIndex {
    /// An index of the rules that some key fires.
    pub(crate) fn new(rules: &RuleSet) -> RuleIndex {
        let mut index = RuleIndex::default();
        for (id, rule) in rules.numbered_rules() {
            if rule.triggers.iter().any(|trigger| is_of_keys(&trigger.kind)) {
                index.add(id, &rule.filter);
            }
        }
        index
    }

    fn add(&mut self, rule: RuleId, scope: &ContextFilter) {
        if let Some(layer) = scope.layer {
            self.by_layer.entry(layer.0).or_default().push(rule);
        } else if let Some(apps) = &scope.apps {
            for app in apps {
                self.by_app.entry(app.clone()).or_default().push(rule);
            }
        } else {
            self.everywhere.push(rule);
        }
    }

    /// The rules that may apply in a context, each once, in the order of the file.
    fn rules_in(&self, context: &Context) -> BTreeSet<RuleId> {
        let named = context.app().names.iter().filter_map(|name| self.by_app.get(name)).flatten();
        let layered =
            context.layers().iter().filter_map(|layer| self.by_layer.get(&layer.0)).flatten();
        self.everywhere.iter().chain(named).chain(layered).copied().collect()
    }
}

fn is_of_keys(cause: &TriggerKind) -> bool {
    matches!(
        cause,
        TriggerKind::Key { .. } | TriggerKind::Keys { .. } | TriggerKind::Gesture { .. }
    )
}

impl BindingTable {
    /// The table for a context. `running` are the rules with live runs that their own trigger stops
    /// in any context.
    pub(crate) fn new(
        rules: &RuleSet,
        index: &RuleIndex,
        context: &Context,
        running: &[RuleId],
    ) -> BindingTable {
        let layout = context.layout();
        let mut table = BindingTable {
            strokes: Key::all().map(|_| BTreeMap::new()).collect(),
            ..BindingTable::default()
        };
        match key_stroke_of(&rules.settings.panic.0, layout) {
            Ok((stroke, _)) => table.panic = Some(stroke),
            Err(key) => {
                let words = format!("panic: {}", lacking(&rules.settings.panic, key));
                table.missing_keys.push(MissingCombination { rule: None, words });
            }
        }
        let applying: Vec<RuleId> = index
            .rules_in(context)
            .into_iter()
            .filter(|rule| context.allows(&rules[*rule]))
            .collect();
        for rule in &applying {
            table.add_rule(rules, *rule, false, layout);
        }
        for rule in running.iter().filter(|rule| applying.binary_search(rule).is_err()) {
            table.add_rule(rules, *rule, true, layout);
        }
        if !context.is_locked() && !context.is_all_paused() {
            for (number, remap) in rules.remaps.iter().enumerate() {
                if context.is_in(&remap.filter) {
                    table.add_remap(number, remap, layout);
                }
            }
        }
        table.sort(rules, context);
        table
    }

    fn add_rule(&mut self, rules: &RuleSet, rule: RuleId, stops_only: bool, layout: &Layout) {
        for (number, wanted) in rules[rule].triggers.iter().enumerate() {
            let trigger = TriggerRef { rule, trigger: number };
            let result = match &wanted.kind {
                TriggerKind::Key { combo, press, .. } => {
                    let candidate =
                        Candidate { trigger, press: *press, modifier_keys: Vec::new(), stops_only };
                    self.add_key(combo, candidate, layout).map_err(|lack| lacking(combo, lack))
                }
                TriggerKind::Keys { combos, timeout: within } => {
                    let within = *within;
                    let mut ways = vec![Vec::new()];
                    let steps = combos.iter().try_for_each(|combo| {
                        let strokes =
                            key_strokes_of(combo, layout).map_err(|lack| lacking(combo, lack))?;
                        ways = ways
                            .iter()
                            .flat_map(|way: &Vec<_>| {
                                let longer = |stroke| [way.as_slice(), &[stroke]].concat();
                                strokes.iter().cloned().map(longer)
                            })
                            .collect();
                        Ok(())
                    });
                    if steps.is_ok() {
                        let sequence = |strokes| KeySequence { trigger, strokes, timeout: within };
                        self.sequences.extend(ways.into_iter().map(sequence));
                    }
                    steps
                }
                TriggerKind::Gesture { holding, .. } => key_stroke_of(&holding.0, layout)
                    .map(|(stroke, _)| {
                        self.gesture_keys.insert(stroke);
                    })
                    .map_err(|key| lacking(holding, key)),
                _ => Ok(()),
            };
            if let Err(words) = result {
                self.missing_keys.push(MissingCombination { rule: Some(rule), words });
            }
        }
    }

    fn add_key(
        &mut self,
        combo: &KeyCombination,
        made: Candidate,
        layout: &Layout,
    ) -> Result<(), MissingKey> {
        if combo.0.iter().filter(|key| !key.is_modifier()).count() > 1 {
            let chord = chord_of(combo, layout)?;
            let (keys, families, sides) = chord;
            let what = ChordTarget::Rule(Candidate { modifier_keys: sides, ..made });
            self.add_chord(Chord { keys, modifiers: families, target: what });
            return Ok(());
        }
        let strokes = key_strokes_of(combo, layout)?;
        for ((key, families), sides) in strokes {
            let of_key = &mut self.strokes[key.index()];
            of_key
                .entry(families)
                .or_default()
                .push(Candidate { modifier_keys: sides, ..made.clone() });
        }
        Ok(())
    }

    fn add_chord(&mut self, chord: Chord) {
        for key in &chord.keys {
            self.chords.entry(*key).or_default().push(chord.clone());
        }
    }

    fn add_remap(&mut self, number: usize, remap: &Remap, layout: &Layout) {
        let to = layout.press_order(&remap.to);
        let tapped = remap.tapped.as_ref().map(|combo| layout.press_order(combo)).transpose();
        let (to, tapped) = match (to, tapped) {
            (Ok(to), Ok(tapped)) => (to, tapped),
            (Err(key), _) | (_, Err(key)) => {
                self.add_missing_remap(lacking(&remap.to, key));
                return;
            }
        };
        let plain = remap.from.0.iter().filter(|key| !key.is_modifier()).count();
        let result = if plain > 1 {
            chord_of(&remap.from, layout).map_err(MissingKey::from).map(|(keys, families, _)| {
                self.add_chord(Chord {
                    keys,
                    modifiers: families,
                    target: ChordTarget::Remap(number),
                });
            })
        } else {
            key_stroke_of(&remap.from.0, layout).map(|((key, families), sides)| {
                let stand = ActiveRemap {
                    remap: number,
                    modifiers: families,
                    modifier_keys: sides,
                    to,
                    tapped,
                };
                self.remaps.entry(key).or_default().push(stand);
            })
        };
        if let Err(key) = result {
            self.add_missing_remap(lacking(&remap.from, key));
        }
    }

    fn add_missing_remap(&mut self, combination: String) {
        let words = format!("remap: {combination}");
        self.missing_keys.push(MissingCombination { rule: None, words });
    }

    fn sort(&mut self, rules: &RuleSet, context: &Context) {
        for candidates in self.strokes.iter_mut().flat_map(BTreeMap::values_mut) {
            candidates.sort_by_key(|candidate| Precedence::new(rules, context, candidate));
        }
        for chords in self.chords.values_mut() {
            chords.sort_by_key(|chord| {
                let order = match &chord.target {
                    ChordTarget::Remap(number) => (true, None, *number),
                    ChordTarget::Rule(candidate) => (
                        false,
                        Some(Precedence::new(rules, context, candidate)),
                        candidate.trigger.rule.0,
                    ),
                };
                (usize::MAX - chord.keys.len(), order)
            });
        }
        for stands in self.remaps.values_mut() {
            stands.sort_by_key(|stand| {
                let scope = &rules.remaps[stand.remap].filter;
                let families = stand.modifiers.iter().count();
                (255 - scope.narrowness(), usize::MAX - families, stand.remap)
            });
        }
    }

    /// Whether it is the last key of the panic combination.
    pub(crate) fn is_panic_key(&self, key: Key) -> bool {
        self.panic.is_some_and(|(panic, _)| panic == key)
    }

    pub(crate) fn is_panic(&self, stroke: KeyStroke) -> bool {
        self.panic == Some(stroke)
    }

    pub(crate) fn candidates(&self, stroke: KeyStroke) -> &[Candidate] {
        let of_key = self.strokes.get(stroke.0.index());
        of_key.and_then(|of_key| of_key.get(&stroke.1)).map_or(&[], Vec::as_slice)
    }

    /// The sequences that rules want.
    pub(crate) fn sequences(&self) -> &[KeySequence] {
        &self.sequences
    }

    /// Takes the combinations that this keyboard does not have.
    pub(crate) fn take_missing_keys(&mut self) -> Vec<MissingCombination> {
        std::mem::take(&mut self.missing_keys)
    }

    /// Whether any keys together are wanted.
    pub(crate) fn has_chords(&self) -> bool {
        !self.chords.is_empty()
    }

    /// The largest chord that a key completes, with others that are down.
    pub(crate) fn completed_chord(
        &self,
        key: Key,
        families: ModifierSet,
        down: &BTreeSet<Key>,
    ) -> Vec<&Chord> {
        let chords = self.chords.get(&key).map_or(&[] as &[Chord], Vec::as_slice);
        let complete = |chord: &&Chord| {
            chord.modifiers == families
                && chord.keys.iter().all(|other| *other == key || down.contains(other))
        };
        let found: Vec<&Chord> = chords.iter().filter(complete).collect();
        let largest = found.iter().map(|chord| chord.keys.len()).max().unwrap_or(0);
        found.into_iter().filter(|chord| chord.keys.len() == largest).collect()
    }

    /// Whether all of these keys may still become a chord with others.
    pub(crate) fn may_become_chord(&self, keys: &BTreeSet<Key>, families: ModifierSet) -> bool {
        let Some(first) = keys.first() else { return false };
        self.chords.get(first).is_some_and(|chords| {
            chords.iter().any(|chord| {
                chord.modifiers == families && keys.is_subset(&chord.keys) && chord.keys != *keys
            })
        })
    }

    /// The remap that a key is under.
    pub(crate) fn remap_for(
        &self,
        key: Key,
        held: HeldModifiers,
        families: ModifierSet,
    ) -> Option<&ActiveRemap> {
        self.remaps.get(&key)?.iter().find(|stand| stand.fits(held, families))
    }

    /// Whether a shape may be drawn while the stroke is held.
    pub(crate) fn is_gesture_key(&self, stroke: KeyStroke) -> bool {
        self.gesture_keys.contains(&stroke)
    }

    /// Whether the back end withholds the stroke: some rule for it does not let it pass.
    pub(crate) fn withholds(&self, rules: &RuleSet, stroke: KeyStroke) -> bool {
        let (key, families) = stroke;
        if ModifierKey::of(key).is_some() {
            return false;
        }
        let blocks = |candidate: &Candidate| !rules[candidate.trigger.rule].passes_key_through;
        let chorded = |chord: &Chord| {
            chord.modifiers == families
                && match &chord.target {
                    ChordTarget::Remap(_) => true,
                    ChordTarget::Rule(candidate) => blocks(candidate),
                }
        };
        let begins = |sequence: &KeySequence| {
            sequence.strokes[0].0 == stroke && !rules[sequence.trigger.rule].passes_key_through
        };
        let stood =
            |stand: &ActiveRemap| stand.modifiers.iter().all(|family| families.contains(family));
        self.is_panic(stroke)
            || self.candidates(stroke).iter().any(blocks)
            || self.chords.get(&key).is_some_and(|chords| chords.iter().any(chorded))
            || self.remaps.get(&key).is_some_and(|stands| stands.iter().any(stood))
            || self.sequences.iter().any(begins)
            || self.gesture_keys.contains(&stroke)
    }

    /// What the back end must see and withhold, apart from what rules ask for in their conditions.
    pub(crate) fn required_grabs(&self, rules: &RuleSet) -> GrabSet {
        let mut keys: BTreeMap<(Key, ModifierSet, bool), (bool, GrabNeed)> = BTreeMap::new();
        let mut raw_keys = false;
        let mut add_grab = |stroke: KeyStroke, further: bool, sides: bool, hold: GrabNeed| {
            let flags = keys.entry((stroke.0, stroke.1, further)).or_default();
            flags.0 |= sides;
            flags.1 = flags.1.max(hold);
        };
        let listed = Key::all().zip(&self.strokes);
        let strokes = listed.flat_map(|(key, of_key)| {
            of_key.iter().map(move |(families, candidates)| ((key, *families), candidates))
        });
        for (stroke, candidates) in strokes {
            let rule = |candidate: &Candidate| &rules[candidate.trigger.rule];
            let modifier = ModifierKey::of(stroke.0).is_some();
            raw_keys |= modifier
                || candidates.iter().any(|c| rule(c).passes_key_through || c.press.must_wait());
            if modifier || candidates.iter().all(|candidate| rule(candidate).passes_key_through) {
                continue;
            }
            let sides = candidates.iter().any(|candidate| !candidate.modifier_keys.is_empty());
            let hold = candidates.iter().map(|c| grab_need(rule(c), c.press)).max();
            add_grab(stroke, false, sides, hold.unwrap_or_default());
        }
        for (key, chords) in &self.chords {
            raw_keys = true;
            for chord in chords {
                let (passing, sides) = match &chord.target {
                    ChordTarget::Remap(_) => (false, false),
                    ChordTarget::Rule(candidate) => (
                        rules[candidate.trigger.rule].passes_key_through,
                        !candidate.modifier_keys.is_empty(),
                    ),
                };
                if !passing {
                    add_grab((*key, chord.modifiers), false, sides, GrabNeed::Synchronous);
                }
            }
        }
        for sequence in &self.sequences {
            raw_keys = true;
            let (stroke, sides) = &sequence.strokes[0];
            if !rules[sequence.trigger.rule].passes_key_through
                && ModifierKey::of(stroke.0).is_none()
            {
                add_grab(*stroke, false, !sides.is_empty(), GrabNeed::Synchronous);
            }
        }
        for (key, stands) in &self.remaps {
            for stand in stands {
                raw_keys |= stand.tapped.is_some();
                let hold = if stand.tapped.is_some() {
                    GrabNeed::Synchronous
                } else {
                    GrabNeed::PressAndRelease
                };
                add_grab((*key, stand.modifiers), true, !stand.modifier_keys.is_empty(), hold);
            }
        }
        for stroke in &self.gesture_keys {
            add_grab(*stroke, false, false, GrabNeed::Synchronous);
        }
        if let Some(panic) = self.panic {
            add_grab(panic, false, false, GrabNeed::PressAndRelease);
        }
        let keys = keys.into_iter().map(|((key, families, further), (sides, hold))| KeyGrab {
            key,
            modifiers: families,
            any_extra_modifiers: further,
            side_specific: sides,
            report_release: hold != GrabNeed::Press,
            synchronous: hold == GrabNeed::Synchronous,
        });
        GrabSet { keys: keys.collect(), raw_keys, panic: self.panic, ..GrabSet::default() }
    }
}

/// What a press is held for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
enum GrabNeed {
    /// It fires, and that is all.
    #[default]
    Press,
    /// Its release matters.
    PressAndRelease,
    /// It is not told yet what it means.
    Synchronous,
}

fn grab_need(rule: &Rule, press: PressKind) -> GrabNeed {
    let open = press != PressKind::Pressed
        || rule.condition.is_some()
        || rule.filter.input_devices.is_some()
        || rule.passes_key_through;
    if open {
        GrabNeed::Synchronous
    } else if rule.repeats_while_held
        || rule.ends_on_release
        || rule.reentry == ReentryPolicy::Toggle
    {
        // Of a key that stops a run no press may be missed, and its release tells of the next.
        GrabNeed::PressAndRelease
    } else {
        GrabNeed::Press
    }
}

/// The order in which rules are asked whether they fire; smaller comes first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Precedence {
    /// Rules that may only be stopped come last.
    stops_only: bool,
    /// The narrower filter comes first.
    breadth: u8,
    /// The layer entered last comes first.
    layer_depth: usize,
    /// A modifier key of one side comes before either side.
    missing_sides: usize,
    /// A rule with a condition comes before one without.
    is_unconditional: bool,
    /// The rule that stands first in the file comes first.
    rule: RuleId,
}

impl Precedence {
    pub(crate) fn new(rules: &RuleSet, context: &Context, candidate: &Candidate) -> Precedence {
        let rule = &rules[candidate.trigger.rule];
        Precedence {
            stops_only: candidate.stops_only,
            breadth: 255 - rule.filter.narrowness(),
            layer_depth: context.depth_of(&rule.filter),
            missing_sides: usize::MAX - candidate.modifier_keys.len(),
            is_unconditional: rule.condition.is_none(),
            rule: candidate.trigger.rule,
        }
    }
}
