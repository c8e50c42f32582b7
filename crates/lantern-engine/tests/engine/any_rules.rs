//! What holds for every set of rules and every timeline: no key left down, the same trace for the
//! same seed, nothing held by a run that was stopped at any step.

#![expect(clippy::disallowed_types, reason = "a test may count what many cases generated")]

use std::collections::BTreeMap;
use std::sync::Mutex;
use std::time::Duration;

use lantern_engine::{Engine, StopCause};
use lantern_model::{
    App, CommandError, ConnectionState, EffectKind, Event, HeldModifiers, InputAction, Key,
    KeyGrab, Layout, ModifierKey, Rect, Refusal, RuleSet, Time, Value, WallTime,
};
use lantern_script::{Source, check};
use proptest::prelude::*;

/// How often each construct was generated, by what sort it is.
static CENSUS: Mutex<BTreeMap<(&'static str, &'static str), usize>> = Mutex::new(BTreeMap::new());

/// One of several texts of a sort, counted.
fn one_of(
    sort: &'static str,
    texts: &'static [&'static str],
) -> impl Strategy<Value = String> + Clone {
    proptest::sample::select(texts).prop_map(move |text| {
        let mut census = CENSUS.lock().expect("no test panics while it holds this");
        *census.entry((sort, text)).or_default() += 1;
        text.to_owned()
    })
}

fn trigger() -> impl Strategy<Value = String> {
    one_of(
        "trigger",
        &[
            "key f1",
            "key f2 released",
            "key f3 tapped",
            "key f4 twice",
            "key f5 held 40ms",
            "key f6+f7",
            "keys f8, f9 within 50ms",
            "typed \"ab\"",
            "voice \"next [core] <number>\"",
            "gesture check-mark while holding forward-button",
            "line from pedals contains \"x\"",
            "message \"a/+\" on hut",
            "call \"/x\" on door",
            "every 70ms",
            "at 09:00:01",
            "started",
            "window opened app \"log\"",
            "window focused",
            "key shift",
            "key ctrl+f1 released",
        ],
    )
}

fn clause() -> impl Strategy<Value = String> {
    one_of(
        "clause",
        &[
            "",
            "",
            "in app \"log\"",
            "not in app \"log\"",
            "in title \"draft\"",
            "in layer one",
            "if n % 2 == 0",
            "at most once per 50ms",
            "after quiet 10ms",
            "again stops",
            "again restarts",
            "again overlaps",
            "again is ignored",
            "even when locked",
            "fast",
            "named lamp",
        ],
    )
}

fn step() -> impl Strategy<Value = String> {
    let leaf = one_of(
        "step",
        &[
            "tap a, ctrl+b 3 times every 5ms",
            "press c",
            "release c",
            "toggle d",
            "type \"core\" every 3ms",
            "paste \"x\"",
            "click left 2 times",
            "scroll down 2",
            "move to 5, 6 over 30ms",
            "move by 1, 1",
            "drag left to 9, 9",
            "launch \"saw\" as saw",
            "run \"sync\" at most 40ms",
            "end saw",
            "focus app \"log\"",
            "notify \"x\"",
            "volume up 5%",
            "set n = n + 1",
            "log \"{n}\"",
            "hint \"x\" for 1s",
            "wait 15ms",
            "wait until n > 3 at most 60ms",
            "stop",
            "stop all",
            "stop lamp-0",
            "pause lamp-0",
            "resume lamp-0",
            "enter layer one",
            "leave layer one",
            "twice-over(2)",
            "put fans \"/x\" body n",
            "send pedals \"x\"",
            "if n > 2 { tap f } else { wait 5ms }",
        ],
    );
    let with_else = one_of(
        "step",
        &[
            "ask \"How?\" at most 30ms",
            "get fans \"/x\" at most 20ms",
            "shell `x`",
            "choose \"a\", \"b\"",
            "wait until window.title contains \"draft\" at most 30ms",
        ],
    )
    .prop_map(|step| format!("{step} else {{ log \"else\"; tap e }}"));
    let flat = prop_oneof![5 => leaf, 1 => with_else];
    flat.prop_recursive(3, 12, 3, |inner| {
        let block = proptest::collection::vec(inner, 1..3).prop_map(|steps| steps.join("; "));
        (one_of("step", NESTS), block.clone(), block).prop_map(|(kind, first, second)| {
            match kind.as_str() {
                "any of" => format!("any of {{ {first} }} or {{ {second} }}"),
                kind => format!("{kind} {{ {first} }}"),
            }
        })
    })
}

