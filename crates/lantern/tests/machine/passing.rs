//! What no rule wants goes through as it was; boards come, go and are chosen.

use std::time::Duration;

use evdev::{Device, EventType, InputEvent, LedCode};
use lantern_stage::{Came, Console, Plugged, wait_until};

use crate::running::Running;

const SCREEN: (i32, i32) = (1280, 800);
const F9: u16 = 67;
const F10: u16 = 68;
const A: u16 = 30;
const SHIFT: u16 = 42;
const END: u16 = 107;

pub fn two_thousand_keys_go_through_unchanged_and_in_order_while_rules_fire() {
    let mut board = Plugged::keyboard("Bench keyboard");
    let rules = "when key f9 again overlaps => log \"fired\"\n";
    let mut running = Running::start(rules, "Bench");
    let mut console = Console::open(SCREEN);
    console.clear();
    let codes: Vec<u16> = (2..=13).chain(16..=27).chain(30..=40).chain(44..=53).collect();
    let mut sent = Vec::new();
    for number in 0..2000usize {
        let code = codes[(number * 7) % codes.len()];
        if number % 20 == 0 {
            board.keys(&[(F9, 1), (F9, 0)]);
        }
        let shift = number % 5 == 0;
        let mut moves = vec![(code, 1), (code, 0)];
        if shift {
            moves.insert(0, (SHIFT, 1));
            moves.push((SHIFT, 0));
        }
        board.keys(&moves);
        sent.extend(moves.iter().map(|(code, value)| Came { code: *code, value: *value }));
        // The kernel keeps some twenty keys for a reader, so no more than a few are on their way.
        if number % 4 == 3 {
            let count = sent.len();
            console.until("every key", |console| console.keys().len() >= count);
        }
    }
    board.keys(&[(END, 1), (END, 0)]);
    let is_end = |came: &Came| *came == Came { code: END, value: 0 };
    console.until("the last key", |console| console.keys().iter().any(is_end));
    let mut came = console.take_keys();
    came.truncate(came.len() - 2);
    assert_eq!(came.len(), sent.len());
    let differs = came.iter().zip(&sent).position(|(came, sent)| came != sent);
    assert_eq!(differs, None, "{:?}", differs.map(|at| (came[at], sent[at])));
    for _ in 0..100 {
        running.expect("fired");
    }
}

pub fn repeats_go_through_and_lamps_are_lit() {
    let mut board = Plugged::keyboard("Bench keyboard");
    let _running = Running::start("when key f9 => type \"x\"\n", "Bench");
    let mut console = Console::open(SCREEN);
    console.clear();
    board.keys(&[(A, 1), (A, 2), (A, 2), (A, 0), (F9, 1), (F9, 2), (F9, 0)]);
    console.until("the text", |console| console.text().ends_with('x'));
    let came: Vec<(u16, i32)> = console
        .take_keys()
        .iter()
        .filter(|came| came.code == A || came.code == F9)
        .map(|came| (came.code, came.value))
        .collect();
    assert_eq!(came, [(A, 1), (A, 2), (A, 2), (A, 0)]);
    // Other programs can still set the lamps on the person's own keyboard.
    let mut device = Device::open(board.node()).expect("it is there");
    device
        .send_events(&[InputEvent::new(EventType::LED.0, LedCode::LED_CAPSL.0, 1)])
        .expect("it may be written");
}

pub fn a_keyboard_is_taken_only_when_no_key_is_down() {
    let mut board = Plugged::keyboard("Bench keyboard");
    board.key(SHIFT, 1);
    let mut console = Console::open(SCREEN);
    let _running = Running::start("when key f9 => type \"fired\"\n", "Bench");
    // As long as shift is down, nothing is taken: its release must come from where its press did.
    board.keys(&[(F9, 1), (F9, 0)]);
    console
        .until("the key itself", |console| console.keys().contains(&Came { code: F9, value: 0 }));
    assert_eq!(console.text(), "");
    board.key(SHIFT, 0);
    console.until("the release", |console| console.keys_down().is_empty());
    press_until_fired(&mut board, &mut console, "fired");
    console.clear();
    board.keys(&[(F9, 1), (F9, 0)]);
    console.until("the text", |console| console.text() == "fired");
    assert!(console.take_keys().iter().all(|came| came.code != F9));
}

pub fn a_keyboard_that_comes_is_taken_and_one_that_goes_leaves_nothing_down() {
    let _first = Plugged::keyboard("Bench keyboard");
    let _running = Running::start("when key f9 => type \"fired \"\n", "Bench");
    let mut console = Console::open(SCREEN);
    let mut second = Plugged::keyboard("Bench spare");
    press_until_fired(&mut second, &mut console, "fired");
    second.keys(&[(SHIFT, 1), (A, 1)]);
    console.until("both", |console| console.keys_down().len() == 2);
    drop(second);
    console.until("their release", |console| console.keys_down().is_empty());
}

pub fn devices_are_chosen_and_left_out_by_name() {
    let mut chosen = Plugged::keyboard("Bench keyboard");
    let mut left = Plugged::keyboard("Bench signing key");
    let words = ["--device", "bench", "--without-device", "signing"];
    let rules = "when key f9 => type \"fired \"\nwhen key f10 => type \"chosen \"\n";
    let mut running = Running::begin(rules, &words, &Default::default());
    running.expect("active on");
    let mut console = Console::open(SCREEN);
    console.clear();
    left.keys(&[(F9, 1), (F9, 0)]);
    console.until("the key itself", |console| console.keys().len() == 2);
    // Rules type in the order in which they fire.
    chosen.keys(&[(F10, 1), (F10, 0)]);
    console.until("the text", |console| console.text().ends_with("chosen "));
    assert_eq!(console.text(), "chosen ");
    chosen.keys(&[(F9, 1), (F9, 0)]);
    console.until("the text", |console| console.text() == "chosen fired ");
}

/// Taps F9 until its rule types: the program takes a keyboard only once no key of it is down.
pub fn press_until_fired(board: &mut Plugged, console: &mut Console, text: &str) {
    // A key that moves in the moment of the taking may reach neither the program nor the console.
    console.clear();
    wait_until("the keyboard to be taken", || {
        board.keys(&[(F9, 1), (F9, 0)]);
        console.read_for(Duration::from_millis(50));
        console.text().contains(text)
    });
    console.rest(Duration::from_millis(200));
}
