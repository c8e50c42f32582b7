//! Findings about the set as a whole: each said where it should be, and nowhere else.

use crate::{names, rendered};

/// Files that have exactly this finding, and files that have none.
fn said_and_unsaid(name: &str, said: &[&str], unsaid: &[&str]) {
    for text in said {
        assert_eq!(names(text), [name], "{text}\n{}", rendered(text));
    }
    for text in unsaid {
        assert_eq!(names(text), [""; 0], "{text}\n{}", rendered(text));
    }
}

#[test]
fn rules_that_never_fire() {
    said_and_unsaid(
        "never-fires",
        &[
            "layer nudge { when key up => tap a }\n",
            "when key f9 in layer nudge => tap a\n",
            "when key f9 if false => tap a\n",
            "when key f9 if 1 == 2 and is-down(shift) => tap a\n",
            "when key f9 in app \"x\" not in app \"x\" => tap a\n",
            "remap caps-lock to ctrl\nwhen key caps-lock => tap a\n",
            "remap caps-lock to ctrl\nwhen key shift+caps-lock => tap a\n",
            "when typed \"sc\" => tap a\nwhen typed \"sct\" => tap b\n",
            "when keys f1, f2 => tap a\nwhen keys f1, f2, f3 => tap b\n",
        ],
        &[
            "layer nudge { when key up => tap a }\nwhen key f5 => enter layer nudge\n",
            "when key f9 if true or is-down(shift) => tap a\n",
            "in app \"x\" { remap caps-lock to ctrl }\nwhen key caps-lock => tap a\n",
            "remap ctrl+h to left\nwhen key h in layer l => tap a\nwhen key f5 => enter layer l\n",
            "when typed \"sc\" in app \"x\" => tap a\nwhen typed \"sct\" => tap b\n",
            "when keys f1, f2 => tap a\nwhen keys f1, f3, f2 => tap b\n",
        ],
    );
}

#[test]
fn rules_that_go_round() {
    let hut = "device hut = broker \"mqtt://127.0.0.1\"\n";
    said_and_unsaid(
        "fires-itself",
        &[
            "when key f9 => tap f9\n",
            "when key f9 => tap f10\nwhen key f10 => tap f9\n",
            "macro go() { tap ctrl+shift+a }\nwhen key shift+ctrl+a => go()\n",
            "when typed \"sct\" => type \"a sct\"\n",
            &format!("{hut}when message \"a/#\" on hut => publish hut \"a/b\" body \"x\"\n"),
            "when window focused app \"x\" => focus app \"x\"\n",
            "when window opened app \"x\" => launch \"x\"\n",
        ],
        &[
            "when key f9 => tap f10\n",
            "when typed \"sct\" => type \"section\"\n",
            &format!("{hut}when message \"a/+\" on hut => publish hut \"a/b/c\" body \"x\"\n"),
            "when window focused app \"x\" => focus app \"y\"\n",
        ],
    );
}

#[test]
fn loops_that_nothing_paces() {
    said_and_unsaid(
        "busy-loop",
        &[
            "when key f9 => repeat { tap a }\n",
            "when key f9 => repeat while is-down(f9) { log \"x\" }\n",
            "when key f9 => repeat every 0ms { tap a }\n",
            "macro go() { log \"x\" }\nwhen key f9 => repeat { go() }\n",
        ],
        &[
            "when key f9 => repeat every 20ms { tap a }\n",
            "when key f9 => repeat 1000 times { tap a }\n",
            "when key f9 => repeat { wait 1s }\n",
            "when key f9 => repeat { type \"x\" every 5ms }\n",
            "macro go() { wait 1s }\nwhen key f9 => repeat { go() }\n",
            "when key f9 => repeat { log \"x\"; stop }\n",
        ],
    );
}

#[test]
fn presses_that_nothing_releases() {
    said_and_unsaid(
        "unreleased-press",
        &[
            "when key f9 { press ctrl; tap c }\n",
            "let n = 1\nwhen key f9 { press a; if n == 1 { release a } }\n",
            "when key f9 { press a; stop }\n",
            "when key f9 { press a\n any of { release a } or { log \"x\" } }\n",
        ],
        &[
            "when key f9 { press ctrl; tap c; release ctrl }\n",
            "let n = 1\nwhen key f9 { press a; if n == 1 { release a } else { release a } }\n",
            "when key f9 while held { press a; wait }\n",
            "when key f9 { press a; wait }\n",
            "macro up() { release a }\nwhen key f9 { press a; up() }\n",
            "when key f9 => hold ctrl { tap c }\n",
        ],
    );
}

#[test]
fn keys_of_plain_typing() {
    said_and_unsaid(
        "plain-key",
        &[
            "when key q => tap f1\n",
            "when key shift+7 => tap f1\n",
            "when key space => tap f1\n",
            "when key '?' => tap f1\n",
        ],
        &[
            "when key ctrl+q => tap f1\n",
            "when key q passing => log \"x\"\n",
            "when key q in app \"x\" => tap f1\n",
            "when key insert => tap f1\n",
            "when key pad-7 => tap f1\n",
        ],
    );
    said_and_unsaid(
        "slows-typing",
        &[
            "when key j+k => tap f1\n",
            "when key q tapped => tap f1\n",
            "when key q held 400ms in app \"x\" => tap f1\n",
            "when keys g, g => tap f1\n",
        ],
        &[
            "when key f7+f8 => tap f1\n",
            "when key ctrl+j+k => tap f1\n",
            "layer l { when key j+k => tap f1 }\nwhen key f5 => enter layer l\n",
            "when keys ctrl+k, g => tap f1\n",
        ],
    );
}