const NESTS: &[&str] = &[
    "hold g",
    "hold ctrl+h",
    "hold left-button",
    "hold shift+j",
    "repeat 2 times every 4ms",
    "repeat 3 times",
    "for i in 1..2",
    "with app \"log\"",
    "any of",
    "repeat every 6ms while n < 20",
];

/// A file of rules that nothing stands against.
fn rules() -> impl Strategy<Value = String> {
    let rule = (trigger(), clause(), proptest::collection::vec(step(), 1..4));
    proptest::collection::vec(rule, 1..6).prop_map(|rules| {
        let mut text = String::from(
            "let n = 0\ndevice pedals = serial \"/dev/x\" at 9600\ndevice hut = broker \"mqtt://x\"
device door = listener \"127.0.0.1:1\"\ndevice fans = web \"http://x\"
macro twice-over(k) { set n = n + k; tap x, y }
layer one { when key f20 => tap z }\nwhen key f21 named lamp-0 => launch \"saw\" as saw\n",
        );
        for (number, (trigger, clause, steps)) in rules.into_iter().enumerate() {
            let clause = clause.replace("lamp", &format!("lamp-{}", number + 1));
            let mut steps = steps.join("; ");
            // Loops within loops need names of their own.
            for at in 0..steps.matches("for i in").count() {
                steps = steps.replacen("for i in", &format!("for i-{at} in"), 1);
            }
            text.push_str(&format!("when {trigger} {clause} {{ {steps} }}\n"));
        }
        text
    })
}

