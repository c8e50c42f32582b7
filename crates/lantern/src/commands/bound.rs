//! `lantern keys --bound` and `--free`: what a file of rules takes of the keyboard.

use std::path::PathBuf;

use lantern_model::{KeyCombination, KeySpec, Rule, RuleSet, TriggerKind};
use serde::Serialize;

use crate::arguments::KeysArguments;
use crate::commands::key_words::{KeyQuery, unescape};
use crate::commands::{free, print_json};
use crate::diagnostics::rules_of;
use crate::failure::{Failure, Status};
use crate::output::{complain, say};
use crate::pictures::{self, Binding};
use crate::text::reference_layout;
use crate::{style, table};

/// The shape of `--json`, version 2.
#[derive(Serialize)]
struct BoundReport<'a> {
    version: u32,
    file: &'a str,
    bound: Vec<Bound<'a>>,
}

#[derive(Serialize)]
struct Bound<'a> {
    combo: &'a str,
    modifiers: &'a str,
    keys: Vec<&'static str>,
    place: &'a str,
    rule: &'a str,
    at: &'a str,
}

/// Shows what a set of rules takes of the keys that were asked about, or with `--free` what it leaves.
pub fn run(
    arguments: &KeysArguments,
    file: Option<PathBuf>,
    wanted: &KeyQuery,
) -> Result<Status, Failure> {
    let (source, rules) = rules_of(file)?;
    let mut bindings = bindings_of(&rules);
    bindings.retain(|binding| {
        binding.keys.iter().any(|key| wanted.keys.contains(key))
            && wanted.modifiers.is_none_or(|wanted| binding.families() == wanted)
    });
    if let Some(picture) = &arguments.picture {
        pictures::write(&pictures::keyboard(&bindings, source.name()), picture)?;
        complain!("{}drawn{0:#} {}", style::WENT_OUT, picture.display());
    }
    if arguments.free.is_some() {
        return Ok(free::run(arguments, source.name(), &bindings, wanted));
    }
    if arguments.json {
        let bound = bindings.iter().map(|binding| Bound {
            combo: &binding.combo,
            modifiers: &binding.modifiers,
            keys: binding.keys.iter().map(|key| key.name()).collect(),
            place: &binding.place,
            rule: &binding.rule,
            at: &binding.at,
        });
        let bound = bound.collect();
        print_json(&BoundReport { version: 2, file: source.name(), bound });
    } else if let Some(separator) = &arguments.separator {
        let combos: Vec<&str> = bindings.iter().map(|binding| binding.combo.as_str()).collect();
        say!("{}", combos.join(&unescape(separator)));
    } else {
        print_bound(&bindings);
    }
    Ok(if bindings.is_empty() { Status::Found } else { Status::Done })
}

/// Every combination that a set takes.
pub fn bindings_of(rules: &RuleSet) -> Vec<Binding> {
    let mut bindings = Vec::new();
    for rule in &rules.rules {
        for trigger in &rule.triggers {
            let (combos, words) = match &trigger.kind {
                TriggerKind::Key { combo, .. } => (vec![combo], combo.to_string()),
                TriggerKind::Keys { combos, .. } => {
                    let words: Vec<String> = combos.iter().map(KeyCombination::to_string).collect();
                    (combos.iter().collect(), words.join(", "))
                }
                TriggerKind::Gesture { holding, .. } => (vec![holding], holding.to_string()),
                _ => continue,
            };
            for combo in combos.into_iter().take(1) {
                let place = place_words(rule, rules);
                let at = rules.show_place(trigger.place);
                bindings.push(binding(combo, words.clone(), place, rule.label.clone(), at));
            }
        }
    }
    for remap in &rules.remaps {
        let words = remap.from.to_string();
        let at = rules.show_place(remap.place);
        bindings.push(binding(&remap.from, words, String::new(), format!("is {}", remap.to), at));
    }
    let panic = &rules.settings.panic;
    let label = "stops everything".to_owned();
    bindings.push(binding(panic, panic.to_string(), String::new(), label, String::new()));
    bindings
}

fn binding(
    combo: &KeyCombination,
    words: String,
    place: String,
    rule: String,
    at: String,
) -> Binding {
    let layout = reference_layout();
    let is_alone = combo.0.iter().all(|key| key.is_modifier());
    let (modifiers, plain): (Vec<&KeySpec>, Vec<&KeySpec>) =
        combo.0.iter().partition(|key| key.is_modifier() && !is_alone);
    let mut modifiers: Vec<String> = modifiers.into_iter().map(ToString::to_string).collect();
    modifiers.sort();
    let keys = plain.into_iter().filter_map(|key| layout.resolve(*key)).collect();
    Binding { modifiers: modifiers.join("+"), keys, combo: words, place, rule, at }
}

/// Where a rule applies, in words; nothing for everywhere.
pub fn place_words(rule: &Rule, rules: &RuleSet) -> String {
    let scope = &rule.filter;
    let mut words = Vec::new();
    if let Some(layer) = scope.layer {
        words.push(format!("in layer {}", rules.layers[layer.0]));
    }
    let listed = |names: &[String]| names.join(", ");
    words.extend(scope.titles.as_ref().map(|titles| format!("in title {}", listed(titles))));
    words.extend(scope.apps.as_ref().map(|apps| format!("in {}", listed(apps))));
    if !scope.not_apps.is_empty() {
        words.push(format!("not in {}", listed(&scope.not_apps)));
    }
    if rule.condition.is_some() {
        words.push("if …".to_owned());
    }
    words.join(" ")
}

fn print_bound(bindings: &[Binding]) {
    let heads = ["keys", "where", "rule", "at"];
    let cells = |b: &Binding| vec![b.combo.clone(), b.place.clone(), b.rule.clone(), b.at.clone()];
    let rows: Vec<Vec<String>> = bindings.iter().map(cells).collect();
    table::print(&heads, &rows);
    complain!("{}{} combinations{0:#}", style::FAINT, rows.len());
}
