//! Every operation, operator and function with the least and the greatest of every kind of value: a step
//! fails or is done, and nothing panics, overflows or loops without an end.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use lantern_engine::{DecisionKind, Engine};
use lantern_model::code::{Function, Op, Operator};
use lantern_model::{
    CommandError, Effect, EffectKind, Event, Key, KeyCombination, KeySpec, Layout, Time, TimeOfDay,
    Value, WallTime,
};

use crate::theatre::rules;

/// A step for each operation that takes values, with parameters `a` and `b` in each place where one goes.
const STEPS: &[&str] = &[
    "tap (a)",
    "tap x, (a) b times",
    "tap x, y a times",
    "tap x, y every a",
    "tap ctrl+(a)",
    "press (a)",
    "release (a)",
    "toggle (a)",
    "hold (a) { wait 1ms }",
    "type a",
    "type \"{a}{b}\" every 1ms",
    "type \"core\" every a",
    "type \"core\" anyway",
    "paste a",
    "move to a, b",
    "move by a, b",
    "move to a, b of window",
    "move to a, b of screen",
    "move to 3, 4 over a",
    "move to 10%, 20% of screen over a",
    "scroll down a",
    "click left a times",
    "wait a",
    "wait until a == b",
    "wait until a at most b",
    "repeat a times { let x = 1 }",
    "repeat 3 times every a { let x = 1 }",
    "repeat a times every b { let x = 1 }",
    "repeat every a { let x = 1 }",
    "repeat { wait a }",
    "for x in a { log x }",
    "any of { log a } or { log b }",
    "if a { log b } else { log a }",
    "if a == b { log a }",
    "set kept = a",
    "set list = [list, a]",
    "set text = \"{text}{a}\"",
    "let x = a.part",
    "log a",
    "hint a",
    "hint a for b",
    "hint \"core\" at a, b",
    "notify a",
    "volume up a",
    "volume set a",
    "run (a)",
    "launch a",
    "open a",
    "focus app a",
    "close app a",
    "say a",
    "let x = ask a",
    "let x = pick \"core\", a",
    "let x = ask \"core\" at most a",
    "tally a",
    "with app a { log b }",
    "note(a, b)",
    "stop",
    "stop entry",
    "pause entry",
    "resume entry",
    "enter layer deep",
    "leave layer deep",
    "listen freely",
    "stop all",
    "stop all until resumed",
    "notify a else { log b }",
];

/// Extreme values of every kind.
fn values() -> Vec<Value> {
    let text = |text: &str| Value::Text(text.to_owned());
    let mut deep = Value::List(Vec::new());
    for _ in 0..31 {
        deep = Value::List(vec![deep]);
    }
    vec![
        Value::Number(0.0),
        Value::Number(-1.0),
        Value::Number(3.0),
        Value::Number(0.1),
        Value::Number(f64::MAX),
        Value::Number(f64::MIN),
        Value::Number(f64::MIN_POSITIVE),
        Value::Number(9_007_199_254_740_993.0),
        Value::Share(0.0),
        Value::Share(f64::MAX),
        Value::Share(-1.0),
        Value::Truth(true),
        Value::Duration(Duration::ZERO),
        Value::Duration(Duration::from_nanos(1)),
        Value::Duration(Duration::MAX),
        text(""),
        text("core 12"),
        text("\u{0}\u{1b}é\u{202e}"),
        text(&"x".repeat(1 << 20)),
        Value::List(Vec::new()),
        Value::List(vec![Value::Number(1.0), text("b"), Value::Truth(false)]),
        Value::List(vec![Value::Number(1.0); 60_000]),
        deep,
        Value::Record(BTreeMap::new()),
        Value::Key(KeyCombination::default()),
        Value::Key(KeyCombination::of(KeySpec::Named(Key::named("f9").expect("it is one")))),
        Value::Key(KeyCombination::of(KeySpec::Character('\u{0}'))),
        Value::Time(TimeOfDay::new(23, 59, 59).expect("it is one")),
    ]
}

/// A name for each operation; a new one does not compile before it has one here, and a step above.
fn name_of(op: &Op) -> &'static str {
    match op {
        Op::Tap { .. } => "tap",
        Op::Press(_) => "press",
        Op::Release(_) => "release",
        Op::Toggle(_) => "toggle",
        Op::Hold(_) => "hold",
        Op::EndBlock => "end block",
        Op::Type { .. } => "type",
        Op::Erase => "erase",
        Op::Move { .. } => "move",
        Op::Command { .. } => "do",
        Op::With(_) => "with",
        Op::OnFailure(_) => "else",
        Op::Wait(_) => "wait",
        Op::WaitUntil { .. } => "wait until",
        Op::Repeat { .. } => "repeat",
        Op::For { .. } => "for",
        Op::NextIteration(_) => "next turn",
        Op::AnyOf(_) => "any of",
        Op::Jump(_) => "jump",
        Op::JumpUnless(..) => "jump unless",
        Op::Set(..) => "set",
        Op::Call(..) => "call",
        Op::Log(_) => "log",
        Op::Hint { .. } => "hint",
        Op::Stop(_) => "stop",
        Op::Pause { .. } => "pause",
        Op::Listen(_) => "listen",
        Op::Layer { .. } => "layer",
    }
}

/// Number of names.
const NAMES: usize = 28;

