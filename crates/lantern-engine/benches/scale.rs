//! The engine with many rules and many runs, each as a ratio to few. `cargo bench -p lantern-engine`

#![expect(
    clippy::disallowed_types,
    clippy::disallowed_methods,
    reason = "a benchmark measures time and memory"
)]

#[path = "../../lantern-script/benches/mix/mod.rs"]
mod mix;

use std::time::{Duration, Instant};

use lantern_engine::Engine;
use lantern_model::{App, Event, HeldModifiers, Key, Layout, ModifierKey, Time};
use lantern_script::{Source, check};

const EVENTS: usize = 20_000;

/// An engine with so many rules, at work in one program.
fn engine(rules: usize) -> Engine {
    let checked = check(&Source::new("bench.lantern", mix::mix(rules)));
    let mut engine = Engine::new(checked.rules.expect("nothing stands against it"), 1);
    engine.handle_event(Time::START, Event::Layout(Layout::us()));
    let names = vec!["program-0".to_owned()];
    engine.handle_event(Time::START, Event::Focus(App { window: 1, names, ..App::default() }));
    drain(&mut engine, Time::START);
    engine
}

fn drain(engine: &mut Engine, now: Time) {
    while let Some(effect) = engine.poll_effect() {
        let outcome = Event::Outcome { effect: effect.id, result: Ok(None) };
        engine.handle_event(now, outcome);
    }
}

/// The time one event takes, the least disturbed of several rounds.
fn per_event(engine: &mut Engine, mut event: impl FnMut(usize) -> Event) -> Duration {
    let mut now = Time::START;
    let mut best = Duration::MAX;
    for _ in 0..5 {
        let start = Instant::now();
        for at in 0..EVENTS {
            now = now + Duration::from_millis(1);
            engine.handle_event(now, event(at));
        }
        best = best.min(start.elapsed() / EVENTS as u32);
        drain(engine, now);
    }
    best
}

fn key(name: &str) -> Key {
    Key::named(name).expect("it is in the table")
}

/// Makes the event with that number.
type Make = fn(usize, HeldModifiers) -> Event;

fn main() {
    // First, while the memory of nothing else is there to be used again.
    sleeping_runs();
    let ctrl: HeldModifiers = [ModifierKey::LeftCtrl].into_iter().collect();
    let mut engines = [engine(10), engine(10_000)];
    let kinds: [(&str, Make); 4] = [
        ("a key no rule wants", |_, _| Event::Pressed {
            key: key("f20"),
            modifiers: HeldModifiers::NONE,
        }),
        ("a key that fires, and up", |at, ctrl| match at % 2 {
            0 => Event::Pressed { key: key("f1"), modifiers: ctrl },
            _ => Event::Released { key: key("f1") },
        }),
        ("a phrase no rule wants", |_, _| Event::Heard {
            words: "open the pod".to_owned(),
            score: 1.0,
            began: Duration::ZERO,
        }),
        ("a phrase nearly meant", |_, _| Event::Heard {
            words: "open first core again".to_owned(),
            score: 1.0,
            began: Duration::ZERO,
        }),
    ];
    for (name, make) in kinds {
        let [few, many] = engines.each_mut().map(|engine| per_event(engine, |at| make(at, ctrl)));
        println!(
            "{name:<24} {:>7.0} ns with 10 rules, {:>7.0} ns with 10,000: {:.2} (aim under 1.2, under 2,000 ns)",
            few.as_nanos(),
            many.as_nanos(),
            many.as_secs_f64() / few.as_secs_f64()
        );
    }
    long_scene();
}

/// Ten thousand runs that sleep, and how soon a stop is heard among them.
fn sleeping_runs() {
    let rules = "when key f9 again overlaps { wait }\nwhen key f8 again overlaps { repeat { set n = n + 1 } }\nlet n = 0\nwhen key f7 { stop all; log \"{n}\" }\n";
    let checked = check(&Source::new("bench.lantern", rules));
    let mut engine = Engine::new(checked.rules.expect("nothing stands against it"), 1);
    engine.handle_event(Time::START, Event::Layout(Layout::us()));
    let before = resident_kilobytes();
    for _ in 0..10_000 {
        engine.handle_event(
            Time::START,
            Event::Pressed { key: key("f9"), modifiers: HeldModifiers::NONE },
        );
        engine.handle_event(Time::START, Event::Released { key: key("f9") });
    }
    let grown = resident_kilobytes().saturating_sub(before);
    println!(
        "10,000 sleeping runs: {} live, {:.1} MB (aim under 20)",
        engine.live_runs(),
        grown as f64 / 1024.0
    );
    for _ in 0..100 {
        engine.handle_event(
            Time::START,
            Event::Pressed { key: key("f8"), modifiers: HeldModifiers::NONE },
        );
        engine.handle_event(Time::START, Event::Released { key: key("f8") });
    }
    let start = Instant::now();
    engine.handle_event(
        Time::START,
        Event::Pressed { key: key("f7"), modifiers: HeldModifiers::NONE },
    );
    println!(
        "a stop among 10,100 runs, 100 of them busy: {} left, {:.1} ms",
        engine.live_runs(),
        start.elapsed().as_secs_f64() * 1e3
    );
}

fn resident_kilobytes() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:"));
    line.and_then(|line| line.trim().split(' ').next()?.parse().ok()).unwrap_or(0)
}

/// A hundred thousand events at one engine, as in a long rehearsal.
fn long_scene() {
    let mut engine = engine(1_000);
    let ctrl: HeldModifiers = [ModifierKey::LeftCtrl].into_iter().collect();
    let start = Instant::now();
    let mut now = Time::START;
    for at in 0..100_000 {
        now = now + Duration::from_millis(5);
        let key = key("f1");
        let event = match at % 2 {
            0 => Event::Pressed { key, modifiers: ctrl },
            _ => Event::Released { key },
        };
        engine.handle_event(now, event);
        drain(&mut engine, now);
        engine.advance(now, now, drain);
    }
    println!("100,000 events: {:.0} ms (aim under 1,000)", start.elapsed().as_secs_f64() * 1e3);
}
