//! What the documents say of the program is so.

use std::path::{Path, PathBuf};

use crate::home::Home;

fn project() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

fn read(name: &str) -> String {
    std::fs::read_to_string(project().join(name)).unwrap_or_else(|_| panic!("{name} is there"))
}

const DOCUMENTS: &[&str] = &[
    "README.md",
    "ARCHITECTURE.md",
    "CONTRIBUTING.md",
    "CHANGELOG.md",
    "docs/language.md",
    "docs/cookbook.md",
    "docs/tutorial.md",
    "docs/protocol.md",
    "docs/devices.md",
    "docs/backends.md",
    "docs/administrators.md",
    "docs/gestures.md",
    "docs/voice.md",
    "docs/security.md",
    "docs/dependencies.md",
    "docs/notes/x11.md",
    "docs/notes/mutation.md",
];

#[test]
fn every_command_that_a_document_names_exists() {
    let home = Home::new();
    for name in DOCUMENTS {
        let text = read(name);
        for rest in text.split("lantern ").skip(1) {
            let before = &text[..text.len() - rest.len() - "lantern ".len()];
            if !before.ends_with('`') && !before.ends_with("$ ") {
                continue;
            }
            let command: String = rest.chars().take_while(char::is_ascii_lowercase).collect();
            let called = home.call(&[&command, "--help"]);
            assert_eq!(called.status, 0, "{name} names `lantern {command}`");
        }
    }
}

/// All Rust files below `crates`, with their text.
fn sources() -> Vec<(PathBuf, String)> {
    let mut open = vec![project().join("crates")];
    let mut found = Vec::new();
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(folder).expect("it is there").flatten() {
            let path = entry.path();
            if path.is_dir() {
                open.push(path);
            } else if path.extension().is_some_and(|extension| extension == "rs") {
                let text = std::fs::read_to_string(&path).expect("it is text");
                found.push((path, text));
            }
        }
    }
    found
}

/// Whether a word stands in a text, not as a part of another.
fn has_word(text: &str, word: &str) -> bool {
    let is_part = |character: char| character.is_alphanumeric() || character == '_';
    text.match_indices(word).any(|(at, _)| {
        !text[..at].ends_with(is_part) && !text[at + word.len()..].starts_with(is_part)
    })
}

/// Files, types and functions in code spans of ARCHITECTURE.md.
#[test]
fn all_that_the_architecture_names_exists() {
    let sources = sources();
    let text = read("ARCHITECTURE.md");
    // Spans of code lie between single backquotes; blocks of three are drawings.
    let prose: String = text.split("```").step_by(2).collect();
    let (mut names, mut missing) = (0, Vec::new());
    for span in prose.split('`').skip(1).step_by(2) {
        let is_camel = span.starts_with(|c: char| c.is_ascii_uppercase())
            && span.chars().all(|c| c.is_ascii_alphanumeric() || c == '_' || c == ':');
        let exists = if span.contains('/') {
            let is_in = |path: &Path| path.ends_with(span.trim_end_matches('/'));
            let named = |(path, _): &(PathBuf, String)| path.ancestors().any(is_in);
            project().join(span).exists() || sources.iter().any(named)
        } else if let Some(name) = span.strip_suffix(".rs") {
            sources.iter().any(|(path, _)| path.file_stem().is_some_and(|stem| stem == name))
        } else if is_camel {
            let (owner, member) = span.split_once("::").unwrap_or((span, ""));
            let defines = |text: &str| {
                ["struct", "enum", "trait", "type"]
                    .iter()
                    .any(|kind| has_word(text, &format!("{kind} {owner}")))
            };
            sources.iter().any(|(_, text)| defines(text))
                && (member.is_empty()
                    || sources.iter().any(|(_, text)| {
                        has_word(text, owner)
                            && (has_word(text, &format!("fn {member}"))
                                || text.contains(&format!("\n    {member}")))
                    }))
        } else {
            continue;
        };
        names += 1;
        if !exists {
            missing.push(span);
        }
    }
    assert!(names > 100, "the page is read: {names} names");
    assert!(missing.is_empty(), "ARCHITECTURE.md names what is not there: {missing:?}");
}

