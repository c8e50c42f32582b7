//! `lantern keys --free`: combinations that neither the rules nor the desktop's settings take.

use std::collections::BTreeSet;

use lantern_model::{Key, KeyCombination, KeyKind, Modifier, ModifierSet};
use lantern_session::{Shortcut, shortcuts};
use lantern_x11::survey;
use serde::Serialize;

use crate::arguments::KeysArguments;
use crate::commands::key_words::{KeyQuery, unescape};
use crate::commands::print_json;
use crate::failure::Status;
use crate::output::{complain, say};
use crate::pictures::Binding;
use crate::style;
use crate::text::wrapped;

/// Columns that a line of keys may take.
const COLUMNS: usize = 96;
/// Runs of keys shorter than this are listed one by one.
const SHORTEST_RANGE: usize = 4;

/// The shape of `--json`, version 2.
#[derive(Serialize)]
struct FreeKeysReport<'a> {
    version: u32,
    file: &'a str,
    /// Whether the desktop's settings could be looked at.
    desktop_known: bool,
    free: Vec<FreeData>,
    desktop: Vec<DesktopData<'a>>,
}

#[derive(Serialize)]
struct FreeData {
    modifiers: String,
    keys: Vec<&'static str>,
}

#[derive(Serialize)]
struct DesktopData<'a> {
    combo: String,
    setting: &'a str,
}

/// The keys that are free under some modifiers.
struct FreeKeyRow {
    families: ModifierSet,
    keys: Vec<Key>,
}

impl FreeKeyRow {
    fn name(&self) -> String {
        if self.families.is_empty() { "alone".to_owned() } else { words_of(self.families) }
    }

    /// The combinations of the row.
    fn combos(&self) -> impl Iterator<Item = String> {
        let modifiers = words_of(self.families);
        let plus = if modifiers.is_empty() { "" } else { "+" };
        self.keys.iter().map(move |key| format!("{modifiers}{plus}{}", key.name()))
    }
}

/// Modifiers in the order in which people write them.
const ORDER: [Modifier; 4] = [Modifier::Ctrl, Modifier::Alt, Modifier::Shift, Modifier::Super];

fn words_of(families: ModifierSet) -> String {
    let words = ORDER.into_iter().filter(|family| families.contains(*family)).map(Modifier::word);
    words.collect::<Vec<_>>().join("+")
}

/// Every set of modifiers, the smaller first.
fn all_families() -> Vec<ModifierSet> {
    let mut all: Vec<ModifierSet> = (0u8..16)
        .map(|bits| {
            let held = ORDER.into_iter().enumerate().filter(|(at, _)| bits & (1 << at) != 0);
            held.fold(ModifierSet::NONE, |all, (_, family)| all.with(family))
        })
        .collect();
    all.sort_by_key(|families| families.iter().count());
    all
}

/// Shows what a set of rules leaves free of the keys that were asked about.
pub fn run(
    arguments: &KeysArguments,
    file: &str,
    bindings: &[Binding],
    wanted: &KeyQuery,
) -> Status {
    let manager = survey().ok().map(|survey| survey.manager.unwrap_or_default());
    let settings = manager.as_deref().map(shortcuts);
    let known = settings.as_deref().unwrap_or_default();
    if let Some(families) = wanted.modifiers
        && let [key] = wanted.keys.as_slice()
        && !arguments.json
        && arguments.separator.is_none()
    {
        return tell_one(families, *key, bindings, known);
    }
    let rows = rows(bindings, known, wanted);
    if arguments.json {
        let free = rows.iter().map(|row| FreeData {
            modifiers: words_of(row.families),
            keys: row.keys.iter().map(|key| key.name()).collect(),
        });
        let desktop = known
            .iter()
            .map(|taken| DesktopData { combo: taken.combo().to_string(), setting: &taken.setting });
        print_json(&FreeKeysReport {
            version: 2,
            file,
            desktop_known: settings.is_some(),
            free: free.collect(),
            desktop: desktop.collect(),
        });
    } else if let Some(separator) = &arguments.separator {
        let combos: Vec<String> = rows.iter().flat_map(FreeKeyRow::combos).collect();
        say!("{}", combos.join(&unescape(separator)));
    } else {
        for row in &rows {
            say!("{}{}{0:#}: {} free", style::HEAD, row.name(), row.keys.len());
            for line in wrapped(ranges(&row.keys).iter().map(String::as_str), COLUMNS) {
                say!("  {line}");
            }
        }
    }
    if settings.is_none() {
        complain!("{}no display: what the desktop's settings take is not known{0:#}", style::FAINT);
    }
    if rows.iter().all(|row| row.keys.is_empty()) { Status::Found } else { Status::Done }
}

