//! Shapes without a desktop: files of drawings, what is said of them, and pictures.

use std::fs;

use crate::home::Home;

const RULES: &str = "shape hook = drawn \"hook.svg\"\n\
                     when gesture hook while holding f8 => tap a\n\
                     when gesture check-mark while holding f8 => tap b\n";
/// A hook in straight and in curved pieces.
const HOOK: &str = "<svg xmlns='http://www.w3.org/2000/svg'>\
                    <path d='M 10 10 L 10 90 L 70 90'/>\
                    <path d='M10,10 v80 q 0 4 4 4 h56'/>\
                    <path d='m 5 5 c 0 30 0 60 0 82 l 58 2'/></svg>";

fn written(files: &[(&str, &str)]) -> Home {
    let home = Home::new();
    for (name, text) in files {
        home.write(name, text);
    }
    home
}

#[test]
fn drawings_in_svg_and_csv_are_tried_against_rules() {
    let drawn = "drawing,stroke,x,y\n1,1,0,0\n1,1,2,140\n1,1,101,141\n\
                 2,1,0,0\n2,1,50,50\n2,1,110,-10\n\
                 3,1,0,0\n3,1,90,10\n3,1,0,20\n3,1,90,30\n3,1,0,44\n";
    let home = written(&[("rules.lantern", RULES), ("hook.svg", HOOK), ("drawn.csv", drawn)]);
    let tried = home.call(&["shape", "try", "--rules", "rules.lantern", "drawn.csv", "--json"]);
    assert_eq!(tried.status, 1, "one of them is no shape");
    let data: serde_json::Value = serde_json::from_str(&tried.stdout).expect("it is data");
    let shapes: Vec<Option<&str>> =
        data["drawings"].as_array().unwrap().iter().map(|d| d["shape"].as_str()).collect();
    assert_eq!(shapes, [Some("hook"), Some("check-mark"), None]);
    assert!(data["drawings"][0]["scores"][0]["score"].as_f64().unwrap() > 0.8);
    let table = home.call(&["shape", "try", "--rules", "rules.lantern", "hook.svg"]);
    assert_eq!(
        (table.status, table.stdout.matches("hook.svg").count()),
        (0, 3),
        "{}",
        table.stdout
    );
}

#[test]
fn every_example_of_the_help_runs_on_the_shipped_example() {
    let home = Home::with_example();
    let mut ran = 0;
    for command in ["draw", "record", "try", "alike"] {
        let help = home.call(&["shape", command, "--help"]).stdout;
        // Without `--from`, a hand and a display are needed.
        let lines = help.lines().filter_map(|line| line.trim().strip_prefix("lantern "));
        for line in lines.filter(|line| !line.contains("--holding")) {
            let words: Vec<&str> = line.split(' ').collect();
            let called = home.call(&words);
            // One of the drawings is a scribble on purpose.
            let wanted = i32::from(command == "try");
            assert_eq!(called.status, wanted, "{line}: {}{}", called.stdout, called.stderr);
            ran += 1;
        }
    }
    assert_eq!(ran, 4);
}

#[test]
fn a_file_that_shows_no_drawing_says_why() {
    let files = [
        ("words.csv", "x,y\none,two\n", "invalid float literal"),
        ("no-columns.csv", "a,b\n1,2\n", "missing field `x`"),
        ("endless.csv", "x,y\nNaN,1\n", "a place is no number"),
        ("empty.csv", "", "nothing is drawn in it"),
        ("broken.svg", "<svg><path d='M 1'", "shows no drawing"),
        ("odd.svg", "<svg><path d='M 1 1 L banana'/></svg>", "a path is broken"),
        ("moved.svg", "<svg><path transform='scale(2)' d='M 1 1 L 9 9'/></svg>", "`transform`"),
        ("bare.svg", "<svg><rect width='3' height='3'/></svg>", "nothing is drawn in it"),
        ("shape.txt", "x,y\n1,2\n", "neither in .csv nor in .svg"),
    ];
    let home = written(&[("rules.lantern", "when gesture caret while holding f8 => tap a\n")]);
    for (name, text, why) in files {
        home.write(name, text);
        let tried = home.call(&["shape", "try", "--rules", "rules.lantern", name]);
        assert_eq!(tried.status, 2, "{name}: {}", tried.stdout);
        assert!(tried.stderr.contains(why), "{name}: {}", tried.stderr);
    }
    let missing = home.call(&["shape", "try", "--rules", "rules.lantern", "none.csv"]);
    assert!(missing.stderr.contains("it is not there"), "{}", missing.stderr);
}

