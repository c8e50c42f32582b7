//! Why a combination did, or did not, fire: the rules nearest to it, each with the one thing that
//! keeps it from firing now.

use lantern_model::{
    Key, KeyCombination, KeyGrab, PressKind, ReentryPolicy, Rule, Time, TriggerKind,
};

use crate::binding_table::precedence;
use crate::engine::Engine;
use crate::key_stroke::{KeyStroke, chord_of, key_stroke_of};

/// A rule near to an input.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BlockedRule {
    /// The rule.
    pub rule: usize,
    /// What keeps it from firing; nothing if it would fire.
    pub reason: Option<String>,
}

impl Engine {
    /// The rules that this combination is a trigger of, the one that would fire first; if there is
    /// none, those of the same key with other modifiers.
    ///
    /// # Errors
    /// The key that the keyboard at hand lacks.
    pub fn nearest(&self, now: Time, combo: &KeyCombination) -> Result<Vec<BlockedRule>, String> {
        let (stroke, _) = key_stroke_of(&combo.0, &self.layout)
            .map_err(|lack| format!("the keyboard at hand has {lack}"))?;
        let mut exact = Vec::new();
        let mut others = Vec::new();
        for (number, rule) in self.rules.rules.iter().enumerate() {
            match self.nearness(rule, stroke) {
                Some(Ok(manner)) => exact.push((number, manner)),
                Some(Err(why)) => others.push(BlockedRule { rule: number, reason: Some(why) }),
                None => {}
            }
        }
        if exact.is_empty() {
            return Ok(others);
        }
        let near = exact.iter().map(|(rule, manner)| {
            let why = self.blocking_reason(now, *rule, *manner, stroke);
            BlockedRule { rule: *rule, reason: why }
        });
        let mut near: Vec<BlockedRule> = near.collect();
        self.mark_overruled(stroke, &mut near);
        Ok(near)
    }

    /// When a combination that rules want was pressed last, if ever.
    ///
    /// Of keys that type it is never told.
    ///
    /// # Errors
    /// The key that the keyboard at hand lacks.
    pub fn last_seen(&self, combo: &KeyCombination) -> Result<Option<Time>, String> {
        if combo.types_character() {
            return Ok(None);
        }
        let (stroke, _) = key_stroke_of(&combo.0, &self.layout)
            .map_err(|lack| format!("the keyboard at hand has {lack}"))?;
        Ok(self.keys.last_pressed.get(&stroke).copied())
    }

    /// Whether a rule has the stroke as a trigger; of one with the same key and other modifiers, what
    /// it wants.
    fn nearness(&self, rule: &Rule, stroke: KeyStroke) -> Option<Result<PressKind, String>> {
        let mut other = None;
        for trigger in &rule.triggers {
            let (combo, manner) = match &trigger.kind {
                TriggerKind::Key { combo, press: manner, .. } => (combo, *manner),
                TriggerKind::Keys { combos, .. } => (combos.first()?, PressKind::Pressed),
                TriggerKind::Gesture { shape, holding } => {
                    if key_stroke_of(&holding.0, &self.layout).is_ok_and(|(held, _)| held == stroke)
                    {
                        other = Some(format!("it wants {shape} to be drawn while it is held"));
                    }
                    continue;
                }
                _ => continue,
            };
            let plain: Vec<Key> = match chord_of(combo, &self.layout) {
                Ok((keys, ..)) if keys.len() > 1 => keys.into_iter().collect(),
                _ => Vec::new(),
            };
            if plain.contains(&stroke.0) {
                other = Some(format!("it wants {combo}"));
                continue;
            }
            let Ok((wanted, _)) = key_stroke_of(&combo.0, &self.layout) else { continue };
            if wanted == stroke {
                return Some(Ok(manner));
            }
            if wanted.0 == stroke.0 {
                other = Some(format!("it wants {combo}"));
            }
        }
        other.map(Err)
    }

