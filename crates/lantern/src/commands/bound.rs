//! `lantern keys --bound` and `--free`: what a file of rules takes of the keyboard.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

use lantern_model::{Cause, Combo, Key, KeyKind, KeyRef, Rule, RuleSet};
use serde::Serialize;
use unicode_width::UnicodeWidthStr;

use crate::arguments::KeysArguments;
use crate::commands::print_json;
use crate::failure::{Failure, Status};
use crate::findings::rules_of;
use crate::pictures::{self, Binding};
use crate::style::{complain, say};
use crate::wording::board;
use crate::{style, table};

/// The shape of `--json`, version 1.
#[derive(Serialize)]
struct Report<'a> {
    version: u32,
    file: &'a str,
    bound: Vec<Bound<'a>>,
    free: BTreeMap<&'a str, Vec<&'static str>>,
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

/// `keys` are those that were asked about; `only_free` for `--free`.
pub fn run(
    arguments: &KeysArguments,
    file: Option<PathBuf>,
    keys: &[Key],
    only_free: bool,
) -> Result<Status, Failure> {
    let (source, rules) = rules_of(file)?;
    let rules = &rules;
    let mut bindings = bindings_of(rules);
    bindings.retain(|binding| binding.keys.iter().any(|key| keys.contains(key)));
    let free = free_keys(&bindings, keys);
    if let Some(picture) = &arguments.picture {
        pictures::write(&pictures::keyboard(&bindings, source.name()), picture)?;
        complain!("{}drawn{0:#} {}", style::WENT_OUT, picture.display());
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
        print_json(&Report { version: 1, file: source.name(), bound, free });
    } else if only_free {
        print_free(&free);
    } else {
        print_bound(&bindings);
    }
    Ok(if bindings.is_empty() && !only_free { Status::Found } else { Status::Done })
}

/// Every combination that a set takes.
pub fn bindings_of(rules: &RuleSet) -> Vec<Binding> {
    let mut bindings = Vec::new();
    for rule in &rules.rules {
        for trigger in &rule.triggers {
            let (combos, words) = match &trigger.cause {
                Cause::Key { combo, .. } => (vec![combo], combo.to_string()),
                Cause::Keys { combos, .. } => {
                    let words: Vec<String> = combos.iter().map(Combo::to_string).collect();
                    (combos.iter().collect(), words.join(", "))
                }
                Cause::Gesture { holding, .. } => (vec![holding], holding.to_string()),
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

fn binding(combo: &Combo, words: String, place: String, rule: String, at: String) -> Binding {
    let board = board();
    let is_alone = combo.0.iter().all(|key| key.is_modifier());
    let (modifiers, plain): (Vec<&KeyRef>, Vec<&KeyRef>) =
        combo.0.iter().partition(|key| key.is_modifier() && !is_alone);
    let mut modifiers: Vec<String> = modifiers.into_iter().map(ToString::to_string).collect();
    modifiers.sort();
    let keys = plain.into_iter().filter_map(|key| board.place(*key)).collect();
    Binding { modifiers: modifiers.join("+"), keys, combo: words, place, rule, at }
}

/// Where a rule applies, in words; nothing for everywhere.
pub fn place_words(rule: &Rule, rules: &RuleSet) -> String {
    let scope = &rule.scope;
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

/// For the modifiers that people use, the keys that nothing takes anywhere.
fn free_keys<'a>(bindings: &[Binding], keys: &[Key]) -> BTreeMap<&'a str, Vec<&'static str>> {
    const LAYERS: [&str; 6] = ["", "ctrl", "shift", "alt", "super", "ctrl+shift"];
    let useful = |key: &Key| !matches!(key.kind(), KeyKind::Modifier | KeyKind::National);
    let mut free = BTreeMap::new();
    for layer in LAYERS {
        let taken: BTreeSet<Key> = bindings
            .iter()
            .filter(|binding| binding.modifiers == layer)
            .flat_map(|binding| binding.keys.iter().copied())
            .collect();
        let left = keys.iter().filter(|key| useful(key) && !taken.contains(key));
        let name = if layer.is_empty() { "alone" } else { layer };
        free.insert(name, left.map(|key| key.name()).collect());
    }
    free
}

fn print_bound(bindings: &[Binding]) {
    let heads = ["keys", "where", "rule", "at"];
    let cells = |b: &Binding| vec![b.combo.clone(), b.place.clone(), b.rule.clone(), b.at.clone()];
    let rows: Vec<Vec<String>> = bindings.iter().map(cells).collect();
    table::print(&heads, &rows);
    complain!("{}{} combinations{0:#}", style::FAINT, rows.len());
}

fn print_free(free: &BTreeMap<&str, Vec<&'static str>>) {
    for layer in ["alone", "ctrl", "shift", "alt", "super", "ctrl+shift"] {
        let keys = &free[layer];
        say!("{}{layer}{0:#}: {} free", style::HEAD, keys.len());
        for line in wrapped(keys, 96) {
            say!("  {line}");
        }
    }
}

/// Words in lines of at most so many columns.
fn wrapped(words: &[&str], columns: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in words {
        match lines.last_mut() {
            Some(line) if line.width() + 1 + word.width() <= columns => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push((*word).to_owned()),
        }
    }
    lines
}