#[test]
fn a_rule_whose_examples_are_missing_is_underlined() {
    let home = written(&[("rules.lantern", RULES)]);
    let checked = home.call(&["check", "rules.lantern"]);
    assert_eq!(checked.status, 1);
    for words in ["no-example", "`hook.svg` shows no drawing: it is not there", "shape record"] {
        assert!(checked.stdout.contains(words), "{words}: {}", checked.stdout);
    }
    home.write("hook.svg", HOOK);
    assert_eq!(home.call(&["check", "rules.lantern"]).status, 0);
}

#[test]
fn shapes_are_drawn_ranked_and_kept_from_another_file() {
    let home = written(&[("rules.lantern", RULES), ("hook.svg", HOOK)]);
    for (name, magic) in [("sheet.svg", &b"<svg"[..]), ("sheet.png", &b"\x89PNG"[..])] {
        let drawn = home.call(&["shape", "draw", "rules.lantern", "--picture", name]);
        assert_eq!(drawn.status, 0, "{}", drawn.stderr);
        assert!(fs::read(home.path().join(name)).unwrap().starts_with(magic), "{name}");
    }
    let kept = home.call(&["shape", "record", "kept.csv", "--from", "hook.svg"]);
    assert_eq!(kept.status, 0, "{}", kept.stderr);
    assert!(kept.stderr.contains("3 new of 3 drawings"), "{}", kept.stderr);
    let more = home.call(&["shape", "record", "kept.csv", "--from", "hook.svg"]);
    assert!(more.stderr.contains("3 new of 6 drawings"), "what was there stays: {}", more.stderr);
    let again = home.call(&["shape", "try", "--rules", "rules.lantern", "kept.csv"]);
    assert_eq!(
        (again.status, again.stdout.matches("kept.csv").count()),
        (0, 6),
        "{}",
        again.stdout
    );
    home.call(&["shape", "record", "kept.csv", "--from", "hook.svg"]);
    let full = home.call(&["shape", "record", "kept.csv", "--from", "hook.svg"]);
    assert_eq!(full.status, 2);
    assert!(full.stderr.contains("12 drawings; 9 are the most"), "{}", full.stderr);
}

#[test]
fn look_alikes_are_ranked_with_what_would_help() {
    let rules = "shape tray = path \"down turn-left right turn-left up\"\n\
                 shape open-box = path \"down right up\"\n\
                 when gesture tray while holding f8 => tap a\n\
                 when gesture open-box while holding f8 => tap b\n\
                 when gesture caret while holding f8 => tap c\n";
    let home = written(&[("rules.lantern", rules)]);
    let checked = home.call(&["check", "rules.lantern"]);
    assert!(checked.stdout.contains("`tray` and `open-box` look"), "{}", checked.stdout);
    let ranked = home.call(&["shape", "alike", "rules.lantern", "--json"]);
    let data: serde_json::Value = serde_json::from_str(&ranked.stdout).expect("it is data");
    assert_eq!(data["pairs"][0]["second"], "open-box");
    assert!(data["pairs"][0]["change"].as_str().unwrap().contains("open-box"));
    let none = home.call(&["shape", "alike", "rules.lantern", "--least", "99"]);
    assert_eq!(
        (none.status, none.stdout.contains("no two of 3 shapes")),
        (1, true),
        "{}",
        none.stdout
    );
}

#[test]
fn scenes_draw_by_words_places_and_files() {
    let rules = "when gesture corner while holding f8 => tap a\n";
    let scene = "at 0s draws corner holding f8\nexpect tapped a\n\
                 at 2s draws path \"down right\" holding f8\nexpect tapped a\n\
                 at 4s draws along \"0,0 0,90 90,90\" holding f8\nexpect tapped a\n\
                 at 6s draws drawn \"hook.svg\" holding f8\nexpect tapped a\n\
                 at 8s draws along \"0,0 90,0 90,90\" holding f8\nexpect nothing for 1s\n\
                 at 10s draws corner holding f8 score 0.8\nexpect tapped a\n";
    let home = written(&[("r.lantern", rules), ("s.scene", scene), ("hook.svg", HOOK)]);
    let played = home.call(&["rehearse", "r.lantern", "s.scene"]);
    assert_eq!(played.status, 0, "{}{}", played.stdout, played.stderr);
    home.write("s.scene", "at 0s draws along \"0,0 9\" holding f8\n");
    let odd = home.call(&["rehearse", "r.lantern", "s.scene"]);
    assert!(odd.stdout.contains("these are no places"), "{}", odd.stdout);
    home.write("s.scene", "at 0s draws drawn \"gone.csv\" holding f8\n");
    let gone = home.call(&["rehearse", "r.lantern", "s.scene"]);
    assert!(gone.stderr.contains("it is not there"), "{}", gone.stderr);
}
