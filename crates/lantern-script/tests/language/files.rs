//! Files that use files.

use lantern_script::{Checked, Source, check, render, wanted_files};

/// Checks files as a set; the first is the one that was asked for.
fn check_files(files: &[(&str, &str)]) -> (Source, Checked) {
    let mut source = Source::new(files[0].0, files[0].1);
    for (name, text) in &files[1..] {
        source.add(*name, text);
    }
    let checked = check(&source);
    (source, checked)
}

fn names(files: &[(&str, &str)]) -> Vec<&'static str> {
    let (_, checked) = check_files(files);
    checked.findings.iter().map(|finding| finding.code.row().name).collect()
}

const ROOM: &str = "let fan-port = 1\nlet spare = 2\nwords state = \"on | off\"
device fans = web \"http://127.0.0.1:{fan-port}\"
macro blow(share) { put fans \"/fan\" body share }
when key f1 named fan => blow(fan-port)
when voice \"cold room fan <state>\" as said => blow(said.state)
layer frost { when key f2 => log \"{spare}\" }
";

#[test]
fn names_of_a_used_file_stand_under_its_name() {
    let main = "use \"rooms/cold.lantern\" as room with fan-port = 4710
when key f9 { room.blow(room.fan-port); stop room.fan; enter layer room.frost }
when key f10 { put room.fans \"/x\" body \"on\"; set room.spare = 3 }
";
    let (_, checked) = check_files(&[("bench.lantern", main), ("rooms/cold.lantern", ROOM)]);
    assert_eq!(checked.findings, []);
    let rules = checked.rules.expect("nothing is wrong");
    assert_eq!(rules.files, ["bench.lantern", "rooms/cold.lantern"]);
    assert_eq!(rules.layers, ["room.frost"]);
    assert_eq!(rules.devices[0].name, "room.fans");
    assert_eq!(rules.rules[0].name.as_deref(), Some("room.fan"));
    assert_eq!((rules.rules[0].place.file, rules.rules[0].place.line), (1, 6));
}

#[test]
fn without_a_name_the_names_join_ours_and_doubles_are_errors() {
    let main = "use \"cold.lantern\"\nwhen key f9 { blow(fan-port); enter layer frost }\n";
    assert_eq!(names(&[("bench.lantern", main), ("cold.lantern", ROOM)]), [""; 0]);
    let twice = format!("{main}let spare = 7\n");
    assert_eq!(names(&[("bench.lantern", &twice), ("cold.lantern", ROOM)]), ["named-twice"]);
}

#[test]
fn one_file_used_twice_is_two_sets() {
    let main = "use \"cold.lantern\" as north with fan-port = 1
use \"cold.lantern\" as south with fan-port = 2
when key f9 { enter layer north.frost; enter layer south.frost }
";
    // Both take f1 and hear the same phrase, which is said of the second.
    let found = names(&[("bench.lantern", main), ("cold.lantern", ROOM)]);
    assert_eq!(found, ["taken-twice", "too-alike"]);
}

#[test]
fn what_is_given_must_be_there_and_of_its_kind() {
    let unknown =
        "use \"cold.lantern\" as room with fan-prot = 1\nwhen key f9 => enter layer room.frost\n";
    assert_eq!(names(&[("bench.lantern", unknown), ("cold.lantern", ROOM)]), ["no-such-name"]);
    let kind =
        "use \"cold.lantern\" as room with spare = \"x\"\nwhen key f9 => enter layer room.frost\n";
    assert_eq!(names(&[("bench.lantern", kind), ("cold.lantern", ROOM)]), ["wrong-kind"]);
}

#[test]
fn a_file_does_not_see_the_names_of_the_one_that_uses_it() {
    let main = "let drawer = 1\nuse \"other.lantern\" as other\nwhen key f9 => log \"{drawer}\"\n";
    let other = "when key f1 => log \"{drawer}\"\n";
    assert_eq!(names(&[("bench.lantern", main), ("other.lantern", other)]), ["no-such-name"]);
}

#[test]
fn a_circle_is_told_with_its_way_and_the_rest_is_checked() {
    let files = [
        ("bench.lantern", "use \"a.lantern\" as a\nwhen key f9 => tap nothing\n"),
        ("a.lantern", "use \"b.lantern\" as b\n"),
        ("b.lantern", "use \"bench.lantern\" as back\n"),
    ];
    let (source, checked) = check_files(&files);
    let shown: Vec<String> = checked.findings.iter().map(|f| render(f, &source, false)).collect();
    insta::assert_snapshot!(shown.join("\n\n"));
}

#[test]
fn only_the_settings_of_the_first_file_count() {
    let other = "settings { panic = key ctrl+q\n attention = \"other\" }\nwhen key f1 => tap a\n";
    let main = "use \"other.lantern\"\nwhen key f9 => tap a\n";
    let (_, checked) = check_files(&[("bench.lantern", main), ("other.lantern", other)]);
    let rules = checked.rules.expect("nothing is wrong");
    assert_eq!(rules.settings.panic.to_string(), "ctrl+alt+shift+escape");
    assert_eq!(rules.settings.attention, "");
}

#[test]
fn wanted_files_are_seen_from_the_folder_of_who_uses_them() {
    let main =
        "use \"rooms/cold.lantern\" as room\nin app \"x\" {\n  use \"/srv/all.lantern\"\n}\n";
    let mut source = Source::new("/home/ilva/bench.lantern", main);
    let wanted = wanted_files(&source, 0);
    assert_eq!(wanted, ["/home/ilva/rooms/cold.lantern", "/srv/all.lantern"]);
    source.add(wanted[0].as_str(), "use \"../shared.lantern\"\n");
    assert_eq!(wanted_files(&source, 1), ["/home/ilva/shared.lantern"]);
    assert_eq!(wanted_files(&Source::new("x.lantern", "when key f9 => tap a\n"), 0), [""; 0]);
}

#[test]
fn a_finding_names_the_file_it_is_in() {
    let files = [
        ("bench.lantern", "use \"other.lantern\"\n"),
        ("other.lantern", "# a line\nwhen key f99 => tap a\n"),
    ];
    let (source, checked) = check_files(&files);
    assert!(render(&checked.findings[0], &source, false).contains("other.lantern:2:10"));
}

/// A set whose file number `n` uses the files that `uses` gives.
fn set_of(count: usize, uses: impl Fn(usize) -> Vec<usize>) -> Checked {
    let name = |file: usize| format!("rack-{file}.lantern");
    let text = |file: usize| -> String {
        let uses = uses(file);
        let lines = uses.iter().enumerate();
        lines.map(|(at, used)| format!("use \"{}\" as shelf-{at}\n", name(*used))).collect()
    };
    let mut source = Source::new(name(0), text(0));
    for file in 1..count {
        source.add(name(file), &text(file));
    }
    check(&source)
}

fn codes(checked: &Checked) -> Vec<&'static str> {
    checked.findings.iter().map(|finding| finding.code.row().name).collect()
}

#[test]
fn a_ring_of_any_length_is_found() {
    for count in [1, 2, 16, 17, 40, 256] {
        let checked = set_of(count, |file| vec![(file + 1) % count]);
        assert!(codes(&checked).contains(&"uses-itself"), "{count}: {:?}", codes(&checked));
        assert!(checked.rules.is_none());
    }
}

#[test]
fn every_use_that_closes_a_ring_is_found() {
    // Three files that each use the two others and themselves.
    let checked = set_of(3, |_| vec![0, 1, 2]);
    let closing = codes(&checked).iter().filter(|code| **code == "uses-itself").count();
    assert_eq!(closing, 6, "{:?}", checked.findings);
}

#[test]
fn files_that_use_the_next_twice_are_counted_not_followed() {
    let doubling = set_of(21, |file| if file < 20 { vec![file + 1; 2] } else { Vec::new() });
    assert_eq!(codes(&doubling), ["too-much"]);
    let message = &doubling.findings[0].message;
    assert!(message.contains("more than 1024 times"), "{message}");
    // 2^9 - 1 uses are fine.
    let fine = set_of(9, |file| if file < 8 { vec![file + 1; 2] } else { Vec::new() });
    assert_eq!(codes(&fine), [""; 0]);
    let many = set_of(3, |file| [vec![1; 40], vec![2; 40], Vec::new()][file].clone());
    assert_eq!(codes(&many), ["too-much"]);
}

#[test]
fn a_long_chain_of_files_is_a_finding() {
    let chain = |count: usize| {
        set_of(count, move |file| if file + 1 < count { vec![file + 1] } else { Vec::new() })
    };
    assert_eq!(codes(&chain(33)), [""; 0]);
    assert_eq!(codes(&chain(34)), ["too-much"]);
    assert_eq!(codes(&chain(256)), ["too-much"]);
}

#[test]
fn a_set_of_more_files_than_are_read_says_so() {
    let mut source = Source::new("rack-0.lantern", "use \"rack-999.lantern\" as last\n");
    for file in 1..Source::MOST_FILES {
        source.add(format!("rack-{file}.lantern"), "");
    }
    let found = codes(&check(&source)).join(" ");
    assert_eq!(found, "too-much");
}
