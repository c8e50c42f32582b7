//! Hundreds of thousands of random events: nothing grows, and no stop is missed.

use std::time::Duration;

use lantern_backend::{Backend, SimulatedBackend};
use lantern_engine::Engine;
use lantern_model::{EffectKind, Event, Key, Layout, Time};
use lantern_script::{Source, check};

use crate::desktop::bare;
use crate::running::{Running, lantern};

/// A bit of everything that runs, holds, counts, waits and writes.
const RULES: &str = "let count = 0
macro twice(k) { tap (k), (k); set count = count + 1 }
when key f1 again stops { repeat every 5ms { click left } }
when key f2 { hold shift { tap a; wait 3ms } }
when key f3 => toggle ctrl
when key f4 while held { repeat { tap b; wait 2ms } }
when key f5 repeating => twice(key c)
when key f6 again restarts { press x; wait 20ms; release x }
layer night { when key f7 => leave layer night }
when key f7 => enter layer night
when key f8 tapped => log \"{count} sections\"
when key f8 held 20ms => hint \"{count}\" for 30ms
when keys f9, f10 within 40ms => type \"core\"
when key f11 at most once per 10ms again overlaps { hold d { wait 15ms } }
remap f12 to e
";
const KEYS: [&str; 12] =
    ["f1", "f2", "f3", "f4", "f5", "f6", "f7", "f8", "f9", "f10", "f11", "f12"];
/// So often everything is stopped.
const STOPS: usize = 500;
/// What an allocator and the kernel's counting may make of nothing, in MB.
const SLACK: f64 = 1.5;

/// Numbers that look random and are the same each time (xorshift).
struct Dice(u64);

impl Dice {
    fn below(&mut self, end: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % end
    }
}

/// What a process has for itself, in MB: what it reads from files it shares with others, who come and go.
fn memory(process: u32) -> f64 {
    let rollup = std::fs::read_to_string(format!("/proc/{process}/smaps_rollup"));
    let rollup = rollup.expect("it lives");
    let line = rollup.lines().find_map(|line| line.strip_prefix("Pss_Anon:")).expect("it is told");
    let size: f64 = line.trim().trim_end_matches(" kB").parse().expect("it is a number");
    size / 1024.0
}

fn expect_flat(what: &str, before: f64, after: f64) {
    println!("{what}: {before:.1} MB at the start, {after:.1} MB at the end");
    assert!(after < before + SLACK, "{what} grew from {before:.1} to {after:.1} MB");
}

/// An engine on a desk with no display, in time of its own.
struct Loop {
    engine: Engine,
    desk: SimulatedBackend,
    now: Time,
}

impl Loop {
    fn settle(&mut self) {
        loop {
            if let Some(event) = self.desk.poll_event(self.now).expect("it never goes away") {
                self.engine.handle_event(self.now, event);
            } else if self.engine.next_deadline().is_some_and(|due| due <= self.now) {
                self.engine.handle_deadline(self.now);
            } else {
                return;
            }
            self.carry_out();
        }
    }

    fn carry_out(&mut self) {
        let (desk, now) = (&mut self.desk, self.now);
        while let Some(effect) = self.engine.poll_effect() {
            let done = match effect.kind {
                EffectKind::SetGrabs(armed) => desk.set_grabs(armed),
                EffectKind::Input(step) => desk.send_input(now, effect.id, &step),
                EffectKind::ReplayKey(back) => desk.replay_key(now, &back),
                EffectKind::Hint(hint) => desk.show_hint(now, effect.id, &hint),
                EffectKind::Execute(command) => desk.execute(now, effect.id, &command).map(drop),
                EffectKind::Log(_) | EffectKind::Listen(_) | EffectKind::Cancel(_) => Ok(()),
            };
            done.expect("it never goes away");
        }
    }

    fn wait(&mut self, span: Duration) {
        let end = self.now + span;
        while let Some(due) = self.engine.next_deadline().filter(|due| *due <= end) {
            self.now = due.max(self.now);
            self.settle();
        }
        self.now = end;
    }
}

#[test]
fn two_hundred_thousand_events_leave_memory_as_it_was_and_no_stop_is_missed() {
    let rules = check(&Source::new("bench.lantern", RULES)).rules.expect("they are fine");
    let mut desk = SimulatedBackend::new(Layout::us());
    desk.open("corelog");
    let mut play = Loop { engine: Engine::new(rules, 7), desk, now: Time::START };
    play.settle();
    let keys = KEYS.map(|name| Key::named(name).expect("there is one"));
    let panic = ["left-ctrl", "left-alt", "left-shift", "escape"];
    let panic = panic.map(|name| Key::named(name).expect("there is one"));
    let (mut dice, mut down) = (Dice(7), [false; KEYS.len()]);
    let mut before = 0.0;
    for number in 0..200_000 {
        let at = dice.below(KEYS.len() as u64) as usize;
        down[at] = !down[at];
        if down[at] {
            play.desk.press(play.now, keys[at])
        } else {
            play.desk.release(keys[at])
        }
        play.settle();
        play.wait(Duration::from_micros(dice.below(8000)));
        if number % STOPS == 0 {
            panic.iter().for_each(|key| play.desk.press(play.now, *key));
            play.settle();
            assert_eq!(play.engine.live_runs(), 0, "after {number} events");
            assert_eq!(play.engine.held_keys().count(), 0, "after {number} events");
            panic.iter().for_each(|key| play.desk.release(*key));
            play.engine.resume(play.now, None).expect("everything can be");
            play.engine.handle_event(play.now, Event::Screens(Vec::new()));
            play.carry_out();
            play.settle();
            play.desk.forget();
        }
        if number == 20_000 {
            before = memory(std::process::id());
        }
    }
    expect_flat("200,000 events on the simulated back end", before, memory(std::process::id()));
}

#[test]
fn x11_twenty_thousand_events_leave_memory_as_it_was_and_no_stop_is_missed() {
    let (display, mut person, target) = bare();
    let running = Running::start(&display, RULES);
    let processes = [running.child.id(), running.guardian()];
    let all = || processes.into_iter().map(memory).sum::<f64>();
    let (mut dice, mut down) = (Dice(7), [false; KEYS.len()]);
    let mut before = 0.0;
    for number in 1..=20_000 {
        let at = dice.below(KEYS.len() as u64) as usize;
        down[at] = !down[at];
        if down[at] {
            person.press(KEYS[at])
        } else {
            person.release(KEYS[at])
        }
        if number % STOPS == 0 {
            for (key, down) in KEYS.iter().zip(&mut down) {
                if std::mem::take(down) {
                    person.release(key);
                }
            }
            person.tap("ctrl+alt+shift+escape");
            person.expect_no_keys_down();
            assert!(!person.buttons_down());
            assert!(lantern(&display, &["resume"]).status.success());
            target.take_all();
        }
        if number == 2000 {
            before = all();
        }
    }
    expect_flat("20,000 events on X11, both processes", before, all());
    running.stop();
}
