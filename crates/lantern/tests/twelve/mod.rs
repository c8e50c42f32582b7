//! Twelve scenes that come out alike on every desk: what a person's hands do, and the text that then stands
//! in the program in front. Compared there, not in a log of ours.

use std::time::Duration;

/// What the hands do.
#[derive(Debug, Clone, Copy)]
pub enum Hand {
    /// Press keys, joined by `+`, and let them go.
    Tap(&'static str),
    /// Press one.
    Press(&'static str),
    /// Let it go.
    Release(&'static str),
    /// Rest for so many milliseconds.
    Rest(u64),
}

use Hand::{Press, Release, Rest, Tap};

/// A scene.
pub struct Scene {
    pub name: &'static str,
    pub rules: &'static str,
    pub hands: &'static [Hand],
    /// What stands in the program's field at the end.
    pub text: &'static str,
}

/// Between two moves of the hands; none is faster, and a rule has typed by then.
pub const BETWEEN: Duration = Duration::from_millis(120);

/// All of them.
pub const TWELVE: [Scene; 12] = [
    Scene {
        name: "a key types a text",
        rules: "when key f9 => type \"section 2\\n\"",
        hands: &[Tap("f9"), Tap("f9")],
        text: "section 2\nsection 2\n",
    },
    Scene {
        name: "what is held does not spoil what is typed",
        rules: "when key ctrl+shift+f9 => type \"Bag 17 / core\"",
        hands: &[
            Press("ctrl"),
            Press("shift"),
            Tap("f9"),
            Release("shift"),
            Release("ctrl"),
            Tap("b"),
        ],
        text: "Bag 17 / coreb",
    },
    Scene {
        name: "keys without a rule pass through",
        rules: "when key f9 => type \"x\"",
        hands: &[Tap("b"), Tap("shift+c"), Tap("space"), Tap("d")],
        text: "bC d",
    },
    Scene {
        name: "a key becomes another, under a modifier as well",
        rules: "remap j to k",
        hands: &[Tap("j"), Tap("shift+j"), Tap("k")],
        text: "kKk",
    },
    Scene {
        name: "a tap and a long press of one key",
        rules: "when key f7 tapped => type \"tap \"\nwhen key f7 held 300ms => type \"long \"",
        hands: &[Tap("f7"), Rest(100), Press("f7"), Rest(500), Release("f7")],
        text: "tap long ",
    },
    Scene {
        name: "two keys together, and each alone",
        rules: "when key j+k => type \"both \"",
        hands: &[
            Press("j"),
            Press("k"),
            Release("k"),
            Release("j"),
            Rest(300),
            Tap("j"),
            Rest(200),
            Tap("k"),
        ],
        text: "jboth jk",
    },
    Scene {
        name: "one combination after another",
        rules: "when keys f5, f6 within 2s => type \"through \"",
        hands: &[Tap("f5"), Tap("f6"), Rest(100), Tap("b")],
        text: "through b",
    },
    Scene {
        name: "an abbreviation is taken back and written out",
        rules: "when typed \"sct\" => type \"section\"",
        // The last finger stays on its key while the rule types, and the key is one of what it types.
        hands: &[
            Tap("space"),
            Tap("s"),
            Tap("c"),
            Press("t"),
            Rest(200),
            Release("t"),
            Tap("space"),
            Tap("x"),
        ],
        text: " section x",
    },
    Scene {
        name: "a layer takes keys as long as it is on",
        rules: "when key f4 => enter layer way\nlayer way {\nwhen key h => type \"left \"\nwhen key escape => leave layer way\n}",
        hands: &[Tap("h"), Tap("f4"), Tap("h"), Tap("escape"), Tap("h")],
        text: "hleft h",
    },
    Scene {
        name: "a modifier is held around steps",
        rules: "when key f8 { hold shift { tap a, b }; tap d }",
        hands: &[Tap("f8")],
        text: "ABd",
    },
    Scene {
        name: "a rule remembers",
        rules: "let n = 0\nwhen key f10 { set n = n + 1; type \"{n} \" }\nwhen key f11 if n > 2 => type \"enough\"",
        hands: &[Tap("f11"), Tap("f10"), Tap("f10"), Tap("f10"), Tap("f11")],
        text: "1 2 3 enough",
    },
    Scene {
        name: "one rule for a set of keys knows which",
        rules: "when key super+[1..3] as k => type \"drawer {k} \"",
        hands: &[Tap("super+2"), Tap("super+3"), Tap("2")],
        text: "drawer 2 drawer 3 2",
    },
];
