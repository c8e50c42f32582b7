//! Which keys matter now: the table from a key and its modifiers to the rules that want it, for the
//! program in front, and what the desk must be armed with for it.
//!
//! It is made anew when the layout, the program in front or the rules change, from the rules of
//! that program and of every program only; a press is one look-up, however many rules there are.

use std::collections::{BTreeMap, BTreeSet};

use lantern_model::{
    App, Armed, ArmedKey, Combo, Families, Family, Key, KeyRef, Layout, Manner, Modifiers, Rule,
    RuleSet, Side,
};

/// A key of the board with the families that must be down.
pub(crate) type Stroke = (Key, Families);

/// A rule that wants a stroke.
#[derive(Debug, Clone)]
pub(crate) struct Candidate {
    pub rule: usize,
    pub trigger: usize,
    pub manner: Manner,
    /// Modifier keys of one side that must be down.
    sides: Vec<Side>,
    /// Only its live run may hear it, to stop.
    pub stops_only: bool,
}

impl Candidate {
    pub(crate) fn fits(&self, held: Modifiers) -> bool {
        self.sides.iter().all(|side| held.contains(*side))
    }
}

/// The table.
#[derive(Debug, Default)]
pub(crate) struct Watch {
    strokes: BTreeMap<Stroke, Vec<Candidate>>,
    panic: Option<Stroke>,
}

/// Rules by the program they are for.
#[derive(Debug, Default)]
pub(crate) struct RuleIndex {
    everywhere: Vec<usize>,
    by_app: BTreeMap<String, Vec<usize>>,
}

impl RuleIndex {
    pub(crate) fn new(rules: &RuleSet) -> RuleIndex {
        let mut index = RuleIndex::default();
        for (number, rule) in rules.rules.iter().enumerate() {
            match &rule.apps {
                None => index.everywhere.push(number),
                Some(apps) => {
                    for app in apps {
                        index.by_app.entry(app.clone()).or_default().push(number);
                    }
                }
            }
        }
        index
    }

    /// The rules for a program, each once, in the order of the file.
    fn rules_for(&self, app: &App) -> BTreeSet<usize> {
        let named = app.names.iter().filter_map(|name| self.by_app.get(name)).flatten();
        self.everywhere.iter().chain(named).copied().collect()
    }
}

impl Watch {
    /// The table for a program. `running` are the rules with live runs that their own trigger
    /// stops wherever the person is. Also gives the combinations this board does not have.
    pub(crate) fn new(
        rules: &RuleSet,
        index: &RuleIndex,
        app: &App,
        layout: &Layout,
        running: &[usize],
    ) -> (Watch, Vec<(Option<usize>, String)>) {
        let mut watch = Watch::default();
        let mut missing = Vec::new();
        match stroke_of(&rules.settings.panic.0, layout) {
            Ok((stroke, _)) => watch.panic = Some(stroke),
            Err(key) => {
                missing.push((None, format!("panic: {}", lacking(&rules.settings.panic, key))));
            }
        }
        let in_place = index.rules_for(app);
        let elsewhere = running.iter().copied().filter(|rule| !in_place.contains(rule));
        let all = in_place.iter().map(|rule| (*rule, false));
        for (rule, stops_only) in all.chain(elsewhere.map(|rule| (rule, true))) {
            for (trigger, wanted) in rules.rules[rule].triggers.iter().enumerate() {
                match stroke_of(&wanted.combo.0, layout) {
                    Ok((stroke, sides)) => {
                        let manner = wanted.manner;
                        let candidate = Candidate { rule, trigger, manner, sides, stops_only };
                        watch.strokes.entry(stroke).or_default().push(candidate);
                    }
                    Err(key) => missing.push((Some(rule), lacking(&wanted.combo, key))),
                }
            }
        }
        for candidates in watch.strokes.values_mut() {
            candidates.sort_by_key(|candidate| precedence(&rules.rules[candidate.rule], candidate));
        }
        (watch, missing)
    }

    pub(crate) fn is_panic(&self, stroke: Stroke) -> bool {
        self.panic == Some(stroke)
    }

    pub(crate) fn candidates(&self, stroke: Stroke) -> &[Candidate] {
        self.strokes.get(&stroke).map_or(&[], Vec::as_slice)
    }

    /// Whether the desk withholds the stroke: some rule for it does not let it pass.
    pub(crate) fn withholds(&self, rules: &RuleSet, stroke: Stroke) -> bool {
        self.is_panic(stroke)
            || self.candidates(stroke).iter().any(|candidate| !rules.rules[candidate.rule].passing)
    }

    /// What the desk must see and withhold.
    pub(crate) fn armed(&self, rules: &RuleSet, asks_fingers: bool) -> Armed {
        let mut keys: Vec<ArmedKey> = Vec::new();
        let mut fingers = asks_fingers;
        for (stroke, candidates) in &self.strokes {
            let rule = |candidate: &Candidate| &rules.rules[candidate.rule];
            fingers |= candidates.iter().any(|candidate| rule(candidate).passing);
            if candidates.iter().all(|candidate| rule(candidate).passing) {
                continue;
            }
            let follows = |candidate: &Candidate| {
                let rule = rule(candidate);
                candidate.manner == Manner::Released
                    || rule.repeating
                    || rule.while_held
                    || rule.condition.is_some()
                    || rule.passing
            };
            keys.push(ArmedKey {
                key: stroke.0,
                families: stroke.1,
                sides: candidates.iter().any(|candidate| !candidate.sides.is_empty()),
                follow: candidates.iter().any(follows),
            });
        }
        if let Some((key, families)) = self.panic
            && !self.strokes.contains_key(&(key, families))
        {
            keys.push(ArmedKey { key, families, sides: false, follow: false });
            keys.sort();
        }
        Armed { keys, fingers }
    }
}

/// A combination, and the key of it that the board lacks.
fn lacking(combo: &Combo, key: KeyRef) -> String {
    if combo.0 == [key] { combo.to_string() } else { format!("{combo} (there is no {key})") }
}

/// Smaller comes first: a program beats none, a side beats either, a condition beats none.
fn precedence(rule: &Rule, candidate: &Candidate) -> (bool, bool, usize, bool, usize) {
    (
        candidate.stops_only,
        rule.apps.is_none(),
        usize::MAX - candidate.sides.len(),
        rule.condition.is_none(),
        candidate.rule,
    )
}

/// The stroke of a combination on this board, with the sides it names; the key it lacks, if any.
fn stroke_of(combo: &[KeyRef], layout: &Layout) -> Result<(Stroke, Vec<Side>), KeyRef> {
    let (last, modifiers) = combo.split_last().expect("a combination has a key");
    let mut families = Families::NONE;
    let mut sides = Vec::new();
    for modifier in modifiers {
        match modifier {
            KeyRef::Either(family) => families = families.with(*family),
            other => {
                let side = other.side().ok_or(*other)?;
                let family = layout.family(side);
                families = families.with(family);
                if family != Family::Level3 {
                    sides.push(side);
                }
            }
        }
    }
    if let KeyRef::Character(character) = last {
        let (_, level) = layout.group().spell(*character).ok_or(*last)?;
        for side in level.sides() {
            families = families.with(layout.family(*side));
        }
    }
    let key = layout.place(*last).ok_or(*last)?;
    Ok(((key, families), sides))
}
