//! A busy set that is ended in every way there is, at moments at which something is proven down:
//! afterwards nothing is down, nothing is taken, nothing is left behind.
//!
//! A few rounds run here; `CHAOS_ROUNDS=300` runs the long form (docs/notes/performance.md).

use std::time::Duration;

use lantern_stage::{Display, Person, pass_time};
use rustix::process::Signal;

use crate::desktop::bare;
use crate::running::{Running, arrived, send};

/// Keys, modifiers and a button, each down most of the time.
const BUSY: &str = "when key f6 { repeat { hold ctrl+shift { tap f1 }; wait 1ms } }
when key f7 { repeat { hold f2 { wait 2ms } } }
when key f8 { repeat { press left-button; wait 2ms; release left-button } }
when key f9 => toggle f3
";

/// The keycodes of the left ones.
const SHIFT_AND_CTRL: [u8; 2] = [50, 37];

/// How a round ends.
#[derive(Debug, Clone, Copy)]
enum Ending {
    Killed,
    GuardianKilledFirst,
    StoppedForAWhile,
    AskedToEnd,
    ReloadedAway,
    ServerKilled,
    ServerRestarted,
    BothKilled,
}

const ENDINGS: [Ending; 8] = [
    Ending::Killed,
    Ending::GuardianKilledFirst,
    Ending::StoppedForAWhile,
    Ending::AskedToEnd,
    Ending::ReloadedAway,
    Ending::ServerKilled,
    Ending::ServerRestarted,
    Ending::BothKilled,
];

/// In how many rounds something of each sort was down when the end came.
#[derive(Debug, Default)]
struct Proven {
    keys: usize,
    modifiers: usize,
    buttons: usize,
}

impl Proven {
    /// Looks what is down; whether anything is.
    fn look(&mut self, person: &Person) -> bool {
        let is_modifier = |code: &u8| SHIFT_AND_CTRL.contains(code);
        let down = person.keys_down();
        let modifiers = down.iter().any(is_modifier);
        let keys = down.iter().any(|code| !is_modifier(code));
        let buttons = person.buttons_down();
        self.keys += usize::from(keys);
        self.modifiers += usize::from(modifiers);
        self.buttons += usize::from(buttons);
        keys || modifiers || buttons
    }
}

fn anything_down(person: &Person) -> bool {
    !person.keys_down().is_empty() || person.buttons_down()
}

/// Starts the busy set and waits until all of it works and something is down.
fn start(display: &Display, person: &mut Person) -> Running {
    let running = Running::start(display, BUSY);
    for key in ["f9", "f6", "f7", "f8"] {
        person.tap(key);
    }
    display.wait_until("the set to be busy", |_| anything_down(person));
    running
}

fn expect_nothing_down(display: &Display, person: &Person, ending: Ending) {
    display.wait_until(&format!("every key to be up: {ending:?}"), |_| !anything_down(person));
}

fn is_alive(process: u32) -> bool {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap_or_default();
    !status.is_empty() && !status.contains("State:\tZ")
}

#[test]
fn x11_however_a_busy_set_ends_nothing_stays_down_taken_or_behind() {
    let long: Option<usize> =
        std::env::var("CHAOS_ROUNDS").ok().and_then(|rounds| rounds.parse().ok());
    let rounds = long.unwrap_or(ENDINGS.len());
    // Long enough for a person to wonder.
    let stopped = Duration::from_millis(if long.is_some() { 2000 } else { 100 });
    let mut proven = Proven::default();
    let sit_down = || {
        let display = Display::start("us");
        let person = Person::sit_down(&display);
        (display, person)
    };
    let (mut display, mut person) = sit_down();
    for round in 0..rounds {
        let ending = ENDINGS[round % ENDINGS.len()];
        let mut running = start(&display, &mut person);
        let (process, guardian) = (running.child.id(), running.guardian());
        let mut watchers = vec![guardian];
        display.wait_until("something to be down", |_| proven.look(&person));
        match ending {
            Ending::Killed => running.signal(Signal::KILL),
            Ending::GuardianKilledFirst => {
                send(guardian, Signal::KILL);
                running.wait_for("another one watches now");
                watchers.push(running.guardian());
                running.signal(Signal::KILL);
            }
            Ending::StoppedForAWhile => {
                running.signal(Signal::STOP);
                pass_time(stopped);
                running.signal(Signal::CONT);
                running.signal(Signal::TERM);
            }
            Ending::BothKilled => {
                running.signal(Signal::KILL);
                send(guardian, Signal::KILL);
                running.wait_end();
                // What is down now stays down until the next start.
                Running::start(&display, "when key f10 => tap a\n").stop();
            }
            Ending::AskedToEnd => running.signal(Signal::TERM),
            Ending::ReloadedAway => {
                std::fs::write(&running.file, "when key f10 => tap a\n").expect("it is ours");
                running.wait_for("reloaded");
                expect_nothing_down(&display, &person, ending);
                running.signal(Signal::TERM);
            }
            Ending::ServerKilled => {
                display.kill();
                running.wait_for("went away");
                running.signal(Signal::TERM);
                running.wait_end();
                (display, person) = sit_down();
            }
            Ending::ServerRestarted => {
                display.kill();
                running.wait_for("went away");
                display.revive();
                person = Person::sit_down(&display);
                running.wait_for("active on");
                expect_nothing_down(&display, &person, ending);
                watchers.push(running.guardian());
                running.signal(Signal::TERM);
            }
        }
        running.wait_end();
        expect_nothing_down(&display, &person, ending);
        assert!(!display.keyboard_is_taken(), "{ending:?}: the keyboard is free");
        watchers.push(process);
        display.wait_until(&format!("every process to be gone: {ending:?}"), |_| {
            !watchers.iter().any(|process| is_alive(*process))
        });
    }
    println!("{rounds} rounds, with something down at the end: {proven:?}");
    if long.is_some() {
        let enough = rounds * 2 / 3;
        assert!(
            proven.keys >= enough && proven.modifiers * 6 >= rounds && proven.buttons * 6 >= rounds
        );
    }
}

#[test]
fn x11_the_last_good_file_is_in_force_after_a_storm_of_saves() {
    let (display, mut person, target) = bare();
    let rounds: u64 = std::env::var("CHAOS_ROUNDS").map_or(40, |_| 500);
    let feed = "when key f9 again overlaps => tap a\n";
    let mut running = Running::start(&display, feed);
    for round in 0..rounds {
        let good = format!("let round = {round}\n{feed}");
        match round % 4 {
            0 => std::fs::write(&running.file, good),
            1 => std::fs::write(&running.file, "when key f9 => tap"),
            2 => std::fs::write(&running.file, "when ke"),
            // As a slow disk does it: half of it, and the rest a moment later.
            _ => std::fs::write(&running.file, &good[..good.len() / 2])
                .and_then(|()| std::fs::write(&running.file, good)),
        }
        .expect("it is ours");
        person.tap("f9");
        // Some are read before the next comes, some are not.
        pass_time(Duration::from_millis(round % 5 * 15));
    }
    for _ in 0..rounds {
        target.expect_press(38);
    }
    let more = arrived(&display, &person, &target).into_iter().filter(|got| got.down).count();
    assert_eq!(more, 0, "each press of the person's fired once");
    std::fs::write(&running.file, format!("when key f8 => tap a\n{feed}")).expect("it is ours");
    running.wait_for("reloaded: 2 rules");
    for key in ["f8", "f9"] {
        person.tap(key);
        target.expect_press(38);
    }
    running.stop();
}
