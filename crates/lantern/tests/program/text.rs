//! Much and foreign text, into a terminal and an editor, under two window managers and five layouts.

use lantern_stage::{Display, Editor, Manager, Person, Stage, Terminal};
use rustix::process::Signal;

use crate::running::{Running, send, typed_rest};

/// A hundred characters that no layout in the tests has, emoji among them.
pub fn foreign() -> Vec<char> {
    let ranges = ['\u{3b1}'..='\u{3c9}', '\u{10d0}'..='\u{10f0}', '\u{2200}'..='\u{221f}'];
    let mut all: Vec<char> = ranges.into_iter().flatten().take(92).collect();
    all.extend("❄🐧🧊🔥⛏🚁🛷📦".chars());
    all
}

/// So many of them, in an order that looks random and is the same every time.
pub fn mixed(characters: &[char], count: usize, seed: u64) -> String {
    let mut state = seed;
    let mut next = || {
        state =
            state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) as usize
    };
    (0..count).map(|_| characters[next() % characters.len()]).collect()
}

fn rules(texts: &[String]) -> String {
    let keys = ["f5", "f6", "f7"];
    let rules =
        keys.iter().zip(texts).map(|(key, text)| format!("when key {key} => type `{text}`\n"));
    rules.collect()
}

#[test]
fn x11_two_thousand_foreign_characters_reach_the_terminal_three_times() {
    let mut stage = Stage::set("us");
    let texts = [1, 2, 3].map(|seed| mixed(&foreign(), 2000, seed));
    let mut running = Running::start(&stage.display, &rules(&texts));
    for (key, text) in ["f5", "f6", "f7"].iter().zip(&texts) {
        stage.person.tap(key);
        let got = stage.terminal.read(text.len());
        assert!(got == *text, "{key}: {} of 2000 are wrong", wrong(&got, text));
        running.wait_long_for(": ended");
    }
    assert_eq!(typed_rest(&mut stage), "");
    running.stop();
}

fn wrong(got: &str, meant: &str) -> usize {
    let same = got.chars().zip(meant.chars()).filter(|(got, meant)| got == meant).count();
    meant.chars().count() - same
}

#[test]
fn x11_two_thousand_foreign_characters_reach_the_editor_three_times() {
    let mut display = Display::start("us");
    display.manage();
    display.start_bus();
    let mut person = Person::sit_down(&display);
    let editor = Editor::open(&mut display, "shift.txt");
    let texts = [4, 5, 6].map(|seed| mixed(&foreign(), 2000, seed));
    let mut running = Running::start(&display, &rules(&texts));
    let mut all = String::new();
    for (key, text) in ["f5", "f6", "f7"].iter().zip(&texts) {
        person.tap(key);
        running.wait_long_for(": ended");
        all.push_str(text);
        let got = editor.text(&display, &mut person);
        let got = got.trim_end_matches('\n');
        assert!(got == all, "{key}: {} are wrong", wrong(got, &all));
    }
    running.stop();
}

#[test]
fn x11_twenty_thousand_characters_are_typed_without_a_fault() {
    let mut stage = Stage::set("us");
    let ordinary: Vec<char> =
        ('a'..='z').chain('A'..='Z').chain("0123456789 .,-=;:()".chars()).collect();
    let text = mixed(&ordinary, 20_000, 7);
    let running = Running::start(&stage.display, &rules(std::slice::from_ref(&text)));
    stage.person.tap("f5");
    let got = stage.terminal.read(text.len());
    assert!(got == text, "{} of 20000 are wrong", wrong(&got, &text));
    running.stop();
}

