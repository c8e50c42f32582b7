//! Scenes played as tests.

use insta::assert_snapshot;

use crate::home::Home;

#[test]
fn the_shipped_scene_passes() {
    assert_snapshot!(Home::with_example().shown(&["rehearse", "bench.lantern", "night.scene"]));
}

#[test]
fn a_failed_expectation_shows_what_came_instead() {
    let home = Home::with_example();
    home.write(
        "wrong.scene",
        "window opens app \"corelog\"\nat 1s key f9\nexpect typed \"section 3\"\nat 2s key f6\nexpect nothing\n",
    );
    assert_snapshot!(home.shown(&["rehearse", "bench.lantern", "wrong.scene"]));
    let data = home.call(&["rehearse", "bench.lantern", "night.scene", "wrong.scene", "--json"]);
    assert_eq!(data.status, 1);
    let data: serde_json::Value = serde_json::from_str(&data.stdout).expect("it is JSON");
    assert_eq!(data["scenes"][0]["passed"], true);
    assert_eq!(data["scenes"][1]["unmet"][0]["line"], 3);
    assert_eq!(data["scenes"][1]["unmet"][0]["expected"], "typed \"section 3\"");
}

#[test]
fn each_failed_expectation_shows_what_came_in_its_place() {
    let home = Home::new();
    home.write("bench.lantern", "when key f1 { log \"a\"; log \"b\"; wait 2s; log \"c\" }\n");
    home.write(
        "wrong.scene",
        "at 0s key f1\nexpect logged \"x\"\nexpect logged \"y\"\nexpect logged \"z\"
at 1s key f9\nexpect nothing for 100ms\nexpect logged \"w\"\nat 3s expect nothing\n",
    );
    let data = home.call(&["rehearse", "bench.lantern", "wrong.scene", "--json"]);
    let data: serde_json::Value = serde_json::from_str(&data.stdout).expect("it is JSON");
    let unmet = data["scenes"][0]["unmet"].as_array().expect("there are some");
    let instead: Vec<&str> = unmet.iter().filter_map(|unmet| unmet["instead"].as_str()).collect();
    assert_eq!(instead, ["logs \"a\"", "logs \"b\"", "nothing more came", "logs \"c\""]);
}

#[test]
fn each_expectation_tells_true_from_false() {
    let rules = "when key f1 { type \"core\"; tap ctrl+s; click left 3 times; scroll down 2; move to 5, 6 }\n\
                 when key f2 { launch \"saw\"; hint \"on\"; log \"done\" }\nwhen key f3 { wait 300ms; tap a }\n";
    let cases = [
        ("f1", "typed \"core\"", true),
        ("f1", "typed \"cor\"", false),
        ("f1", "typed contains \"or\"", true),
        ("f1", "tapped ctrl+s", true),
        ("f1", "tapped s", false),
        ("f1", "clicked left 3 times", true),
        ("f1", "clicked left", false),
        ("f1", "clicked right 3 times", false),
        ("f1", "scrolled down 2", true),
        ("f1", "pointer at 5, 6", true),
        ("f1", "pointer at 6, 5", false),
        ("f1", "nothing", false),
        ("f2", "launched \"saw\"", true),
        ("f2", "launched \"drill\"", false),
        ("f2", "hint \"on\"", true),
        ("f2", "hint \"off\"", false),
        ("f2", "logged contains \"one\"", true),
        ("f2", "logged \"one\"", false),
        ("f3", "tapped a", true),
        ("f3", "nothing for 200ms", true),
        ("f3", "nothing for 400ms", false),
        ("f4", "nothing for 2s", true),
        ("f4", "typed \"f4\"", false),
    ];
    let home = Home::new();
    home.write("bench.lantern", rules);
    for (key, expectation, passes) in cases {
        home.write("case.scene", format!("at 1s key {key}\nexpect {expectation}\n"));
        let called = home.call(&["rehearse", "bench.lantern", "case.scene"]);
        assert_eq!(called.status, i32::from(!passes), "{key}, {expectation}: {}", called.stdout);
    }
}

#[test]
fn the_same_scene_gives_the_same_every_time() {
    let home = Home::with_example();
    let play = || home.call(&["rehearse", "bench.lantern", "night.scene", "--json"]).stdout;
    assert_eq!(play(), play());
}

#[test]
fn an_endless_loop_and_an_hour_take_no_time() {
    let home = Home::new();
    home.write(
        "bench.lantern",
        "when key f1 { let n = 0; repeat { set n = n + 1 } }\nwhen key f2 { wait 1h; type \"late\" }\n\
         macro dig() { dig() }\nwhen key f3 => dig()\nwhen key f4 { repeat { click left } }\n",
    );
    home.write(
        "long.scene",
        "at 0s key f2\nat 1s key f1\nat 2s key f3\nat 3s key ctrl+alt+shift+escape\nat 3s resumes\nat 4s key f2\nat 3605s expect typed \"late\"\n",
    );
    let called = home.call(&["rehearse", "bench.lantern", "long.scene"]);
    assert_eq!(called.status, 0, "{}", called.stdout);
    home.write("flood.scene", "at 0s key f4\nat 1h expect typed \"never\"\n");
    let called = home.call(&["rehearse", "bench.lantern", "flood.scene"]);
    assert_eq!(called.status, 1);
    assert!(called.stdout.contains("more than 200000 things went out"), "{}", called.stdout);
}

#[test]
fn a_scene_with_mistakes_is_not_played() {
    let home = Home::with_example();
    home.write("bad.scene", "at 1s ky f9\nat 2s hears \"next\"\n");
    assert_snapshot!(home.shown(&["rehearse", "bench.lantern", "bad.scene"]));
}

#[test]
fn what_a_rule_types_or_taps_fires_nothing() {
    let home = Home::new();
    let rules = "when key f1 { type \"ab\"; tap f2; paste \"ab\" }
when typed \"ab\" => log \"typed\"\nwhen key f2 => log \"tapped\"\n";
    home.write("own.lantern", rules);
    home.write(
        "own.scene",
        "at 0s key f1\nexpect pasted \"ab\"\nexpect nothing for 1s\nat 2s types \"ab\"\nexpect logged \"typed\"\n",
    );
    let called = home.call(&["rehearse", "own.lantern", "own.scene"]);
    assert_eq!(called.status, 0, "{}", called.stdout);
}