/// An engine at a back end that does at once what it is asked, and fails every second deed.
struct Backend {
    engine: Engine,
    now: Time,
    count: usize,
}

impl Backend {
    fn with(text: &str) -> Backend {
        let mut desk = Backend { engine: Engine::new(rules(text), 1), now: Time::START, count: 0 };
        let clock = WallTime::from_civil(2031, 6, 21, 9, 0, 0);
        desk.happen(Event::Layout(Layout::us()));
        desk.happen(Event::WallClock(clock));
        desk
    }

    fn happen(&mut self, event: Event) {
        self.engine.handle_event(self.now, event);
        self.carry_out();
    }

    fn carry_out(&mut self) {
        while let Some(Effect { id: effect, kind: order, .. }) = self.engine.poll_effect() {
            if let EffectKind::Execute(_) | EffectKind::Input(_) = order {
                self.count += 1;
                let is_done = self.count.is_multiple_of(2) || matches!(order, EffectKind::Input(_));
                let result = if is_done { Ok(None) } else { Err(CommandError::failed("refused")) };
                self.engine.handle_event(self.now, Event::Outcome { effect, result });
            }
        }
    }

    /// Whether a run failed with a message that contains this.
    fn has_failed_with(&self, part: &str) -> bool {
        self.engine.decisions_after(0).any(|reason| match &reason.kind {
            DecisionKind::Failed { message, .. } => message.contains(part),
            _ => false,
        })
    }

    /// Fires a macro, lets a number of deadlines pass, and stops what runs on.
    fn play(&mut self, name: &str, given: Vec<Value>) {
        // It may have been paused, or refuse a value.
        let _ = self.engine.resume(self.now, None);
        let _ = self.engine.fire_named(self.now, name, given);
        self.carry_out();
        for _ in 0..20 {
            let end = self.now + Duration::from_secs(1000);
            let Some(now) = self.engine.handle_next_deadline(self.now, end) else { break };
            self.now = now;
            self.carry_out();
        }
        self.engine.stop_everything(self.now, lantern_engine::StopCause::StopCommand);
        self.carry_out();
    }
}

#[test]
fn every_operation_takes_every_extreme_value() {
    let mut text = String::from(
        "let kept = 1\nlet list = []\nlet text = \"\"\n\
         layer deep { when key f9 => log kept }\n\
         when key f8 named entry => log \"{text}{list}\"\n\
         when typed \"sct\" => type \"section\"\n\
         macro note(a, b) { log \"{a}{b}\" }\n",
    );
    for (number, step) in STEPS.iter().enumerate() {
        text.push_str(&format!("macro step-{number}(a, b) {{ {step}; log \"done\" }}\n"));
    }
    let seen: BTreeSet<&str> = rules(&text).ops().map(name_of).collect();
    assert_eq!(seen.len(), NAMES, "{seen:?}");
    let mut desk = Backend::with(&text);
    let all = values();
    for number in 0..STEPS.len() {
        let name = format!("step-{number}");
        for (at, a) in all.iter().enumerate() {
            let partner = [a, &all[(at * 7 + number) % all.len()], &all[(at + 1) % all.len()]];
            for b in partner {
                desk.play(&name, vec![a.clone(), b.clone()]);
            }
        }
    }
}

#[test]
fn every_operator_and_function_takes_every_extreme_value() {
    use Operator as Of;
    let operators = [
        Of::Add,
        Of::Subtract,
        Of::Multiply,
        Of::Divide,
        Of::Remainder,
        Of::Equal,
        Of::Unequal,
        Of::Less,
        Of::LessOrEqual,
        Of::Greater,
        Of::GreaterOrEqual,
        Of::And,
        Of::Or,
        Of::Contains,
        Of::Matches,
    ];
    let mut exprs: Vec<String> =
        operators.iter().map(|operator| format!("a {} b", operator.symbol())).collect();
    for (name, _, count) in Function::ALL {
        exprs.push(format!("{name}({})", ["a", "a, b"][count.end() - 1]));
    }
    exprs.extend(
        ["not a", "-a", "[a, b, a]", "a..b", "\"{a}{b}\"", "is-down((a))"].map(str::to_owned),
    );
    let macros: String = exprs
        .iter()
        .enumerate()
        .map(|(number, expr)| {
            format!("macro value-{number}(a, b) {{ let x = {expr}; log \"x\" }}\n")
        })
        .collect();
    let mut desk = Backend::with(&macros);
    let all = values();
    for number in 0..exprs.len() {
        let name = format!("value-{number}");
        for a in &all {
            for b in &all {
                desk.play(&name, vec![a.clone(), b.clone()]);
            }
        }
    }
}

#[test]
fn a_list_that_is_put_into_itself_again_and_again_ends_its_run() {
    let mut desk = Backend::with(
        "macro nest(a) { let x = a; repeat 200000 times { set x = [x] }; log \"done\" }\n",
    );
    desk.play("nest", vec![Value::Number(1.0)]);
    assert!(desk.has_failed_with("32 deep"));
}

#[test]
fn one_value_is_worked_out_from_a_bounded_number_of_bytes() {
    let same = ["a == a"; 40].join(" and ");
    let mut desk = Backend::with(&format!("macro look(a) {{ if {same} {{ log \"x\" }} }}\n"));
    desk.play("look", vec![Value::Text("x".repeat(1 << 20))]);
    assert!(desk.has_failed_with("work of more than"));
}
