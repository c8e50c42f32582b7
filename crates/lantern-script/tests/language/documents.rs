//! The reference of the language: every example in it holds.

use crate::names;

const REFERENCE: &str = include_str!("../../../../docs/language.md");

/// The fenced blocks of a document with that word behind the fence.
pub fn blocks(document: &str, word: &str) -> Vec<String> {
    let mut blocks = Vec::new();
    let mut block: Option<String> = None;
    for line in document.lines() {
        match &mut block {
            Some(text) if line == "```" => {
                blocks.push(std::mem::take(text));
                block = None;
            }
            Some(text) => {
                text.push_str(line);
                text.push('\n');
            }
            None if line == format!("```{word}") => block = Some(String::new()),
            None => {}
        }
    }
    blocks
}

#[test]
fn every_example_of_the_reference_has_nothing_to_mend() {
    let examples = blocks(REFERENCE, "lantern");
    assert!(examples.len() >= 11, "only {} examples", examples.len());
    for example in examples {
        assert_eq!(names(&example), [""; 0], "{example}");
    }
}

#[test]
fn every_finding_is_listed() {
    for row in lantern_script::codes::CODES {
        assert!(REFERENCE.contains(&format!("`{}`", row.name)), "{} is missing", row.name);
    }
}

#[test]
fn the_index_of_reserved_words_has_each_of_them_once() {
    let (_, index) = REFERENCE.split_once("## Reserved words").expect("it has an index");
    let table = index.lines().filter(|line| line.starts_with("| "));
    let mut listed: Vec<&str> = table.flat_map(|line| line.split('`').skip(1).step_by(2)).collect();
    listed.sort_unstable();
    assert_eq!(listed, lantern_script::RESERVED_WORDS);
}