#[test]
fn phrases_alone_and_alike() {
    said_and_unsaid(
        "single-word-phrase",
        &["when voice \"next\" => tap a\n", "when voice \"next [section]\" => tap a\n"],
        &[
            "settings { attention = \"lantern\" }\nwhen voice \"next\" => tap a\n",
            "when voice \"next section\" => tap a\n",
            "when voice \"next ...\" => tap a\n",
        ],
    );
    said_and_unsaid(
        "too-alike",
        &[
            "when voice \"right the core\" => tap a\nwhen voice \"write the core\" => tap b\n",
            "when voice \"saw one on\" => tap a\nwhen voice \"saw one [is] own\" => tap b\n",
        ],
        &[
            "when voice \"open the drawer\" => tap a\nwhen voice \"next section\" => tap b\n",
            "when voice \"right core\" in app \"x\" => tap a\nwhen voice \"write core\" in app \"y\" => tap b\n",
            "when voice \"right core\" or voice \"write core\" => tap a\n",
        ],
    );
}

#[test]
fn warnings_are_allowed_by_name_on_the_line_below_or_beside() {
    let silenced = [
        "# allow plain-key\nwhen key q => tap f1\n",
        "when key q => tap f1  # allow plain-key\n",
        "# allow plain-key\n\n# another comment\n## A description\nwhen key q => tap f1\n",
        "# allow slows-typing, too-alike\nwhen key j+k => tap f1\n",
    ];
    for text in silenced {
        assert_eq!(names(text), [""; 0], "{text}");
    }
    assert_eq!(names("# allow slows-typing\nwhen key q => tap f1\n"), ["plain-key"]);
    assert_eq!(names("# allow no-such-key\nwhen key f99 => tap f1\n"), ["no-such-key"]);
    assert_eq!(names("# allow plain-leter\nwhen key f9 => tap f1\n"), ["no-such-name"]);
    let next = "# allow plain-key\nwhen key q => tap f1\nwhen key w => tap f1\n";
    assert_eq!(names(next), ["plain-key"], "it is for one line");
}

#[test]
fn a_layout_that_lacks_keys_or_characters_says_so() {
    use lantern_model::Layout;
    use lantern_script::{Source, lacking_on_layout};
    let text = "when key ctrl+'ß' => type \"Größe\"\nwhen key ctrl+'ü' => tap ctrl+'é', a\n";
    let source = Source::new("bench.lantern", text);
    let count = |name: &str| {
        let layout = Layout::named(name).expect("it is known");
        lacking_on_layout(&source, &layout, name).len()
    };
    assert_eq!((count("us"), count("gb"), count("de"), count("fr")), (4, 4, 1, 3));
    assert_eq!(Layout::named("xx"), None);
}

#[test]
fn warnings_are_told_beside_errors_elsewhere() {
    let found = names("when key q => tap a\nwhen key f9 => tap nothing\n");
    assert_eq!(found, ["plain-key", "no-such-key"]);
}

#[test]
fn what_may_follow_from_an_error_is_no_warning() {
    for (text, error) in [
        // The step that cannot be read may be the one that releases, waits or enters.
        ("when key f9 { press ctrl; relase ctrl }\n", "unexpected"),
        ("when key f9 => repeat { wiat 1s }\n", "unexpected"),
        ("macro rest() { wiat 1s }\nwhen key f9 => repeat { rest() }\n", "unexpected"),
        ("layer night { when key f8 => tap a }\nwhen key f9 { entr layer night }\n", "unexpected"),
        ("settings { attention = 5 }\nwhen voice \"next\" => tap a\n", "wrong-kind"),
    ] {
        assert_eq!(names(text), [error], "{text}");
    }
}

#[test]
fn a_key_of_plain_use_that_is_taken_everywhere_is_told() {
    for key in [
        "left-button",
        "right-button",
        "wheel-up",
        "wheel-down",
        "enter",
        "space",
        "escape",
        "tab",
        "backspace",
        "delete",
        "up",
        "down",
        "left",
        "right",
        "q",
        "'?'",
        "shift+q",
    ] {
        assert_eq!(names(&format!("when key {key} => wait 1ms\n")), ["plain-key"], "{key}");
        let released = format!("when key {key} released => wait 1ms\n");
        assert!(!names(&released).is_empty(), "{key} released");
        for fine in [
            format!("when key ctrl+{key} => wait 1ms\n"),
            format!("when key {key} passing => wait 1ms\n"),
            format!("when key {key} in app \"log\" => wait 1ms\n"),
            format!("when key {key} in layer one => wait 1ms\nwhen key f9 => enter layer one\n"),
        ] {
            if !(key.starts_with("shift") && fine.starts_with("when key ctrl")) {
                assert!(!names(&fine).contains(&"plain-key"), "{fine}");
            }
        }
    }
    for key in ["f9", "back-button", "middle-button", "pen-button", "pause", "volume-up", "shift"] {
        assert!(!names(&format!("when key {key} => wait 1ms\n")).contains(&"plain-key"), "{key}");
    }
}
