//! Programs that rules name and that are not installed, for `lantern check`.

use std::collections::{BTreeMap, BTreeSet};

use lantern_model::{RuleSet, SourceLocation, TriggerKind};
use lantern_script::{PowerKind, near_name, powers};
use lantern_session::programs;
use lantern_system::is_program;
use serde::Serialize;

/// A program that rules name and that is not installed.
#[derive(Debug, Serialize)]
pub struct MissingProgram {
    /// As the rules name it.
    pub name: String,
    pub file: String,
    pub line: u32,
    /// The installed program whose name is most alike.
    pub nearest: Option<String>,
}

/// The programs that `launch`, `run` and places name and that are not installed, each once, in the order
/// of their places.
pub fn missing_programs(rules: &RuleSet) -> Vec<MissingProgram> {
    let mut named: BTreeMap<String, SourceLocation> = BTreeMap::new();
    let mut add = |name: &str, place: SourceLocation| {
        named.entry(name.to_owned()).or_insert(place);
    };
    let is_started = |what: &str| {
        let first = what.split_whitespace().next().unwrap_or(what);
        // A name that holds a value is known only when the rule fires.
        (!first.contains('…')).then(|| first.trim_matches(['\'', '"']).to_owned())
    };
    let mut started = BTreeSet::new();
    for power in powers(rules).iter().filter(|power| power.kind == PowerKind::StartsProgram) {
        if programs::find(&power.what).is_err()
            && let Some(name) = is_started(&power.what)
        {
            add(&name, power.place);
            started.insert(name);
        }
    }
    for rule in &rules.rules {
        let places = rule.filter.apps.iter().flatten().chain(&rule.filter.not_apps);
        let windows = rule.triggers.iter().filter_map(|trigger| match &trigger.kind {
            TriggerKind::Window { apps, .. } => Some(apps),
            _ => None,
        });
        places.chain(windows.flatten()).for_each(|name| add(name, rule.place));
    }
    if named.is_empty() {
        return Vec::new();
    }
    let installed = programs::installed_names();
    let is_missing = |name: &String| {
        started.contains(name) || !installed.contains(&name.to_lowercase()) && !is_program(name)
    };
    let mut missing: Vec<(String, SourceLocation)> =
        named.into_iter().filter(|(name, _)| is_missing(name)).collect();
    missing.sort_by_key(|(_, place)| *place);
    let nearest =
        |name: &str| near_name(&name.to_lowercase(), installed.iter().map(String::as_str));
    missing
        .into_iter()
        .map(|(name, place)| MissingProgram {
            nearest: nearest(&name).map(str::to_owned),
            file: rules.files[usize::from(place.file)].clone(),
            line: place.line,
            name,
        })
        .collect()
}