/// Text, focus and a conflict, on a stage.
fn works_under(manager: Manager, layout: &str) {
    let mut display = Display::start(layout);
    display.manage_with(manager);
    display.start_bus();
    let mut terminal = Terminal::open(&mut display);
    let mut person = Person::sit_down(&display);
    let editor = Editor::open(&mut display, "shift.txt");
    let rules = "when key f5 in app \"mousepad\" => type `Kern 12: −31 °C, \"é\" {x} ~ЖΩ`
when key f5 in app \"corelog\" => type `terminal`
when key f6 => focus app \"corelog\"
when key f7 { with app \"corelog\" { type \"x1\" }; log \"x\" }
when key f8 => type \"NO\"
";
    let other = display.connect();
    crate::faults::take_key(&other, 74);
    let mut running = Running::start_unready(&display, rules);
    let line = running.wait_for("taken by another program");
    assert!(line.contains("f8"), "{line}");
    person.tap("f5");
    running.wait_for(": ended");
    person.tap("f7");
    assert_eq!(terminal.read(2), "x1");
    running.wait_for(": ended");
    let text = editor.text(&display, &mut person);
    assert_eq!(text.trim_end(), "Kern 12: −31 °C, \"é\" {x} ~ЖΩ", "{manager:?} {layout}");
    person.tap("f6");
    running.wait_for(": ended");
    person.tap("f5");
    assert_eq!(terminal.read(8), "terminal");
    running.stop();
}

const LAYOUTS: [&str; 5] = ["us", "de", "fr", "us -variant intl", "us,ru"];

#[test]
fn x11_text_focus_and_conflicts_under_a_stacking_manager_and_five_layouts() {
    LAYOUTS.iter().for_each(|layout| works_under(Manager::Stacking, layout));
}

#[test]
fn x11_text_focus_and_conflicts_under_a_tiling_manager_and_five_layouts() {
    LAYOUTS.iter().for_each(|layout| works_under(Manager::Tiling, layout));
}

/// What every key of a display means.
fn map_of(display: &Display) -> Vec<u32> {
    use x11rb::connection::Connection as _;
    use x11rb::protocol::xproto::ConnectionExt as _;
    let conn = display.connect();
    let (low, high) = (conn.setup().min_keycode, conn.setup().max_keycode);
    let map = conn.get_keyboard_mapping(low, high - low + 1).expect("it listens");
    let map = map.reply().expect("it answers");
    // How many meanings each key is listed with is the widest key's.
    let key = |key: &[u32]| -> Vec<u32> {
        key.iter().copied().chain(std::iter::repeat(0)).take(8).collect()
    };
    map.keysyms.chunks(map.keysyms_per_keycode.into()).flat_map(key).collect()
}

#[test]
fn x11_the_keyboard_means_what_it_meant_however_typing_ends() {
    let mut stage = Stage::set("us,ru");
    let before = map_of(&stage.display);
    let rules = "when key f9 { repeat { type \"❄∑🐧\" } }\nwhen key f8 => type \"⛏\"\n";
    type Ends = fn(&mut Running);
    let kill = |running: &mut Running| running.signal(Signal::KILL);
    let both = |running: &mut Running| {
        let guardian = running.guardian();
        running.signal(Signal::KILL);
        send(guardian, Signal::KILL);
    };
    let rewritten = |running: &mut Running| {
        std::fs::write(&running.file, "when key f8 => tap a\n").expect("it is ours");
        running.wait_for("reloaded");
    };
    let stopped = |running: &mut Running| running.signal(Signal::TERM);
    let ends: [(&str, Ends); 4] =
        [("stopped", stopped), ("killed", kill), ("rewritten", rewritten), ("both killed", both)];
    for (how, end) in ends {
        let mut running = Running::start(&stage.display, rules);
        stage.person.tap("f9");
        stage.terminal.read("❄∑🐧❄".len());
        assert_ne!(map_of(&stage.display), before, "{how}: keys are lent meanwhile");
        end(&mut running);
        if how == "both killed" {
            running.wait_end();
            // What is lent now is given back by the next one.
            Running::start(&stage.display, "when key f8 => tap a\n").stop();
        }
        stage
            .display
            .wait_until(&format!("the old map: {how}"), |display| map_of(display) == before);
        drop(running);
        stage.person.tap("enter");
        stage.terminal.read_line();
    }
    // One text, without an interruption.
    let running = Running::start(&stage.display, rules);
    stage.person.tap("f8");
    assert_eq!(stage.terminal.read("⛏".len()), "⛏");
    stage.display.wait_until("the old map", |display| map_of(display) == before);
    running.stop();
}
