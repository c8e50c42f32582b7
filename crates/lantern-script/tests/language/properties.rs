//! What holds for every text, however broken.

use lantern_script::scene::parse_scene;
use lantern_script::{Source, check, lex, render};
use proptest::prelude::*;

const EXAMPLE: &str = include_str!("../../../../examples/bench.lantern");
const SCENE: &str = include_str!("../../../../examples/night.scene");

/// Pieces that a file is made of, and some that it is not.
fn piece() -> impl Strategy<Value = String> {
    let words = [
        "when",
        "key",
        "macro",
        "let",
        "settings",
        "in app",
        "if",
        "else",
        "repeat",
        "times",
        "every",
        "tap",
        "type",
        "hold",
        "press",
        "release",
        "toggle",
        "click",
        "left",
        "move",
        "by",
        "to",
        "run",
        "launch",
        "wait",
        "set",
        "log",
        "hint",
        "stop",
        "all",
        "named",
        "again",
        "stops",
        "repeating",
        "while held",
        "as",
        "or",
        "and",
        "not",
        "is-down",
        "voice",
        "device",
        "use",
        "except",
        "with",
        "remap",
        "layer",
        "words",
        "shape",
        "gesture",
        "line from",
        "message",
        "call",
        "every",
        "at most once per",
        "after quiet",
        "window opened app",
        "tapped",
        "twice",
        "held 400ms",
        "typed",
        "for",
        "in",
        "any of",
        "wait until",
        "ask",
        "pick",
        "put",
        "body",
        "volume up",
        "enter layer",
        "pause",
        "drag",
        "over",
        "of screen",
        "contains",
        "matches",
        "random(1, 6)",
        "window.title",
        "room.x",
        "1..9",
        "\"next [core] <number>\"",
        "# allow unused\n",
        "{",
        "}",
        "(",
        ")",
        "[",
        "]",
        ",",
        ";",
        "=>",
        "=",
        "==",
        "<",
        "+",
        "-",
        "*",
        "/",
        "%",
        "..",
        ".",
        "\n",
        "\n\n",
        " ",
        "  ",
        "#",
        "##",
        "\"",
        "\"\"\"",
        "`",
        "'",
        "\\",
        "{{",
        "}}",
        "<KeyQ>",
        "<K",
        "f9",
        "ctrl",
        "shift",
        "a",
        "7",
        "'?'",
        "1",
        "-1",
        "20ms",
        "5s",
        "10%",
        "06:30",
        "0.5",
        "5x",
        "\"text {n}\"",
        "\"a\"",
        "é",
        "−",
        "\u{0}",
        "\t",
        "\r\n",
        "Word",
        "🧊",
    ];
    prop_oneof![
        8 => proptest::sample::select(words.to_vec()).prop_map(str::to_owned),
        1 => "\\PC{0,6}",
    ]
}

pub fn soup() -> impl Strategy<Value = String> {
    proptest::collection::vec((piece(), any::<bool>()), 0..60).prop_map(|pieces| {
        pieces.into_iter().map(|(piece, space)| if space { piece + " " } else { piece }).collect()
    })
}

/// Whatever is said points into the text and can be shown.
fn holds(text: &str) {
    let source = Source::new("soup.lantern", text);
    let checked = check(&source);
    for finding in &checked.findings {
        assert!(source.text().get(finding.span.range()).is_some(), "{finding:?}");
        assert!(!render(finding, &source, false).is_empty());
    }
    let (_, findings) = parse_scene(&source);
    for finding in findings {
        assert!(source.text().get(finding.span.range()).is_some(), "{finding:?}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 1500, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn tokens_joined_give_the_text_back(text in soup()) {
        let tokens = lex(&text, 0, text.len(), &mut Vec::new());
        let joined: String = tokens.iter().map(|token| &text[token.span.range()]).collect();
        prop_assert_eq!(joined, text);
    }

    #[test]
    fn no_text_makes_it_panic(text in soup()) {
        holds(&text);
    }

    #[test]
    fn no_characters_make_it_panic(text in "\\PC{0,200}") {
        holds(&text);
    }
}

#[test]
fn deleting_or_doubling_any_one_token_never_panics() {
    for text in [EXAMPLE, SCENE] {
        let tokens = lex(text, 0, text.len(), &mut Vec::new());
        for token in tokens {
            let range = token.span.range();
            let mut without = text.to_owned();
            without.replace_range(range.clone(), "");
            holds(&without);
            let mut doubled = text.to_owned();
            doubled.insert_str(range.start, &text[range]);
            holds(&doubled);
        }
    }
}

#[test]
fn deleting_any_one_token_of_any_example_is_said_or_leaves_a_valid_file() {
    const DOCUMENTS: [&str; 2] = [
        include_str!("../../../../docs/cookbook.md"),
        include_str!("../../../../docs/language.md"),
    ];
    let examples = DOCUMENTS.iter().flat_map(|text| crate::documents::blocks(text, "lantern"));
    for text in examples {
        for token in lex(&text, 0, text.len(), &mut Vec::new()) {
            let mut without = text.clone();
            without.replace_range(token.span.range(), "");
            let checked = check(&Source::new("bench.lantern", &without));
            assert!(checked.rules.is_some() || !checked.findings.is_empty(), "{without}");
        }
    }
}

#[test]
fn cutting_the_file_anywhere_never_panics() {
    for text in [EXAMPLE, "when key f5 => rack.lamp.blink()"] {
        for (at, _) in text.char_indices() {
            holds(&text[..at]);
        }
    }
}

#[test]
fn one_broken_step_costs_only_its_rule() {
    let mut text = String::from("when key f1 { typ \"a\"; tap }\n");
    for key in 2..=12 {
        text.push_str(&format!("when key f{key} => tap nothing-{key}\n"));
    }
    let source = Source::new("bench.lantern", text);
    let checked = check(&source);
    let lines: Vec<u32> =
        checked.findings.iter().map(|f| source.place(f.span.start).line).collect();
    assert_eq!(lines, [1, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12]);
}
