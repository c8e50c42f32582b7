//! The author's tools: layout, likeness, powers, keyboards, pictures.

use std::io::Write;
use std::process::Stdio;

use insta::assert_snapshot;

use crate::home::Home;

#[test]
fn fmt_changes_only_what_is_out_of_order_and_says_so() {
    let home = Home::with_example();
    home.write("loose.lantern", "when key f9{tap a,b}\n");
    assert_snapshot!(home.shown(&["fmt", "--check", "loose.lantern"]));
    assert_snapshot!(home.shown(&["fmt", "loose.lantern"]));
    let text = std::fs::read_to_string(home.path().join("loose.lantern")).expect("it is there");
    assert_eq!(text, "when key f9 { tap a, b }\n");
    assert_eq!(home.call(&["fmt", "--check", "loose.lantern"]).status, 0);
    assert_eq!(home.call(&["fmt", "--check", "bench.lantern", "night.scene"]).status, 0);
}

#[test]
fn fmt_leaves_a_broken_file_as_it_is() {
    let home = Home::new();
    home.write("bad.lantern", "when key f9 => type \"core\n");
    assert_snapshot!(home.shown(&["fmt", "bad.lantern"]));
    let text = std::fs::read_to_string(home.path().join("bad.lantern")).expect("it is there");
    assert_eq!(text, "when key f9 => type \"core\n");
}

#[test]
fn fmt_keeps_a_link_and_the_mode_of_its_file() {
    use std::os::unix::fs::{PermissionsExt, symlink};
    let home = Home::new();
    let real = home.write("real.lantern", "let a=1\nwhen key f9=>log \"{a}\"\n");
    std::fs::set_permissions(&real, std::fs::Permissions::from_mode(0o640)).expect("it is ours");
    let link = home.path().join("link.lantern");
    symlink(&real, &link).expect("a link can be made");
    assert_eq!(home.call(&["fmt", "link.lantern"]).status, 0);
    assert!(link.symlink_metadata().expect("it is there").is_symlink());
    let mode = real.metadata().expect("it is there").permissions().mode();
    assert_eq!(mode & 0o777, 0o640);
    assert_eq!(
        std::fs::read_dir(home.path()).expect("it is there").count(),
        2,
        "nothing is left over"
    );
}

#[test]
fn fmt_works_between_pipes() {
    let home = Home::new();
    let piped = |text: &str| {
        let mut child = home
            .command()
            .args(["fmt", "-"])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("the program starts");
        let mut input = child.stdin.take().expect("it is a pipe");
        input.write_all(text.as_bytes()).expect("it reads");
        drop(input);
        String::from_utf8(child.wait_with_output().expect("it ends").stdout).expect("it is text")
    };
    assert_eq!(piped("when key f9=>tap a\n"), "when key f9 => tap a\n");
    assert_eq!(piped("at 1s    key f9\n"), "at 1s key f9\n");
}

const VOICES: &str = "when voice \"write section note\" => log \"a\"
when voice \"right section [and] notes\" => log \"b\"
when voice \"open the drawer\" => log \"c\"
when voice \"close the drawer\" => log \"d\"
";

#[test]
fn phrases_are_ranked_by_how_alike_they_sound() {
    let home = Home::new();
    home.write("voices.lantern", VOICES);
    let called = home.call(&["voice", "alike", "voices.lantern"]);
    let lines: Vec<&str> = called.stdout.lines().collect();
    assert!(lines[1].contains("write section note") && lines[1].contains("right section notes"));
    assert!(lines[2].contains("open the drawer"), "{}", called.stdout);
    let data = home.call(&["voice", "alike", "voices.lantern", "--least", "80", "--json"]);
    let data: serde_json::Value = serde_json::from_str(&data.stdout).expect("it is JSON");
    let pairs = data["pairs"].as_array().expect("there are pairs");
    assert_eq!(pairs.len(), 1);
    assert!(pairs[0]["likeness"].as_f64().expect("a number") > 0.8);
    assert_eq!((pairs[0]["first"]["line"].as_u64(), data["phrases"].as_u64()), (Some(1), Some(4)));
    home.write("one.lantern", "when voice \"next section\" => log \"a\"\n");
    assert_eq!(home.call(&["voice", "alike", "one.lantern"]).status, 1, "nothing matched");
}

