//! What holds for every timeline.

use std::collections::BTreeMap;

use lantern_engine::{Engine, StopCause};
use lantern_model::{
    App, CommandError, EffectKind, Event, HeldModifiers, InputAction, Key, Layout, ModifierKey,
    RuleSet, Time,
};
use lantern_script::{Source, check};
use proptest::prelude::*;

const RULES: &str = "let n = 0
macro twice(k) { tap (k), (k); set n = n + 1 }
when key f1 { hold ctrl+a { wait 30ms } }
when key f2 again stops { repeat every 7ms { press b; wait 3ms; release b } }
when key f3 => toggle c
when key f4 while held { hold d { type \"slow text\" every 4ms } }
when key f5 repeating => twice(key e)
when key f6 again restarts { press shift; wait 50ms; log \"{1 / (n - 3)}\" }
when key f7 again overlaps { hold f { wait 40ms } }
when key f8 { stop all }
when key f9 in app \"log\" again stops { hold g { wait } }
when key f10 released { press h; press h; release h; wait 10ms }
when key f11 if n % 2 == 0 { repeat 1000 times { set n = n + 1 } }
";

#[derive(Debug, Clone)]
enum TestInput {
    Press(u8),
    Release(u8),
    Panic,
    Focus(bool),
    Wait(u16),
    Fail,
}

fn command() -> impl Strategy<Value = TestInput> {
    prop_oneof![
        6 => (1u8..12).prop_map(TestInput::Press),
        3 => (1u8..12).prop_map(TestInput::Release),
        1 => Just(TestInput::Panic),
        1 => any::<bool>().prop_map(TestInput::Focus),
        5 => (0u16..60).prop_map(TestInput::Wait),
        1 => Just(TestInput::Fail),
    ]
}

/// A back end that only counts what is down.
#[derive(Default)]
struct SimulatedKeyboard {
    down: BTreeMap<Key, u32>,
    trace: Vec<String>,
    fail_next: bool,
}

impl SimulatedKeyboard {
    fn carry_out(&mut self, engine: &mut Engine, now: Time) {
        while let Some(effect) = engine.poll_effect() {
            self.trace.push(format!("{now} {effect:?}"));
            let EffectKind::Input(step) = &effect.kind else {
                continue;
            };
            for act in &step.actions {
                match act {
                    InputAction::Down(key) => *self.down.entry(*key).or_default() += 1,
                    InputAction::Up(key) => {
                        let count = self.down.get_mut(key).expect("only what is down goes up");
                        *count -= 1;
                        if *count == 0 {
                            self.down.remove(key);
                        }
                    }
                    _ => {}
                }
            }
            assert!(self.down.values().all(|count| *count == 1), "a key goes down once");
            let failed = std::mem::take(&mut self.fail_next);
            let result =
                if failed { Err(CommandError::failed("the desk says no")) } else { Ok(None) };
            engine.handle_event(now, Event::Outcome { effect: effect.id, result });
        }
    }
}

fn rules() -> RuleSet {
    let checked = check(&Source::new("bench.lantern", RULES));
    checked.rules.unwrap_or_else(|| panic!("{:?}", checked.findings))
}

/// Plays the commands; returns the trace.
fn play(commands: &[TestInput]) -> Vec<String> {
    let mut engine = Engine::new(rules(), 1);
    let mut board = SimulatedKeyboard::default();
    let mut now = Time::START;
    engine.handle_event(now, Event::Layout(Layout::us()));
    board.carry_out(&mut engine, now);
    let function = |number: u8| Key::named(&format!("f{number}")).expect("there are 24");
    for command in commands {
        match command {
            TestInput::Press(number) => {
                let modifiers = HeldModifiers::NONE;
                engine.handle_event(now, Event::Pressed { key: function(*number), modifiers });
            }
            TestInput::Release(number) => {
                engine.handle_event(now, Event::Released { key: function(*number) });
            }
            TestInput::Panic => {
                let modifiers =
                    [ModifierKey::LeftCtrl, ModifierKey::LeftAlt, ModifierKey::LeftShift]
                        .into_iter()
                        .collect();
                let key = Key::named("escape").expect("there is one");
                engine.handle_event(now, Event::Pressed { key, modifiers });
                board.carry_out(&mut engine, now);
                assert!(board.down.is_empty(), "the panic key lets everything go");
                assert_eq!(engine.live_runs(), 0);
                engine.resume(now, None).expect("all is there");
            }
            TestInput::Focus(log) => {
                let name = if *log { "log" } else { "saw" };
                let app =
                    App { window: u64::from(*log) + 1, names: vec![name.into()], ..App::default() };
                engine.handle_event(now, Event::Focus(app));
            }
            TestInput::Wait(millis) => {
                let end = now + std::time::Duration::from_millis((*millis).into());
                engine.advance(now, end, |engine, now| board.carry_out(engine, now));
                now = end;
            }
            TestInput::Fail => board.fail_next = true,
        }
        board.carry_out(&mut engine, now);
        let held: Vec<Key> = engine.held_keys().map(|(key, _)| key).collect();
        let down: Vec<Key> = board.down.keys().copied().collect();
        assert_eq!(held, down, "the ledger knows what is down");
    }
    engine.stop_everything(now, StopCause::SessionEnd);
    board.carry_out(&mut engine, now);
    assert!(board.down.is_empty(), "nothing stays down: {:?}", board.down);
    assert_eq!(engine.next_deadline().filter(|_| engine.live_runs() > 0), None);
    board.trace
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn no_key_is_left_down_and_the_same_timeline_gives_the_same_trace(
        commands in proptest::collection::vec(command(), 0..60)
    ) {
        prop_assert_eq!(play(&commands), play(&commands));
    }
}