    /// The first thing that keeps a rule from firing here and now.
    fn blocking_reason(
        &self,
        now: Time,
        number: usize,
        manner: PressKind,
        stroke: KeyStroke,
    ) -> Option<String> {
        let rule = &self.rules.rules[number];
        if self.all_paused {
            return Some("everything is paused: `lantern resume`".to_owned());
        }
        if rule.name.as_ref().is_some_and(|name| self.paused.contains(name)) {
            return Some("it is paused".to_owned());
        }
        if self.locked && !rule.allowed_when_locked {
            return Some("the screen is locked".to_owned());
        }
        let is_it = |refused: &KeyGrab| (refused.key, refused.modifiers) == stroke;
        if self.refused_grabs.iter().any(is_it) {
            return Some("another program holds the key: `lantern capture` says whose".to_owned());
        }
        if let Some(elsewhere) = self.elsewhere(rule) {
            return Some(elsewhere);
        }
        let boards = rule.filter.input_devices.as_ref();
        if boards.is_some_and(|boards| !boards.contains(&self.keys.input_device)) {
            let board = &self.keys.input_device;
            return Some(format!("the last key came from another device (\"{board}\")"));
        }
        if let Some(problem) = self.unmet_condition(now, number) {
            return Some(problem);
        }
        let last = self.last_fired.get(&number);
        if let (Some(span), Some(last)) = (rule.throttle, last)
            && now.since(*last) < span
        {
            return Some(format!(
                "it fires at most once per {}",
                lantern_model::Value::Duration(span)
            ));
        }
        if let Some(busy) = self.busy(number) {
            return Some(busy.to_owned());
        }
        if self.is_known_to_be_down(stroke.0) && !rule.repeats_while_held {
            return Some(
                "the key is down, and its repeats fire only what is `repeating`".to_owned(),
            );
        }
        match manner {
            PressKind::Pressed => None,
            PressKind::Released => Some("it fires when the key is let go".to_owned()),
            PressKind::Tapped => Some("it fires when the key is let go soon".to_owned()),
            PressKind::DoublePressed => Some("it fires when the key is pressed twice".to_owned()),
            PressKind::Held(span) => {
                let span = lantern_model::Value::Duration(span);
                Some(format!("it fires when the key is held for {span}"))
            }
        }
    }

    /// Whether a key is down. A key whose release is not reported counts as up.
    fn is_known_to_be_down(&self, key: Key) -> bool {
        self.keys.raw_keys_down.contains(&key) && self.reports_release(key)
    }

    /// Whether what runs of a rule keeps it from firing once more.
    fn busy(&self, number: usize) -> Option<&'static str> {
        let runs = !self.runs.of_rule(number).is_empty();
        match self.rules.rules[number].reentry {
            ReentryPolicy::Ignore if runs => Some("its previous run has not ended"),
            ReentryPolicy::Queue if runs && self.queued.contains_key(&number) => {
                Some("its previous run has not ended, and another activation waits already")
            }
            _ => None,
        }
    }

    /// What of a rule's place is not so.
    fn elsewhere(&self, rule: &Rule) -> Option<String> {
        let (scope, place) = (&rule.filter, self.context());
        let front = || match place.app.name() {
            _ if place.app.window == 0 => "no program is in front".to_owned(),
            name => format!("{name} is in front"),
        };
        if let Some(layer) = scope.layer.filter(|layer| !place.layers.contains(layer)) {
            return Some(format!("the layer {} is not on", self.rules.layers[layer.0]));
        }
        if let Some(apps) = &scope.apps
            && !apps.iter().any(|app| place.app.is_named(app))
        {
            return Some(format!("it is for {}, and {}", apps.join(", "), front()));
        }
        if scope.not_apps.iter().any(|app| place.app.is_named(app)) {
            return Some(format!("it is not for {}", place.app.name()));
        }
        if let Some(titles) = &scope.titles
            && !titles.iter().any(|title| place.title.contains(title))
        {
            return Some(format!("it wants a title with \"{}\"", titles.join("\" or \"")));
        }
        None
    }

    /// Of several that could fire the first does; the others say so.
    fn mark_overruled(&self, stroke: KeyStroke, near: &mut [BlockedRule]) {
        let place = self.context();
        let order = |rule: usize| {
            let of_rule = |candidate: &&crate::binding_table::Candidate| candidate.rule == rule;
            let candidate = self.bindings.candidates(stroke).iter().find(of_rule);
            candidate.map(|candidate| precedence(&self.rules, &place, candidate))
        };
        near.sort_by_key(|near| {
            (near.reason.is_some(), order(near.rule).is_none(), order(near.rule))
        });
        let first = near.first().filter(|near| near.reason.is_none()).map(|near| near.rule);
        let Some(first) = first else { return };
        let label = &self.rules.rules[first].label;
        for near in near.iter_mut().skip(1).filter(|near| near.reason.is_none()) {
            near.reason = Some(format!("\"{label}\" comes first"));
        }
    }
}
