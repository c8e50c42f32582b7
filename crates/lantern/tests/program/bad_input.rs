//! Files and surroundings that are not as they should be: a message with what to do, the right exit
//! status, and never a panic.

use insta::assert_snapshot;

use crate::home::Home;

/// What is said of a bad file, without the way to the home.
fn said(home: &Home, words: &[&str]) -> String {
    home.shown(words).replace(&home.path().display().to_string(), "~")
}

#[test]
fn a_file_that_is_not_there_or_is_a_folder() {
    let home = Home::new();
    assert_snapshot!(said(&home, &["check", "missing.lantern"]));
    assert_snapshot!(said(&home, &["check", "."]));
}

#[test]
fn a_file_that_is_not_text() {
    let home = Home::new();
    home.write("latin.lantern", b"when key f9 => tap a\n# gr\xfc\xdfe\n");
    assert_snapshot!(said(&home, &["check", "latin.lantern"]));
    home.write("binary.lantern", b"when key f9\0 => tap a\n");
    assert_snapshot!(said(&home, &["check", "binary.lantern"]));
}

#[test]
fn a_file_that_is_empty_is_fine_and_does_nothing() {
    let home = Home::new();
    home.write("empty.lantern", "");
    assert_snapshot!(said(&home, &["check", "empty.lantern"]));
}

#[test]
fn a_file_of_50_mb() {
    let home = Home::new();
    home.write("huge.lantern", vec![b'\n'; 50 << 20]);
    assert_snapshot!(said(&home, &["check", "huge.lantern"]));
}

#[test]
fn a_file_that_uses_one_that_is_not_there() {
    let home = Home::new();
    home.write("desk/bench.lantern", "use \"cold-room.lantern\"\nwhen key f9 => tap a\n");
    assert_snapshot!(said(&home, &["check", "desk/bench.lantern"]));
    home.write("desk/cold-room.lantern", "");
    assert!(!said(&home, &["check", "desk/bench.lantern"]).contains("no-such-file"));
}

#[test]
fn a_broken_file_does_not_run() {
    let home = Home::new();
    home.write("bench.lantern", "when key f9 => typ \"core\"\n");
    assert_snapshot!(said(&home, &["run", "bench.lantern"]));
}

#[test]
fn no_display() {
    let home = Home::with_example();
    assert_snapshot!(said(&home, &["run", "bench.lantern"]));
    let output = home
        .command()
        .args(["run", "bench.lantern"])
        .env("DISPLAY", ":9876")
        .output()
        .expect("the program starts");
    assert_snapshot!(String::from_utf8_lossy(&output.stderr));
    assert_eq!(output.status.code(), Some(2));
}

#[test]
fn a_runtime_folder_that_cannot_be_written() {
    let home = Home::with_example();
    let file = home.write("a-file", "");
    let output = home
        .command()
        .args(["run", "bench.lantern"])
        .env("DISPLAY", ":9876")
        .env("XDG_RUNTIME_DIR", &file)
        .output()
        .expect("the program starts");
    let words = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(words.contains("cannot write") && words.contains("help"), "{words}");
    assert_eq!(output.status.code(), Some(2));
}

#[test]
fn wrong_use() {
    let home = Home::new();
    for words in [&["chek"][..], &["check", "--colour"], &["rehearse", "bench.lantern"], &[]] {
        let called = home.call(words);
        assert_eq!(called.status, 2, "{words:?}");
        assert!(!called.stderr.contains("panicked"));
    }
}
