//! `lantern sheet`: what can be pressed, said, typed and drawn, by place, to print or to pin up.

use std::fmt::Write as _;
use std::fs;
use std::path::Path;

use lantern_model::{PressKind, Rule, RuleSet, Trigger, TriggerKind, Value};
use serde::Serialize;
use serde_json::json;

use crate::arguments::SheetArguments;
use crate::commands::bound::place_words;
use crate::commands::print_json;
use crate::commands::status::words;
use crate::diagnostics::rules_of;
use crate::failure::{Failure, Status};
use crate::ipc::client::IpcClient;
use crate::output::{complain, say};
use crate::pictures::{SheetEntry, SheetGroup};
use crate::style;
use crate::{pictures, table};

/// The shape of `--json`, version 1.
#[derive(Serialize)]
struct SheetReport<'a> {
    version: u32,
    file: &'a str,
    places: &'a [SheetGroup],
}

/// The shape of `--sends --json`, version 1.
#[derive(Serialize)]
struct SentReport<'a> {
    version: u32,
    file: &'a str,
    sends: Vec<SentKeys>,
}

/// A combination that a rule sends.
#[derive(Serialize)]
struct SentKeys {
    keys: String,
    how: String,
    rule: String,
    place: String,
}

/// Rules with more triggers than this are listed by their first and last.
const LISTED: usize = 3;

pub fn run(arguments: &SheetArguments) -> Result<Status, Failure> {
    if arguments.now {
        return show_sayable(arguments.json);
    }
    let (source, rules) = rules_of(arguments.file.clone())?;
    let rules = &rules;
    if arguments.sends {
        return show_sent(source.name(), rules, arguments.json);
    }
    let groups = groups_of(rules);
    let name = Path::new(source.name())
        .file_stem()
        .map_or_else(String::new, |stem| stem.to_string_lossy().into_owned());
    if let Some(page) = &arguments.html {
        let failed = |source| Failure::Write { path: page.clone(), source };
        fs::write(page, html(&name, &groups)).map_err(failed)?;
        complain!("{}written{0:#} {}", style::WENT_OUT, page.display());
    }
    if let Some(picture) = &arguments.picture {
        pictures::write(&pictures::cheat_sheet(&name, &groups), picture)?;
        complain!("{}drawn{0:#} {}", style::WENT_OUT, picture.display());
    }
    if arguments.json {
        print_json(&SheetReport { version: 1, file: source.name(), places: &groups });
    } else if arguments.html.is_none() && arguments.picture.is_none() {
        for (index, group) in groups.iter().enumerate() {
            if index > 0 {
                say!("");
            }
            print_group(group);
        }
    }
    Ok(Status::Done)
}

/// Lists the combinations that rules send, in their order, each with its rules.
fn show_sent(file: &str, rules: &RuleSet, json: bool) -> Result<Status, Failure> {
    let mut sends: Vec<SentKeys> = Vec::new();
    for rule in &rules.rules {
        for combo in rules.sent_combinations(rule.body) {
            sends.push(SentKeys {
                keys: combo.to_string(),
                how: how_words(&rule.triggers).unwrap_or_else(|| rule.label.clone()),
                rule: what_words(rule),
                place: rules.show_place(rule.place),
            });
        }
    }
    sends.sort_by(|one, other| one.keys.cmp(&other.keys));
    let found = if sends.is_empty() { Status::Found } else { Status::Done };
    if json {
        print_json(&SentReport { version: 1, file, sends });
    } else if sends.is_empty() {
        complain!("no rule sends a combination that is known before it runs");
    } else {
        let row = |sent: &SentKeys| {
            vec![sent.keys.clone(), sent.how.clone(), sent.rule.clone(), sent.place.clone()]
        };
        let rows: Vec<Vec<String>> = sends.iter().map(row).collect();
        table::print(&["sends", "fired by", "rule", "place"], &rows);
    }
    Ok(found)
}

fn print_group(group: &SheetGroup) {
    let row = |entry: &SheetEntry| vec![entry.how.clone(), entry.what.clone()];
    table::print(&[&group.place, ""], &group.entries.iter().map(row).collect::<Vec<_>>());
}

/// What the one that runs listens for where the person is.
fn show_sayable(json: bool) -> Result<Status, Failure> {
    let told = IpcClient::reach()?.ask("status", &json!({}))?;
    let entry = |one: &serde_json::Value| SheetEntry {
        how: format!("say \"{}\"", words(&one["say"])),
        what: words(&one["rule"]),
    };
    let entries: Vec<SheetEntry> =
        told["sayable"].as_array().into_iter().flatten().map(entry).collect();
    let found = if entries.is_empty() { Status::Found } else { Status::Done };
    let group = SheetGroup { place: "here and now".to_owned(), entries };
    if json {
        print_json(&SheetReport { version: 1, file: &words(&told["file"]), places: &[group] });
    } else if group.entries.is_empty() {
        complain!("nothing can be said here and now");
    } else {
        print_group(&group);
    }
    Ok(found)
}

