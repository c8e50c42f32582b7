//! The canonical layout.

use lantern_script::{Source, format, lex, parse};
use proptest::prelude::*;

use crate::properties::soup;

const EXAMPLES: &[&str] = &[
    include_str!("../../../../examples/bench.lantern"),
    include_str!("../../../../examples/night.scene"),
    include_str!("cases/whole-language.lantern"),
];

/// A tree without the places of its parts.
fn meaning(text: &str) -> String {
    let (file, _) = parse(&Source::new("bench.lantern", text), 0);
    let shown = format!(
        "{:?}",
        (file.items, file.allowed.iter().map(|a| &a.name.text).collect::<Vec<_>>())
    );
    let places = regex::Regex::new(r"Span \{ start: \d+, end: \d+ \}").expect("it is a pattern");
    places.replace_all(&shown, "").into_owned()
}

/// Whether every token of it is whole, so that it can be laid out.
fn is_whole(text: &str) -> bool {
    let mut findings = Vec::new();
    lex(text, 0, text.len(), &mut findings);
    findings.is_empty()
}

/// Whether the parser recovers from a mistake at the same place in both texts: it recovers at a word that begins
/// an item only at the start of a line.
fn recovers_alike(text: &str, layout: &str) -> bool {
    let parts = ["let", "use", "device", "layer", "remap", "secret", "settings", "shape", "words"];
    let unindented = |text: &str| -> Vec<bool> {
        let word_ends = |c: char| !c.is_alphanumeric();
        let begun = text.lines().filter(|line| {
            parts.contains(&line.trim_start().split(word_ends).next().unwrap_or_default())
        });
        begun.map(|line| !line.starts_with(char::is_whitespace)).collect()
    };
    let is_sound = parse(&Source::new("bench.lantern", text), 0).1.is_empty();
    is_sound || unindented(text) == unindented(layout)
}

/// Everything but blanks and line ends.
fn words(text: &str) -> Vec<&str> {
    let tokens = lex(text, 0, text.len(), &mut Vec::new());
    let words = tokens.iter().map(|token| text[token.span.range()].trim());
    words.filter(|word| !word.is_empty()).collect()
}

#[test]
fn blanks_indents_and_empty_lines_are_put_in_order() {
    let text = "\n\nlanguage   1\n\n\n\n# a comment  \nwhen key f9   in app \"x\"{\n tap a,b   # twice\n\n\n if n==1{log \"x\"}\n  else{ log \"y\" }\n\n}\nwhen key f1\nor key f2\n{\ntap ctrl+(k) ,enter\nlet l =[ 1 ,2..3 ]\nlog upper( \"a\" )\n}\nremap f1 to f2,\ntapped to f3\n##  About it\nwhen key f3=>wait 1s;;\n";
    insta::assert_snapshot!(format(text));
}

#[test]
fn texts_of_several_lines_are_left_alone() {
    let text = "when key f9 {\n type \"\"\"\n   a\n     b  \n \"\"\"\n type `x   y`\n}\n";
    let layout = format(text);
    assert!(layout.contains("\"\"\"\n   a\n     b  \n \"\"\""), "{layout}");
    assert_eq!(meaning(text), meaning(&layout));
}

#[test]
fn what_touches_means_something_and_stays() {
    for line in [
        "tap ctrl+e",
        "log a + b",
        "tap (k)",
        "go(k)",
        "tap ctrl+(k)",
        "log room.depth",
        "move by -1, 0",
    ] {
        let text = format!("when key f9 {{\n    {line}\n}}\n");
        assert_eq!(format(&text), text);
    }
}

#[test]
fn line_ends_of_other_systems_become_ours() {
    assert_eq!(format("let a = 1\r\nlet b = 2\r\n"), "let a = 1\nlet b = 2\n");
    assert_eq!(format("let a = 1"), "let a = 1\n");
    assert_eq!(format(""), "");
}

#[test]
fn a_part_behind_a_mistake_is_seen_where_it_begins_its_line() {
    assert!(meaning("key\nlayer night {\n}\n").contains("InLayer"));
    assert!(!meaning("key\n layer night {\n}\n").contains("InLayer"));
}

#[test]
fn the_examples_keep_their_meaning_and_their_comments() {
    for text in EXAMPLES {
        let layout = format(text);
        assert_eq!(format(&layout), layout);
        assert_eq!(words(text), words(&layout));
        assert_eq!(meaning(text), meaning(&layout));
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 1500, max_global_rejects: 200_000, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn laying_out_twice_is_laying_out_once_and_loses_no_word(text in soup()) {
        prop_assume!(is_whole(&text));
        let layout = format(&text);
        prop_assert_eq!(&format(&layout), &layout, "from {:?}", text);
        prop_assert_eq!(words(&text).concat().replace([' ', '\t', '\r'], ""), words(&layout).concat().replace([' ', '\t', '\r'], ""));
    }

    #[test]
    fn laying_out_keeps_the_meaning(text in soup()) {
        prop_assume!(is_whole(&text));
        let layout = format(&text);
        prop_assume!(recovers_alike(&text, &layout));
        prop_assert_eq!(meaning(&text), meaning(&layout), "from {:?}", text);
    }
}
