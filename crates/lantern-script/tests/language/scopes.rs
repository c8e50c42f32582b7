//! Names: where they are known, and what is said when they are not.

use lantern_script::codes::Severity;

use crate::{check_text, names};

#[test]
fn names_end_with_their_block() {
    let ended = [
        "when key f9 { if true { let a = 1; log a }; log a }\n",
        "when key f9 { repeat 2 times { let a = 1; log a }; log a }\n",
        "when key f9 { hold ctrl { let a = 1; log a }; log a }\n",
        "when key f9 { let a = 1; log a }\nwhen key f8 => log a\n",
        "macro m(a) { log a }\nwhen key f9 { m(1); log a }\n",
    ];
    for text in ended {
        assert_eq!(names(text), ["no-such-name"], "{text}");
    }
}

#[test]
fn a_name_means_one_thing_at_a_time() {
    let twice = [
        "let a = 1\nwhen key f9 { let a = 2; log a }\nwhen key f8 => log a\n",
        "when key f9 { let a = 1; if true { let a = 2; log a }; log a }\n",
        "macro m(a, a) { log a }\nwhen key f9 => m(1, 2)\n",
        "macro m() { wait }\nmacro m() { wait }\nwhen key f9 => m()\n",
    ];
    for text in twice {
        assert!(names(text).contains(&"named-twice"), "{text}: {:?}", names(text));
    }
    let fine = "when key f9 { if true { let a = 1; log a }; if true { let a = 2; log a } }\n\
                when key f8 { let a = 3; log a }\nmacro a() { wait }\nwhen key f7 named a => a()\n";
    assert_eq!(names(fine), [""; 0]);
}

#[test]
fn macros_are_known_before_and_behind_them_and_values_from_above() {
    assert_eq!(names("when key f9 => m()\nmacro m() { wait }\n"), [""; 0]);
    assert_eq!(names("let b = a\nlet a = 1\nwhen key f9 => log b + a\n"), ["no-such-name"]);
}

#[test]
fn what_is_set_but_never_read_is_unused() {
    assert_eq!(names("let a = 1\nwhen key f9 => set a = 2\n"), ["unused"]);
    assert_eq!(names("when key f9 { let a = 1; set a = 2 }\n"), ["unused"]);
    assert_eq!(names("macro m(a, b) { log a }\nwhen key f9 => m(1, 2)\n"), ["unused"]);
    assert_eq!(names("when key f9 as k => wait\n"), ["unused"]);
    assert_eq!(names("macro m() { wait }\n"), ["unused"]);
}

#[test]
fn what_a_part_that_cannot_be_read_mentions_counts_as_used() {
    let text = "let hut = 1\nmacro note() { tap a }\nwhen key f9 { typ \"{hut}\" note }\n";
    assert_eq!(names(text), ["unexpected"]);
    assert_eq!(names("let a = \nwhen key f9 => log \"{a}\"\n"), ["unexpected"]);
}

#[test]
fn what_a_broken_part_may_have_named_is_not_missed() {
    let text = "let a = = 1\nmacro m(( { wait }\nwhen key f6 named feed agan { wait }\n\
                when key f9 { log a; m(); stop feed }\n";
    assert!(names(text).iter().all(|name| *name == "unexpected"), "{:?}", names(text));
}

#[test]
fn held_is_known_only_where_a_key_is_followed() {
    assert_eq!(names("when key f9 while held { if held { wait } }\n"), [""; 0]);
    assert_eq!(names("when key f9 { if held { wait } }\n"), ["no-such-name"]);
    assert_eq!(
        names("macro m() { if held { wait } }\nwhen key f9 while held => m()\n"),
        ["no-such-name"]
    );
}

#[test]
fn a_circle_of_macros_is_warned_of_at_each_of_them() {
    let text = "macro a() { b() }\nmacro b() { c() }\nmacro c() { a() }\nmacro d() { a() }\nwhen key f9 => d()\n";
    assert_eq!(names(text), ["calls-itself"; 3]);
    assert!(check_text(text).rules.is_some(), "the file runs");
}

#[test]
fn near_names_are_offered_and_far_ones_are_not() {
    let help = |text: &str| {
        let checked = check_text(text);
        let error = |f: &&lantern_script::Finding| f.severity() == Severity::Error;
        checked.findings.iter().find(error).and_then(|f| f.help.clone()).unwrap_or_default()
    };
    assert!(help("let section = 1\nwhen key f9 => log sectoin\n").contains("`section`"));
    assert!(help("when key f9 => log drawer\n").contains("`\"drawer\"`"));
    assert!(help("when key f9 => log up\n").contains("key up"));
    assert!(help("macro bag() { wait }\nwhen key f9 => bga()\n").contains("`bag`"));
    assert!(help("when key f9 => drill()\n").contains("macro drill()"));
    assert!(help("when key f9 => stop fed\nwhen key f8 named feed => wait\n").contains("`feed`"));
    assert!(help("settings { panik = key escape }\nwhen key f9 => wait\n").contains("`panic`"));
}

#[test]
fn words_of_the_language_are_no_names() {
    for word in ["when", "tap", "layer", "voice", "held", "paste"] {
        let found = names(&format!("macro {word}() {{ wait }}\nwhen key f9 => wait\n"));
        assert!(found.contains(&"unexpected"), "{word}: {found:?}");
    }
}
