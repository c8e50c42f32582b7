//! The table of findings, and what each is said of.

use lantern_script::codes::{CODES, Code, Severity};

use crate::{check_text, names};

#[test]
fn every_bad_example_has_its_finding_and_every_good_one_has_none() {
    for row in CODES {
        // A desk and a layout must be named for these; tests of their own see to them.
        if !matches!(row.code, Code::NotYet | Code::NotOnLayout) {
            let found = names(row.bad);
            assert!(found.contains(&row.name), "{}: {found:?}", row.name);
        }
        assert_eq!(names(row.good), [""; 0], "the good example of {}", row.name);
    }
}

#[test]
fn every_code_is_found_by_its_name_and_stands_at_its_place() {
    for row in CODES {
        assert_eq!(Code::named(row.name), Some(row.code));
        assert_eq!(row.code.row().name, row.name);
    }
    assert_eq!(Code::named("no-such-finding"), None);
}

#[test]
fn an_error_keeps_the_rules_back_and_a_warning_does_not() {
    let warned = check_text("let spare = 1\nwhen key f9 => tap a\n");
    assert_eq!(warned.findings[0].severity(), Severity::Warning);
    assert!(warned.rules.is_some());
    assert!(check_text("when key f9 => tap nothing\n").rules.is_none());
}

#[test]
fn the_same_keys_are_fine_in_other_places_or_on_other_conditions() {
    let fine = [
        "when key f9 in app \"a\" => tap a\nwhen key f9 in app \"b\" => tap b\nwhen key f9 => tap c\n",
        "let n = 1\nwhen key f9 if n == 1 => tap a\nwhen key f9 if n == 2 => tap b\n",
        "when key f9 => tap a\nwhen key f9 released => tap b\n",
        "when key f9 => tap a\nwhen key pad-9 => tap b\nwhen key shift+f9 => tap c\n",
    ];
    for text in fine {
        assert_eq!(names(text), [""; 0], "{text}");
    }
    let taken = [
        "when key ctrl+shift+a => tap a\nwhen key shift+ctrl+a => tap b\n",
        "when key f9 in app \"A\" => tap a\nin app \"a\", \"b\" {\nwhen key f9 => tap b\n}\n",
        "when key f9 or key f9 => tap a\n",
        "when key [f1..f4] => tap a\nwhen key f3 => tap b\n",
        "let n = 1\nwhen key f9 if n == 1 => tap a\nwhen key f9 if n == 1 => tap b\n",
    ];
    for text in taken {
        assert_eq!(names(text), ["taken-twice"], "{text}");
    }
}

#[test]
fn a_fix_mends_what_it_is_offered_for() {
    let broken = [
        "let section = 2\nwhen key f9 => type \"{sektion}\"\n",
        "when key f9 => type \"a } b\"\n",
        "let n = 2\nwhen key f9 => move by n -1, 0\n",
        "let n = 2\nwhen key f9 => move by n-1, 0\n",
        "when key f9 => wait 5sec\n",
        "when key f9 => tap escap\n",
        "when key f9 repeting => tap a\n",
        "language 3\nwhen key f9 => tap a\n",
        "when key f9 => tap <KeyQQ>\n",
        "when key f9 => type \"core\n",
    ];
    for text in broken {
        let checked = check_text(text);
        let fix = checked.findings.iter().find_map(|finding| finding.fix.clone());
        let fix = fix.unwrap_or_else(|| panic!("no fix for {text}: {:?}", checked.findings));
        let mut mended = text.to_owned();
        mended.replace_range(fix.span.range(), &fix.text);
        assert_eq!(names(&mended), [""; 0], "{mended}");
    }
}

#[test]
fn a_setting_may_be_called_like_a_step() {
    let text = "settings {\n    tap = 200ms\n    pause = 400ms\n    twice = 300ms\n}\nwhen key f9 tapped => type \"12\"\n";
    assert_eq!(names(text), [""; 0]);
}