/// Everything that a person can do, the places in the order of the file, everywhere first.
fn groups_of(rules: &RuleSet) -> Vec<SheetGroup> {
    let mut groups = vec![SheetGroup { place: "everywhere".to_owned(), entries: Vec::new() }];
    for rule in &rules.rules {
        let Some(how) = how_words(&rule.triggers) else { continue };
        let place = match place_words(rule, rules).as_str() {
            "" => "everywhere".to_owned(),
            place => place.to_owned(),
        };
        let entry = SheetEntry { how, what: what_words(rule) };
        match groups.iter_mut().find(|group| group.place == place) {
            Some(group) => group.entries.push(entry),
            None => groups.push(SheetGroup { place, entries: vec![entry] }),
        }
    }
    for remap in &rules.remaps {
        let tapped = remap.tapped.as_ref().map_or_else(String::new, |to| format!(", tapped {to}"));
        let what = format!("is {}{tapped}", remap.to);
        groups[0].entries.push(SheetEntry { how: remap.from.to_string(), what });
    }
    let panic = rules.settings.panic.to_string();
    groups[0].entries.push(SheetEntry { how: panic, what: "stops everything".to_owned() });
    groups
}

/// What fires a rule, if a person can do it.
fn how_words(triggers: &[Trigger]) -> Option<String> {
    let words: Vec<String> =
        triggers.iter().filter_map(|trigger| cause_words(&trigger.kind)).collect();
    match words.as_slice() {
        [] => None,
        [first, .., last] if words.len() > LISTED => Some(format!("{first} … {last}")),
        words => Some(words.join(" or ")),
    }
}

fn cause_words(cause: &TriggerKind) -> Option<String> {
    Some(match cause {
        TriggerKind::Key { combo, press: manner, .. } => match manner {
            PressKind::Pressed => combo.to_string(),
            PressKind::Released => format!("{combo}, let go"),
            PressKind::Tapped => format!("{combo}, tapped"),
            PressKind::DoublePressed => format!("{combo}, twice"),
            PressKind::Held(span) => format!("{combo}, held {}", Value::Duration(*span)),
        },
        TriggerKind::Keys { combos, .. } => {
            combos.iter().map(ToString::to_string).collect::<Vec<_>>().join(", then ")
        }
        TriggerKind::Typed(text) => format!("type \"{text}\""),
        TriggerKind::Voice(phrase) => format!("say \"{phrase}\""),
        TriggerKind::Gesture { shape, holding, .. } => format!("draw {shape}, holding {holding}"),
        _ => return None,
    })
}

/// The description of a rule; without one its steps, behind its name if it has one.
fn what_words(rule: &Rule) -> String {
    match &rule.name {
        Some(name) if rule.label == *name => format!("{name}: {}", rule.steps_text),
        None if rule.label.starts_with("when ") => rule.steps_text.clone(),
        _ => rule.label.clone(),
    }
}

/// A page that prints on one sheet if possible.
fn html(name: &str, groups: &[SheetGroup]) -> String {
    let mut page = format!(
        "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\">\n\
         <meta name=\"viewport\" content=\"width=device-width\">\n<title>{0}</title>\n<style>\n\
         body {{ font: 15px/1.4 system-ui, sans-serif; color: {ink}; background: {paper}; margin: 2em; }}\n\
         main {{ columns: 26em; column-gap: 3em; }}\n\
         section {{ break-inside: avoid; margin-bottom: 1.5em; }}\n\
         h2 {{ font-size: 1em; border-bottom: 2px solid {taken}; margin: 0 0 .4em; }}\n\
         dl {{ display: grid; grid-template-columns: minmax(8em, max-content) 1fr; gap: .2em 1em; margin: 0; }}\n\
         dt {{ font-family: ui-monospace, monospace; }} dd {{ margin: 0; }}\n\
         @media print {{ body {{ margin: 0; background: none; }} }}\n\
         </style></head>\n<body><h1>{0}</h1>\n<main>\n",
        escaped(name),
        ink = pictures::INK,
        paper = pictures::PAPER,
        taken = pictures::TAKEN,
    );
    for group in groups {
        // Writing to a text cannot fail.
        let _ = writeln!(page, "<section><h2>{}</h2><dl>", escaped(&group.place));
        for entry in &group.entries {
            let (how, what) = (escaped(&entry.how), escaped(&entry.what));
            let _ = writeln!(page, "<dt>{how}</dt><dd>{what}</dd>");
        }
        page.push_str("</dl></section>\n");
    }
    page.push_str("</main></body></html>\n");
    page
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}
