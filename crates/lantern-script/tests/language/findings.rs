//! The table of findings, and what each is said of.

use lantern_script::codes::{CODES, Code, Severity};

use crate::{check_text, names};

#[test]
fn every_bad_example_has_its_finding_and_every_good_one_has_none() {
    for row in CODES {
        // Only who reads files knows which are there; the program's tests see to that one.
        if row.code != Code::NoSuchFile {
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
        "when key escap => tap a\n",
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
fn every_construct_that_is_not_done_is_named_and_costs_nothing_else() {
    let constructs = [
        "device pedals = serial \"/dev/ttyACM0\" at 9600",
        "words state = \"on | off\"",
        "shape hook = path \"down left\"",
        "remap caps-lock to ctrl, tapped to escape",
        "layer nudge {\n  when key up => tap a\n}",
        "when voice \"next [core] section\" as said => tap a",
        "when keys ctrl+k, a within 1s => tap a",
        "when typed \"ftw\" => tap a",
        "when gesture hook while holding forward-button => tap a",
        "when line from pedals contains \"left\" => tap a",
        "when message \"a/+\" on hut => tap a",
        "when call \"/x\" on door => tap a",
        "when every 5min => tap a",
        "when at 06:30 => tap a",
        "when started => tap a",
        "when window opened app \"x\" => tap a",
        "when key a tapped => tap b",
        "when key a twice => tap b",
        "when key a held 400ms => tap b",
        "when key j+k => tap b",
        "when key super => tap b",
        "when key back-button => tap b",
        "when key f8 in title \"x\" => tap b",
        "when key f8 not in app \"x\" => tap b",
        "when key f8 in layer nudge => tap b",
        "when key f8 from device \"x\" => tap b",
        "when key f8 at most once per 5s => tap b",
        "when key f8 after quiet 30ms => tap b",
        "when key f8 even when locked => tap b",
        "when key f8 => paste \"x\"",
        "when key f8 => drag left to 1, 2",
        "when key f8 => move to 1, 2 over 200ms",
        "when key f8 => move to 10%, 20% of window",
        "when key f8 => launch \"x\" as player",
        "when key f8 => end player",
        "when key f8 => focus app \"x\"",
        "when key f8 => with app \"x\" { tap a }",
        "when key f8 => choose \"Edit\", \"Select All\"",
        "when key f8 => notify \"x\"",
        "when key f8 => say \"x\"",
        "when key f8 => play any of \"a\", \"b\"",
        "when key f8 => volume up 5%",
        "when key f8 => ask \"How deep?\" at most 5s",
        "when key f8 => send pedals \"x\"",
        "when key f8 => put fans \"/zones/saw/fan\" body \"on\"",
        "when key f8 => wait until now.hour == 5 at most 5s else { tap a }",
        "when key f8 { run \"x\" else { tap a } }",
        "when key f8 { let out = run \"x\" }",
        "when key f8 => for n in 1..9 { tap a }",
        "when key f8 {\n  any of { tap a }\n  or { tap b }\n}",
        "when key f8 => pause feed",
        "when key f8 => enter layer nudge",
        "when key f8 => shell `ls`",
        "when key f8 => type upper(\"x\")",
        "when key f8 => type \"{pointer.x}\"",
        "when key f8 if \"x\" matches \"y\" => tap a",
        "settings { attention = \"lantern\" }",
        "use \"cold-room.lantern\" as room with fan-port = 4710",
    ];
    for construct in constructs {
        let text = format!("{construct}\nwhen key f9 => tap a\n");
        let found = names(&text);
        assert!(!found.is_empty(), "{construct} was accepted in silence");
        assert!(found.iter().all(|name| *name == "not-yet"), "{construct}: {found:?}");
        let broken_after = format!("{construct}\nwhen key f9 => typ \"a\"\n");
        assert!(names(&broken_after).contains(&"unexpected"), "{construct} ate the next rule");
    }
}