const CAREFUL: &str = "device hut = broker \"mqtt://192.0.2.7:1883\"
when key f9 { run \"df\", \"/srv\"; shell `date`; open \"https://example.org\" }
when typed \"sct\" => publish hut \"a\" body \"b\"
when voice \"next section\" => log \"a\"
when key f8 { let t = read clipboard\n if is-down(shift) { log t } }
";

#[test]
fn powers_are_listed_with_their_places() {
    let home = Home::new();
    home.write("careful.lantern", CAREFUL);
    assert_snapshot!(home.shown(&["check", "--powers", "careful.lantern"]));
    let data = home.call(&["check", "--powers", "careful.lantern", "--json"]);
    let data: serde_json::Value = serde_json::from_str(&data.stdout).expect("it is JSON");
    assert_eq!(data["powers"].as_array().map(Vec::len), Some(9));
}

#[test]
fn used_files_are_agreed_to_and_asked_about_again_when_they_can_do_more() {
    let home = Home::new();
    home.write(
        "main.lantern",
        "use \"shared/set.lantern\" as shared\nwhen key f9 => run \"own\"\n",
    );
    home.write("shared/set.lantern", "when key f8 => run \"df\"\n");
    let run = || home.call(&["run", "main.lantern"]);
    assert_snapshot!(run().stderr);
    assert_snapshot!(home.shown(&["check", "--powers", "main.lantern"]));
    let checked = home.call(&["check", "main.lantern"]);
    assert!(checked.stderr.contains("shared/set.lantern starts df"), "{}", checked.stderr);
    assert_eq!(checked.status, 1, "`run` would refuse it");
    assert_eq!(home.call(&["check", "--powers", "--agree", "main.lantern"]).status, 0);
    assert_eq!(home.call(&["check", "main.lantern"]).status, 0);
    assert!(run().stderr.contains("DISPLAY"), "only the display is missing now: {}", run().stderr);
    home.write("shared/set.lantern", "# the same\nwhen key f7 => run \"df\"\n");
    assert!(run().stderr.contains("DISPLAY"), "it can do nothing more");
    home.write("shared/set.lantern", "when key f8 => run \"rm\", \"-r\", \"/srv\"\n");
    assert!(run().stderr.contains("starts rm -r /srv"), "{}", run().stderr);
}

#[test]
fn a_layout_or_desk_is_asked_about_by_name() {
    let home = Home::new();
    home.write(
        "a.lantern",
        "when key ctrl+'ß' => type \"°\"\nwhen voice \"next section\" => log \"x\"\n",
    );
    assert_eq!(home.call(&["check", "a.lantern"]).status, 0);
    assert_snapshot!(home.shown(&["check", "a.lantern", "--layout", "gb", "--backend", "x11"]));
    assert_eq!(home.call(&["check", "a.lantern", "--layout", "de"]).status, 0);
    assert_eq!(home.call(&["check", "a.lantern", "--layout", "xx"]).status, 2);
}

#[test]
fn keys_that_are_bound_and_free() {
    let home = Home::with_example();
    assert_snapshot!(home.shown(&["keys", "--bound", "bench.lantern"]));
    assert_snapshot!(home.shown(&["keys", "f1..f12", "--free", "bench.lantern"]));
    assert_snapshot!(home.shown(&["keys", "ctrl+alt+f1..f3", "--free", "bench.lantern"]));
    assert_eq!(
        home.call(&["keys", "ctrl+alt+f1,ctrl+alt+f2", "--free", "bench.lantern"]).status,
        0
    );
    let free = home.call(&["keys", "ctrl+alt+i", "--free", "bench.lantern"]);
    assert_eq!((free.stdout.as_str(), free.status), ("ctrl+alt+i is free\n", 0));
    let taken = home.call(&["keys", "ctrl+alt+shift+escape", "--free", "bench.lantern"]);
    assert!(taken.stdout.contains("is taken") && taken.status == 1, "{}", taken.stdout);
    let words = ["keys", "alt+a..c", "--free", "bench.lantern", "--separator", ", "];
    assert_eq!(home.call(&words).stdout, "alt+a, alt+b, alt+c\n");
    assert!(home.call(&["keys", "ctrl+alt+i"]).stdout.contains("KeyI"));
    assert_eq!(home.call(&["keys", "hyper+i"]).status, 2);
    let data = home.call(&["keys", "--bound", "bench.lantern", "--json"]);
    let data: serde_json::Value = serde_json::from_str(&data.stdout).expect("it is JSON");
    assert!(data["bound"].as_array().is_some_and(|bound| bound.len() > 15));
}

#[test]
fn pictures_are_drawn_as_their_names_say() {
    let home = Home::with_example();
    let draw = |name: &str| {
        let words = ["keys", "--bound", "bench.lantern", "--picture", name];
        let called = home.call(&words);
        (called.status, std::fs::read(home.path().join(name)).unwrap_or_default(), called.stderr)
    };
    let (status, svg, _) = draw("keys.svg");
    assert!(status == 0 && svg.starts_with(b"<svg"));
    let (status, png, _) = draw("keys.png");
    assert!(status == 0 && png.starts_with(b"\x89PNG") && png.len() > 10_000);
    let (status, nothing, stderr) = draw("keys.jpg");
    assert!(status == 2 && nothing.is_empty() && stderr.contains(".svg or .png"), "{stderr}");
    let words = ["rehearse", "bench.lantern", "night.scene", "--timeline", "night.png"];
    assert_eq!(home.call(&words).status, 0);
    let drawn = std::fs::read(home.path().join("night.png")).expect("it was drawn");
    assert!(drawn.starts_with(b"\x89PNG"));
    let two = home.call(&[
        "rehearse",
        "bench.lantern",
        "night.scene",
        "night.scene",
        "--timeline",
        "x.svg",
    ]);
    assert_eq!(two.status, 2);
}

#[test]
fn why_tells_every_decision() {
    let home = Home::new();
    home.write(
        "a.lantern",
        "let n = 1\nwhen key f9 if n == 2 => tap a\nwhen key f8 => log \"{n}\"\n",
    );
    home.write("a.scene", "at 0s key f9\nat 1s key f8\nexpect logged \"1\"\n");
    assert_snapshot!(home.shown(&["rehearse", "a.lantern", "a.scene", "--why"]));
}

#[test]
fn a_recorded_scene_expects_what_went_out() {
    let home = Home::with_example();
    let words = ["rehearse", "bench.lantern", "night.scene", "--record", "full.scene"];
    assert_eq!(home.call(&words).status, 0);
    let text = std::fs::read_to_string(home.path().join("full.scene")).expect("it was written");
    assert_snapshot!(text);
    assert_eq!(home.call(&["rehearse", "bench.lantern", "full.scene"]).status, 0);
    home.write("bench.lantern", "when key f9 => log \"else\"\n");
    assert_eq!(home.call(&["rehearse", "bench.lantern", "full.scene"]).status, 1);
}

#[test]
fn a_sheet_tells_by_place_what_can_be_done() {
    let home = Home::with_example();
    assert_snapshot!(home.shown(&["sheet", "bench.lantern"]));
    home.write(
        "odd.lantern",
        "when key j+k or typed \"core<\" => log \"x\"\nwhen every 5min => log \"y\"\n\
         remap caps-lock to ctrl, tapped to escape\nin title \"a & b\" {\n## Deep\nwhen key f9 held 1s => log \"z\"\n}\n",
    );
    assert_snapshot!(home.shown(&["sheet", "odd.lantern"]));
    assert_eq!(home.call(&["sheet", "odd.lantern", "--html", "page.html"]).status, 0);
    let page = std::fs::read_to_string(home.path().join("page.html")).expect("it is there");
    assert!(page.contains("core&lt;") && page.contains("in title a &amp; b"), "{page}");
    assert_eq!(home.call(&["sheet", "odd.lantern", "--picture", "sheet.svg"]).status, 0);
    let wrong = home.call(&["sheet", "odd.lantern", "--picture", "sheet.gif"]);
    assert_eq!(wrong.status, 2);
    let data = home.call(&["sheet", "bench.lantern", "--json"]).stdout;
    let data: serde_json::Value = serde_json::from_str(&data).expect("it is data");
    assert_eq!(data["places"][0]["place"], "everywhere");
}

#[test]
fn a_sheet_lists_what_rules_send() {
    let home = Home::new();
    home.write(
        "bench.lantern",
        "macro copied() { tap ctrl+c }\n## Copy the label\nwhen voice \"copy the label\" { copied(); tap enter }\n\
         when key f9 as k { tap (k); hold shift { tap a } }\n",
    );
    assert_snapshot!(home.shown(&["sheet", "bench.lantern", "--sends"]));
    let data = home.call(&["sheet", "bench.lantern", "--sends", "--json"]).stdout;
    let data: serde_json::Value = serde_json::from_str(&data).expect("it is JSON");
    assert_eq!(data["sends"][1]["keys"], "ctrl+c");
    home.write("none.lantern", "when key f9 => log \"x\"\n");
    assert_eq!(home.call(&["sheet", "none.lantern", "--sends"]).status, 1);
}

#[test]
fn a_service_is_printed_installed_and_removed() {
    let home = Home::with_example();
    let printed = home.call(&["service", "bench.lantern"]).stdout;
    assert!(
        printed.contains("KillMode=process") && printed.contains("[Desktop Entry]"),
        "{printed}"
    );
    let config = home.path().join(".config");
    let unit = config.join("systemd/user/cold-lantern.service");
    assert!(!unit.exists(), "printing writes nothing");
    home.write("odd name 100%.lantern", "when key f9 => log \"x\"\n");
    assert_eq!(home.call(&["service", "odd name 100%.lantern", "--install"]).status, 0);
    let text = std::fs::read_to_string(&unit).expect("it is written");
    assert!(text.contains("odd name 100%%.lantern\""), "{text}");
    for line in ["TimeoutStopSec=10", "RestartPreventExitStatus=2", "OOMPolicy=continue"] {
        assert!(text.lines().any(|written| written == line), "{text}");
    }
    assert!(config.join("autostart/cold-lantern.desktop").exists());
    assert_eq!(home.call(&["service", "--remove"]).status, 0);
    assert!(!unit.exists());
    assert_eq!(home.call(&["service", "--remove"]).status, 1, "nothing is left to remove");
}

#[test]
fn removing_a_service_takes_the_link_of_the_enabled_unit_with_it() {
    let home = Home::with_example();
    assert_eq!(home.call(&["service", "bench.lantern", "--install"]).status, 0);
    let units = home.path().join(".config/systemd/user");
    let link = units.join("graphical-session.target.wants/cold-lantern.service");
    std::fs::create_dir_all(link.parent().expect("it has one")).expect("it can be made");
    std::os::unix::fs::symlink(units.join("cold-lantern.service"), &link).expect("it is ours");
    assert_eq!(home.call(&["service", "--remove"]).status, 0);
    assert!(link.symlink_metadata().is_err(), "the link is gone");
}

#[test]
fn files_lists_what_the_program_writes_and_erases_it_only_if_agreed() {
    let home = Home::new();
    let rules = home.write(".config/cold-lantern/main.lantern", "when key f9 => log \"x\"\n");
    let other = home.write(".config/cold-lantern/kept.txt", "mine");
    let listed = home.call(&["files", "--json"]).stdout;
    let listed: serde_json::Value = serde_json::from_str(&listed).expect("it is JSON");
    let own = &listed["files"][0];
    assert_eq!((own["what"].as_str(), own["size"].as_u64()), (Some("your rules"), Some(23)));
    assert_eq!(own["path"], rules.display().to_string());
    let refused = home.call(&["files", "--erase"]);
    assert_ne!(refused.status, 0);
    assert!(refused.stderr.contains("--yes") && rules.exists(), "{}", refused.stderr);
    let erased = home.call(&["files", "--erase", "--yes"]);
    assert_eq!((erased.status, rules.exists()), (0, false), "{}", erased.stderr);
    assert!(other.exists(), "what the program did not write stays");
    assert_eq!(home.call(&["files", "--erase", "--yes"]).status, 1, "nothing is left");
}

#[test]
fn completions_and_manual_pages_name_every_command() {
    let home = Home::new();
    let help = home.call(&["--help"]).stdout;
    let begins = |line: &&str| line.starts_with("  ") && !line[2..].starts_with([' ', '-']);
    let names: Vec<&str> =
        help.lines().filter(begins).filter_map(|line| line.split_whitespace().next()).collect();
    assert!(names.len() > 20, "{help}");
    for shell in ["bash", "zsh", "fish"] {
        let text = home.call(&["completions", shell]).stdout;
        for name in &names {
            assert!(text.contains(name), "{shell}: {name}");
        }
    }
    assert_eq!(home.call(&["man", "pages"]).status, 0);
    for name in &names {
        let page = home.path().join(format!("pages/lantern-{name}.1"));
        assert!(page.exists(), "there is a page for {name}");
    }
}
