//! What we put on the screen: hints, and questions to the person.

use lantern_stage::{Display, Person, ScreenWindow};

use crate::desktop::{bare, bare_under};
use crate::running::Running;

/// Waits until exactly so many windows of our own are shown, and gives them.
fn hints(display: &Display, count: usize) -> Vec<ScreenWindow> {
    display.wait_until("the hints", |display| display.unmanaged().len() == count);
    display.unmanaged()
}

#[test]
fn x11_hints_stand_where_they_are_wanted_and_never_upon_each_other() {
    let (display, mut person, _target) = bare();
    let rules = "when key f5 => hint \"rack 4\" at 600, 300 for 1min
when key f6 => hint \"bag 7\" at 610, 310 for 1min
when key f7 => hint \"Night shift\" at bottom-right for 1min
when key f8 => hint \"far away\" at 9000, 9000 for 1min
when key f9 => hint \"short\" at top-left for 30ms
when key f10 { hint \"one\" at top-right for 1min; hint \"two\" at top-right for 1min; hint \"three\" at bottom-left for 1min }
";
    let running = Running::start(&display, rules);
    let begin = display.unmanaged().len();
    for key in ["f5", "f6", "f7", "f8"] {
        person.tap(key);
    }
    let mut shown = hints(&display, begin + 4);
    shown.retain(|seen| !seen.name.is_empty());
    let find = |name: &str| shown.iter().find(|seen| seen.name == name).expect("it is shown");
    assert_eq!((find("rack 4").x, find("rack 4").y), (600, 300));
    let corner = find("Night shift");
    assert_eq!((corner.x + corner.width, corner.y + corner.height), (1280 - 16, 800 - 16));
    assert!(find("far away").x + find("far away").width <= 1280);
    for one in &shown {
        assert!(!one.takes_clicks, "{one:?}");
        for other in shown.iter().filter(|other| *other != one) {
            let apart = one.x + one.width <= other.x
                || other.x + other.width <= one.x
                || one.y + one.height <= other.y
                || other.y + other.height <= one.y;
            assert!(apart, "{one:?} {other:?}");
        }
    }
    // One rule has one hint at each place, and each goes when its time is over.
    person.tap("f10");
    person.tap("f9");
    display.wait_until("the second hint in the place of the first, and the third", |display| {
        let shown = display.unmanaged();
        let has = |name: &str| shown.iter().any(|seen| seen.name == name);
        shown.len() == begin + 6 && has("two") && has("three")
    });
    running.stop();
    hints(&display, begin);
}

fn asks(display: &Display) -> Vec<ScreenWindow> {
    let mut all = display.unmanaged();
    all.retain(|seen| seen.name == "Cold Lantern asks");
    all
}

/// Waits until a question is on the screen and has the keyboard.
fn wait_for_question(display: &Display) {
    display.wait_until("the question", |display| asks(display).iter().any(|seen| seen.focused));
}

fn types(person: &mut Person, keys: &[&str]) {
    keys.iter().for_each(|key| person.tap(key));
}

#[test]
fn x11_the_person_is_asked_and_answers_by_keyboard() {
    let (display, mut person, target) = bare();
    let rules = "when key f5 { let depth = ask \"How deep?\"; hint depth for 1min }
when key f6 { let yes = confirm \"Send it?\"; hint \"sent {yes}\" for 1min }
when key f7 { let rack = pick \"Which rack?\", [\"north\", \"south\", \"door\"]; hint rack for 1min }
";
    let mut running = Running::start(&display, rules);
    for (key, answer, shown) in [
        ("f5", &["3", "1", "backspace", "2", "enter"][..], "32"),
        ("f6", &["n"], "sent false"),
        ("f6", &["up", "enter"], "sent false"),
        ("f7", &["s", "enter"], "south"),
        ("f7", &["down", "down", "enter"], "door"),
    ] {
        person.tap(key);
        wait_for_question(&display);
        types(&mut person, answer);
        running.wait_for(": ended");
        let named = |seen: &ScreenWindow| seen.name == shown;
        display.wait_until(shown, |display| display.unmanaged().iter().any(named));
    }
    for key in ["f5", "f6", "f7"] {
        person.tap(key);
        wait_for_question(&display);
        person.tap("escape");
        let line = running.wait_for("failed");
        assert!(line.contains("the person gave no answer"), "{line}");
    }
    let mut got = crate::running::arrived(&display, &person, &target);
    // The last key of an answer goes up when the question is gone.
    got.retain(|got| got.down);
    assert!(got.is_empty(), "nothing of it reached the program: {got:?}");
    running.stop();
}

#[test]
fn x11_an_answer_may_have_accents_and_other_letters() {
    for (layout, keys, shown) in [
        ("us -variant intl", &["c", "a", "f", "quote", "e", "enter"][..], "café"),
        ("us -variant intl", &["quote", "shift+e", "t", "e", "enter"], "Éte"),
        ("ru", &["g", "k", "e", "enter"], "плу"),
    ] {
        let (display, mut person, _target) = bare_under(layout);
        let rules = "when key f5 { let name = ask \"Which bag?\"; hint name for 1min }\n";
        let mut running = Running::start(&display, rules);
        person.tap("f5");
        wait_for_question(&display);
        types(&mut person, keys);
        running.wait_for(": ended");
        let named = |seen: &ScreenWindow| seen.name == shown;
        display.wait_until(shown, |display| display.unmanaged().iter().any(named));
        running.stop();
    }
}

#[test]
fn x11_a_question_goes_when_its_time_is_over_or_its_run_ends() {
    let (display, mut person, _target) = bare();
    let rules =
        "when key f5 { let depth = ask \"How deep?\" at most 1s else { hint \"late\" for 1min } }
when key f6 again stops { let depth = ask \"How deep?\"; hint depth for 1min }
";
    let mut running = Running::start(&display, rules);
    person.tap("f5");
    wait_for_question(&display);
    running.wait_for(": ended");
    display.wait_until("the end of it", |display| asks(display).is_empty());
    person.tap("f6");
    wait_for_question(&display);
    person.tap("f6");
    display.wait_until("the end of it", |display| asks(display).is_empty());
    running.stop();
}