#[test]
fn every_file_that_a_document_links_to_is_there() {
    for name in DOCUMENTS {
        let text = read(name);
        let folder = project().join(name).parent().expect("it has one").to_owned();
        for rest in text.split("](").skip(1) {
            let target = rest.split(')').next().unwrap_or_default();
            let target = target.split('#').next().unwrap_or_default();
            if !target.is_empty() && !target.starts_with("http") {
                assert!(folder.join(target).exists(), "{name} links to {target}");
            }
        }
    }
}

#[test]
fn the_scene_of_the_reference_passes_with_its_rules() {
    let text = read("docs/language.md");
    let block = |fence: &str| -> String {
        let start = text.find(fence).unwrap_or_else(|| panic!("there is a {fence}"));
        let inside = &text[start + fence.len()..];
        inside[..inside.find("```").expect("it ends")].to_owned()
    };
    let home = Home::new();
    home.write("bench.lantern", block("```lantern\nlanguage 1\n"));
    home.write("night.scene", block("```scene\n"));
    let called = home.call(&["rehearse", "bench.lantern", "night.scene"]);
    assert_eq!(called.status, 0, "{}", called.stdout);
}

#[test]
fn the_tour_of_the_readme_shows_what_really_comes() {
    let text = read("README.md");
    let home = Home::with_example();
    let mut shown = 0;
    for block in text.split("```console\n").skip(1) {
        let block = &block[..block.find("```").expect("it ends")];
        let (call, output) = block.split_once('\n').expect("a call and what it printed");
        let Some(words) = call.strip_prefix("$ lantern ") else {
            continue;
        };
        let words: Vec<&str> = words.split(' ').collect();
        if output.is_empty() {
            continue;
        }
        let called = home.call(&words);
        assert_eq!(called.stdout.trim_end(), output.trim_end(), "{call}");
        shown += 1;
    }
    assert!(shown >= 3, "the tour shows {shown} calls");
}

/// Rules that need what a row of the table in `docs/backends.md` names.
const NEEDS: &[(&str, &str)] = &[
    ("combinations as triggers", "when key ctrl+f9 => log \"x\"\n"),
    (
        "single keys, taps, long presses, sequences, remaps, abbreviations",
        "remap j to k\nwhen typed \"brw\" => type \"x\"\n",
    ),
    ("buttons, wheel and shapes as triggers", "when key ctrl+back-button => log \"x\"\n"),
    ("one of several keyboards, pens", "when key f9 from device \"pad\" => log \"x\"\n"),
    ("typing, held keys", "when key ctrl+f9 { type \"x\"; hold shift { tap a } }\n"),
    (
        "programs in front, `focus`, `close`, the clipboard",
        "when key ctrl+f9 in app \"x\" { focus app \"y\"; paste \"z\" }\n",
    ),
    (
        "menus, `tally`, where the pointer is",
        "when key ctrl+f9 { choose \"Edit\"; log \"{pointer.x}\" }\n",
    ),
];

#[test]
fn the_table_of_back_ends_says_what_they_declare() {
    let text = read("docs/backends.md");
    let rows: Vec<Vec<&str>> = text
        .lines()
        .filter(|line| line.starts_with('|'))
        .map(|line| line.trim_matches('|').split('|').map(str::trim).collect())
        .collect();
    let backends = &rows[0][1..];
    assert_eq!(backends, ["x11", "evdev", "wlroots", "portal"]);
    let home = Home::new();
    for (name, rules) in NEEDS {
        let row =
            rows.iter().find(|row| row[0] == *name).unwrap_or_else(|| panic!("no row {name}"));
        home.write("bench.lantern", rules);
        for (backend, cell) in backends.iter().zip(&row[1..]) {
            let checked = home.call(&["check", "bench.lantern", "--backend", backend, "--json"]);
            let lacks = checked.stdout.contains("\"not-yet\"");
            // Outside a session no compositor has anything.
            let says = cell.starts_with("no") || cell.starts_with("where");
            assert_eq!(lacks, says, "{name}, {backend}: {cell}\n{}", checked.stdout);
        }
    }
}