#[test]
fn words_of_parts_may_begin_a_line_of_a_closed_block() {
    for text in [
        "when key f1 {\nlet t = \"a\"\ntype t\n}\n",
        "when key f1 {\n    repeat 2 times {\nlet t = 1\nlog t\n}\n}\n",
        "in app \"log\" {\nwhen key f1 {\nlet t = 1\nlog t\n}\n}\n",
        "macro note(a) { log a }\nwhen key f1 { \n## a note\nnote(\"x\")\n}\n",
        "layer night {\nwhen key f1 {\n## a note\nlog \"x\"\n}\n}\nwhen key f2 => enter layer night\n",
    ] {
        assert!(
            !names(text).contains(&"unclosed") && check_text(text).rules.is_some(),
            "{text}: {:?}",
            names(text)
        );
    }
}

#[test]
fn a_block_that_is_not_closed_ends_before_the_next_part() {
    for part in [
        "let depth = 1",
        "device p = serial \"/dev/x\" at 9600",
        "words a = \"b | c\"",
        "remap f7 to f8",
        "## about it",
        "shape s = path \"down right\"",
    ] {
        let text = format!("when key f1 {{\n    tap a\n{part}\nwhen key f2 => tap b\n");
        assert_eq!(names(&text).iter().filter(|name| **name == "unclosed").count(), 1, "{text}");
    }
}

#[test]
fn a_byte_order_mark_is_no_character_of_the_file() {
    assert_eq!(names("\u{feff}when key f9 => tap a\n"), [""; 0]);
    let wrong = check_text("\u{feff}when key f99 => tap a\n");
    let source = lantern_script::Source::new("bench.lantern", "\u{feff}when key f99 => tap a\n");
    assert_eq!(source.place(wrong.findings[0].span.start).column, 10);
    assert_eq!(
        lantern_script::format("\u{feff}when key f9   => tap a\n"),
        "when key f9 => tap a\n"
    );
    assert_eq!(
        lantern_script::format("\u{feff}##Cut\nwhen key f9 => tap a\n"),
        "## Cut\nwhen key f9 => tap a\n"
    );
    assert!(names("when key f9 => tap \u{feff}a\n").contains(&"bad-character"));
}

/// The keys of a set as `KEY` names it.
fn keys_of(set: &str) -> Vec<String> {
    let checked = check_text(&format!("when key ctrl+{set} => tap f1\n"));
    let rules = checked.rules.unwrap_or_else(|| panic!("{set}: {:?}", checked.findings));
    let key = |trigger: &lantern_model::Trigger| match &trigger.kind {
        lantern_model::TriggerKind::Key { combo, .. } => {
            combo.last().expect("it has a key").to_string()
        }
        other => panic!("{other:?}"),
    };
    rules.rules[0].triggers.iter().map(key).collect()
}

#[test]
fn everything_behind_except_is_left_out() {
    assert_eq!(keys_of("[a..h, 0..9 except e, f, 1..3]").join(" "), "a b c d g h 0 4 5 6 7 8 9");
    let buttons = keys_of("[mouse except back-button, forward-button]");
    assert!(!buttons.iter().any(|key| key.ends_with("ward-button")), "{buttons:?}");
    assert!(!buttons.contains(&"back-button".to_owned()), "{buttons:?}");
    assert_eq!(keys_of("[up, 1..4 except 2]").join(" "), "up 1 3 4");
}

#[test]
fn an_exception_that_leaves_nothing_out_is_told() {
    for (set, times) in [
        ("[a..h except c]", 0),
        ("[a..h except c..e, g]", 0),
        ("[1..9 except 5, up]", 1),
        ("[a..h except x, y]", 2),
        ("[a, b except a]", 1),
        ("[a..h, c except c]", 1),
        ("[pad except a..c]", 1),
    ] {
        let found = names(&format!("when key ctrl+{set} => tap f1\n"));
        let expected = vec!["useless-except"; times];
        assert_eq!(found, expected, "{set}");
    }
    assert_eq!(names("when key ctrl+[a..h except a except b] => tap f1\n"), ["unexpected"]);
}
