//! Scenes: how they are read.

use lantern_script::scene::{Expectation, SceneAct, parse_scene};
use lantern_script::{Source, render};

fn findings(text: &str) -> Vec<String> {
    let source = Source::new("night.scene", text);
    let (_, findings) = parse_scene(&source);
    findings.iter().map(|finding| render(finding, &source, false)).collect()
}

#[test]
fn lines_have_their_times() {
    let text = "at 2s key f9\nat +500ms\nexpect typed \"x\"\nat +1s holds super+up for 600ms\n";
    let (scene, findings) = parse_scene(&Source::new("night.scene", text));
    assert_eq!(findings, []);
    let times: Vec<Option<String>> =
        scene.lines.iter().map(|line| line.at.map(|at| at.to_string())).collect();
    let wanted = [Some("2.000 s"), Some("2.500 s"), None, Some("3.500 s")];
    assert_eq!(times, wanted.map(|time| time.map(str::to_owned)));
    assert_eq!(scene.lines[1].act, SceneAct::Wait);
}

#[test]
fn expectations_are_shown_as_they_are_written() {
    let written = [
        "typed \"a\"",
        "typed contains \"a\"",
        "tapped ctrl+shift+e",
        "clicked left",
        "scrolled down 3",
        "sent \"lamp\"",
        "put contains \"saw\"",
        "failed \"x\"",
        "reached ctrl+q",
        "down ctrl",
        "up left-button",
        "launched \"corelog\"",
        "hint contains \"section\"",
        "logged \"x\"",
        "pointer at 641, 400",
        "nothing",
        "nothing for 2s",
    ];
    for words in written {
        let text = format!("expect {words}\n");
        let (scene, findings) = parse_scene(&Source::new("night.scene", text));
        assert_eq!(findings, []);
        let SceneAct::Expect(expectation) = &scene.lines[0].act else { panic!("it expects") };
        assert_eq!(expectation.to_string(), words);
    }
    let (scene, _) = parse_scene(&Source::new("night.scene", "expect clicked left 3 times\n"));
    let SceneAct::Expect(Expectation::Clicked(_, 3)) = scene.lines[0].act else {
        panic!("it counts");
    };
}

#[test]
fn mistakes_are_said_each_at_its_line() {
    let text = "at 2s key f99\nat 1s key f9\nat 3s ky f9\nexpect typd \"x\"\nat 4 key f9\n\
                at 5s hears \"next\"\nat 6s key [f1..f3]\nat 7s key f9\n";
    insta::assert_snapshot!(findings(text).join("\n\n"));
}