#[derive(Debug, Clone)]
enum TestInput {
    Press(&'static str, HeldModifiers),
    Release(&'static str),
    Finger(&'static str, bool),
    Happen(u8),
    Wait(u16),
    Outcomes(bool),
    Panic,
    /// Another set takes the place of the present one, or the first that of it.
    Reload,
    /// One rule is paused, or everything.
    Pause(bool),
    Resume(bool),
    /// The back end cannot have the key that it was armed with at that place, or has it again.
    Refuse(usize, bool),
    Free,
}

fn command() -> impl Strategy<Value = TestInput> {
    let keys =
        ["f1", "f2", "f3", "f4", "f5", "f6", "f7", "f8", "f9", "f20", "f21", "q", "forward-button"];
    let ctrl: HeldModifiers = [ModifierKey::LeftCtrl].into_iter().collect();
    let held = prop_oneof![4 => Just(HeldModifiers::NONE), 1 => Just(ctrl)];
    prop_oneof![
        6 => (proptest::sample::select(keys.to_vec()), held).prop_map(|(key, held)| TestInput::Press(key, held)),
        5 => proptest::sample::select(keys.to_vec()).prop_map(TestInput::Release),
        1 => (proptest::sample::select(vec!["left-shift", "a", "f1"]), any::<bool>())
            .prop_map(|(key, down)| TestInput::Finger(key, down)),
        6 => (0..HAPPENINGS).prop_map(TestInput::Happen),
        6 => (0u16..80).prop_map(TestInput::Wait),
        1 => any::<bool>().prop_map(TestInput::Outcomes),
        1 => Just(TestInput::Panic),
        1 => Just(TestInput::Reload),
        1 => any::<bool>().prop_map(TestInput::Pause),
        1 => any::<bool>().prop_map(TestInput::Resume),
        1 => (0usize..12, any::<bool>()).prop_map(|(at, held)| TestInput::Refuse(at, held)),
        1 => Just(TestInput::Free),
    ]
}

fn key(name: &str) -> Key {
    Key::named(name).expect("it is in the table")
}

fn app(window: u64, name: &str, title: &str) -> App {
    let names = vec![name.to_owned()];
    App { window, names, title: title.to_owned(), process: Some(17), ..App::default() }
}

/// How many things [`happening`] knows.
const HAPPENINGS: u8 = 26;

fn happening(number: u8) -> Event {
    let text = |text: &str| text.to_owned();
    match number {
        0 => Event::Focus(app(1, "log", "draft")),
        1 => Event::Focus(app(2, "saw", "blade")),
        2 => Event::WindowOpened(app(3, "log", "new")),
        3 => {
            let (words, began) = (text("next core seven"), Duration::ZERO);
            Event::Heard { words, score: 1.0, began }
        }
        4 => Event::Bytes { device: text("pedals"), bytes: b"x\ny".to_vec() },
        5 => Event::Message { device: text("hut"), topic: text("a/b"), text: text("on") },
        6 => Event::Call {
            call: 0,
            device: text("door"),
            caller: text(""),
            path: text("/x"),
            text: text(""),
        },
        7 => Event::TextInput(Some('a')),
        8 => Event::TextInput(Some('b')),
        9 => Event::Locked(true),
        10 => Event::Locked(false),
        11 => Event::WallClock(WallTime::from_civil(2031, 6, 21, 9, 0, 0)),
        12 => Event::Started,
        13 => Event::PointerPath(vec![(0.0, 0.0), (60.0, 60.0), (120.0, 0.0)]),
        14 => Event::Gesture {
            shape: text("check-mark"),
            key: key("forward-button"),
            bounds: Rect::default(),
            score: 1.0,
        },
        15 => Event::Layout(Layout::named("de").expect("it is known")),
        16 => Event::Layout(Layout::us()),
        17 => Event::InputMethod(true),
        18 => Event::InputMethod(false),
        // The process of every program in front here.
        19 => Event::PasswordField(Some(17)),
        20 => Event::PasswordField(None),
        21 => Event::ActiveDevice(text("second pad")),
        22 => Event::TextInput(None),
        23 => Event::ConnectionState {
            device: text("pedals"),
            state: ConnectionState::Down(text("it was unplugged")),
        },
        24 => Event::Misheard { words: text("core"), score: 0.3, why: text("too unlike") },
        25 => Event::Pointer(40, 50),
        other => unreachable!("{other} is beyond {HAPPENINGS}"),
    }
}

/// A back end that knows which keys are down. It answers at once or on request.
#[derive(Default)]
struct SimulatedKeyboard {
    down: BTreeMap<Key, u32>,
    trace: Vec<String>,
    fails: bool,
    armed: Vec<KeyGrab>,
    refused: Vec<KeyGrab>,
}

impl SimulatedKeyboard {
    fn carry_out(&mut self, engine: &mut Engine, now: Time) {
        // A circle of rules that fire each other at one moment never comes to an end.
        for _ in 0..5000 {
            let Some(effect) = engine.poll_effect() else { return };
            self.trace.push(format!("{now} {effect:?}"));
            let result = match &effect.kind {
                EffectKind::Input(step) => {
                    self.input(step.actions.iter());
                    Ok(None)
                }
                EffectKind::SetGrabs(armed) => {
                    self.armed.clone_from(&armed.keys);
                    continue;
                }
                EffectKind::Execute(_) if self.fails => Err(CommandError::failed("no")),
                EffectKind::Execute(_) => Ok(Some(Value::Text("12".to_owned()))),
                _ => continue,
            };
            engine.handle_event(now, Event::Outcome { effect: effect.id, result });
        }
    }

    fn input<'a>(&mut self, acts: impl Iterator<Item = &'a InputAction>) {
        for act in acts {
            match act {
                InputAction::Down(key) => {
                    assert_eq!(self.down.insert(*key, 1), None, "{key} goes down once");
                }
                InputAction::Up(key) => {
                    assert!(self.down.remove(key).is_some(), "only what is down goes up: {key}");
                }
                _ => {}
            }
        }
    }
}

/// Plays a timeline on a set that `other` may take the place of; gives everything that was ordered.
fn play(rules: &RuleSet, other: &RuleSet, commands: &[TestInput], stop_at: usize) -> Vec<String> {
    let mut engine = Engine::new(rules.clone(), 5);
    let mut board = SimulatedKeyboard::default();
    let mut sets = [other, rules];
    let mut now = Time::START;
    engine.handle_event(now, Event::Layout(Layout::us()));
    engine.handle_event(now, Event::Screens(vec![Rect { x: 0, y: 0, width: 100, height: 100 }]));
    board.carry_out(&mut engine, now);
    for (number, command) in commands.iter().enumerate() {
        match command {
            TestInput::Press(name, modifiers) => {
                engine.handle_event(now, Event::Pressed { key: key(name), modifiers: *modifiers });
            }
            TestInput::Release(name) => {
                engine.handle_event(now, Event::Released { key: key(name) })
            }
            TestInput::Finger(name, down) => {
                engine.handle_event(now, Event::RawKey { key: key(name), down: *down });
            }
            TestInput::Happen(number) => engine.handle_event(now, happening(*number)),
            TestInput::Outcomes(fail) => board.fails = *fail,
            TestInput::Panic => {
                let modifiers =
                    [ModifierKey::LeftCtrl, ModifierKey::LeftAlt, ModifierKey::LeftShift]
                        .into_iter()
                        .collect();
                engine.handle_event(now, Event::Pressed { key: key("escape"), modifiers });
                board.carry_out(&mut engine, now);
                assert!(board.down.is_empty(), "the panic key lets everything go");
                engine.resume(now, None).expect("all is there");
            }
            TestInput::Reload => {
                engine.replace_rules(now, sets[0].clone());
                sets.swap(0, 1);
            }
            TestInput::Pause(all) => {
                let paused = engine.pause(now, (!all).then_some("lamp-0"));
                paused.expect("both sets have the rule");
                board.carry_out(&mut engine, now);
                assert!(!all || board.down.is_empty(), "a pause of all lets everything go");
            }
            TestInput::Resume(all) => {
                let resumed = engine.resume(now, (!all).then_some("lamp-0"));
                resumed.expect("both sets have the rule");
            }
            TestInput::Refuse(at, held) => {
                if let Some(key) = board.armed.get(*at).copied() {
                    let why = if *held { Refusal::HeldByOther } else { Refusal::NotOnKeyboard };
                    board.refused.push(key);
                    engine.handle_event(now, Event::GrabsRefused(vec![(key, why)]));
                }
            }
            TestInput::Free => {
                let free = std::mem::take(&mut board.refused);
                engine.handle_event(now, Event::GrabsFreed(free));
            }
            TestInput::Wait(millis) => {
                let end = now + Duration::from_millis((*millis).into());
                engine.advance(now, end, |engine, now| board.carry_out(engine, now));
                now = end;
            }
        }
        board.carry_out(&mut engine, now);
        let held: Vec<Key> = engine.held_keys().map(|(key, _)| key).collect();
        assert_eq!(held, board.down.keys().copied().collect::<Vec<_>>(), "the ledger knows");
        if number == stop_at {
            engine.stop_everything(now, StopCause::SessionEnd);
            board.carry_out(&mut engine, now);
            assert!(board.down.is_empty(), "a stop at any step leaves nothing held");
        }
    }
    engine.stop_everything(now, StopCause::SessionEnd);
    board.carry_out(&mut engine, now);
    assert!(board.down.is_empty(), "nothing stays down: {:?}", board.down);
    assert_eq!(engine.live_runs(), 0);
    board.trace
}

#[test]
fn any_rules_and_any_timeline() {
    let config =
        ProptestConfig { cases: 600, failure_persistence: None, ..ProptestConfig::default() };
    let mut runner = proptest::test_runner::TestRunner::new(config);
    let whole = (rules(), rules(), proptest::collection::vec(command(), 0..50), 0usize..60);
    let result = runner.run(&whole, |(text, other, commands, stop_at)| {
        let checked = check(&Source::new("bench.lantern", &text));
        // One that does not run takes no other's place, as it is when a file is saved.
        let other = check(&Source::new("bench.lantern", &other)).rules;
        // Two rules that want the same are an error; such a file does not run.
        let Some(rules) = checked.rules else {
            let all_taken = checked.findings.iter().all(|f| {
                f.code.row().name == "taken-twice"
                    || f.severity() == lantern_script::codes::Severity::Warning
            });
            prop_assert!(all_taken, "{:?}\n{}", checked.findings, text);
            return Ok(());
        };
        let other = other.as_ref().unwrap_or(&rules);
        let played = || play(&rules, other, &commands, stop_at);
        prop_assert_eq!(played(), played());
        Ok(())
    });
    if let Err(error) = result {
        panic!("{error}");
    }
    let census = CENSUS.lock().expect("no test panics while it holds this");
    for sort in ["trigger", "clause", "step"] {
        let of_sort: Vec<(&str, usize)> = census
            .iter()
            .filter(|((found, _), _)| *found == sort)
            .map(|((_, name), times)| (*name, *times))
            .collect();
        let total: usize = of_sort.iter().map(|(_, times)| times).sum();
        println!("{total} of sort {sort}");
        for (name, times) in of_sort {
            let share = times as f64 * 100.0 / total as f64;
            println!("{times:>6} {share:>5.1} % {name}");
            assert!(share >= 1.0, "{name} is hardly ever generated");
        }
    }
    let of = |names: &[&str]| -> usize {
        census.iter().filter(|((_, name), _)| names.contains(name)).map(|(_, times)| times).sum()
    };
    let steps: usize = census.iter().filter(|((s, _), _)| *s == "step").map(|(_, n)| n).sum();
    let (blocks, holds) =
        (of(NESTS), of(&["hold g", "hold ctrl+h", "hold left-button", "hold shift+j"]));
    println!("{blocks} of {steps} steps are blocks around others, {holds} of them hold keys");
    assert!(holds * 3 >= blocks, "a third of the blocks hold keys");
}
