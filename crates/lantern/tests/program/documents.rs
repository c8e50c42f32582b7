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
    "docs/protocol.md",
    "docs/devices.md",
    "docs/gestures.md",
    "docs/voice.md",
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