fn rows(bindings: &[Binding], settings: &[Shortcut], wanted: &KeyQuery) -> Vec<FreeKeyRow> {
    let useful = |key: &&Key| !matches!(key.kind(), KeyKind::Modifier | KeyKind::National);
    let families = wanted.modifiers.map_or_else(all_families, |families| vec![families]);
    let row = |families: ModifierSet| {
        let mut taken: BTreeSet<Key> = bindings
            .iter()
            .filter(|binding| binding.families() == families)
            .flat_map(|binding| binding.keys.iter().copied())
            .collect();
        taken.extend(settings.iter().filter(|s| s.families == families).map(|s| s.key));
        let keys = wanted.keys.iter().filter(useful).filter(|key| !taken.contains(key));
        FreeKeyRow { families, keys: keys.copied().collect() }
    };
    families.into_iter().map(row).collect()
}

/// Whether one combination is free, or what takes it.
fn tell_one(
    families: ModifierSet,
    key: Key,
    bindings: &[Binding],
    settings: &[Shortcut],
) -> Status {
    let combo = KeyCombination::with(families, key).to_string();
    let rules = bindings
        .iter()
        .filter(|binding| binding.families() == families && binding.keys.contains(&key));
    let rules = rules.map(|binding| {
        let place = [&binding.place, &binding.at].map(String::as_str);
        let place = place.into_iter().filter(|words| !words.is_empty()).collect::<Vec<_>>();
        format!("{}  {}", binding.rule, place.join(", "))
    });
    let desktop = settings.iter().filter(|s| s.families == families && s.key == key);
    let desktop = desktop.map(|taken| format!("a setting of the desktop: {}", taken.setting));
    let taken: Vec<String> = rules.chain(desktop).collect();
    if taken.is_empty() {
        say!("{combo} is {}free{0:#}", style::WENT_OUT);
        return Status::Done;
    }
    say!("{combo} is {}taken{0:#}", style::WARNING);
    for by in taken {
        say!("  {}", by.trim_end());
    }
    Status::Found
}

/// Names of keys, those that follow one another as ranges.
fn ranges(keys: &[Key]) -> Vec<String> {
    let mut words = Vec::new();
    let mut rest = keys;
    while let Some(first) = rest.first() {
        let follows = |count: &usize| {
            let run = &rest[..*count];
            Key::range(*first, run[count - 1]).is_ok_and(|range| range == run)
        };
        let longest = (SHORTEST_RANGE..=rest.len()).take_while(follows).last();
        match longest {
            Some(count) => {
                words.push(format!("{}..{}", first.name(), rest[count - 1].name()));
                rest = &rest[count..];
            }
            None => {
                words.push(first.name().to_owned());
                rest = &rest[1..];
            }
        }
    }
    words
}

#[cfg(test)]
mod tests {
    use super::*;

    fn keys(names: &str) -> Vec<Key> {
        names.split(' ').map(|name| Key::named(name).expect("it is a key")).collect()
    }

    #[test]
    fn keys_that_follow_one_another_are_a_range() {
        assert_eq!(ranges(&keys("a b c d e g h i x")), ["a..e", "g", "h", "i", "x"]);
        assert_eq!(ranges(&keys("f1 f2 f3 f4 1 2 3 4")), ["f1..f4", "1..4"]);
    }

    #[test]
    fn modifiers_come_alone_first_and_all_together_last() {
        let names: Vec<String> = all_families().into_iter().map(words_of).collect();
        assert_eq!(names.len(), 16);
        assert_eq!((names[0].as_str(), names[15].as_str()), ("", "ctrl+alt+shift+super"));
        assert!(names.contains(&"ctrl+alt".to_owned()));
    }
}
