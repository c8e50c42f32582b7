//! Timelines in files: what happens, and below each line everything that the engine orders and decides
//! because of it. The snapshots are read by a person before they are accepted.
//!
//! A file has cases, each begun by `=== NAME`: rules, then `---`, then a line for each thing that
//! happens. `reload` takes the rules of the next `+++` part.

#![expect(clippy::disallowed_methods, reason = "a test may read its own cases")]

use std::fmt::Write as _;
use std::time::Duration;

use lantern_engine::{Engine, StopCause};
use lantern_model::{
    App, CommandError, ConnectionState, Effect, EffectId, EffectKind, Event, GrabSet,
    HeldModifiers, InputBatch, Key, KeyCombination, KeyGrab, KeySpec, Layout, Modifier,
    ModifierKey, Rect, Refusal, ReplayKey, RuleId, RunId, Time, Value, WallTime,
};

use crate::theatre::{act_words, key, rules};

#[test]
fn every_timeline_is_as_its_snapshot() {
    insta::glob!("timelines/*.txt", |path| {
        let text = std::fs::read_to_string(path).expect("the file is there");
        let cases = text.split("=== ").skip(1).map(played).collect::<Vec<_>>();
        insta::assert_snapshot!(cases.join("\n"));
    });
}

/// A case with all that came of it.
fn played(case: &str) -> String {
    let (head, happenings) = case.split_once("---\n").expect("`---` parts rules and timeline");
    let (name, sets) = head.split_once('\n').expect("the name is a line of its own");
    let mut sets = sets.split("+++\n");
    let mut stage = Stage::new(sets.next().unwrap_or_default());
    let mut out = format!("=== {name}\n");
    out.push_str(&stage.take());
    for line in happenings.lines().map(str::trim).filter(|line| !line.is_empty()) {
        writeln!(out, "> {line}").expect("a text takes all");
        if line == "reload" {
            let set = rules(sets.next().expect("there is another set"));
            stage.engine.replace_rules(stage.now, set);
            stage.collect();
        } else {
            stage.happen(line);
        }
        out.push_str(&stage.take());
    }
    stage.say_deadline();
    out.push_str(&stage.take());
    out
}

struct Stage {
    engine: Engine,
    now: Time,
    fingers: Vec<Key>,
    out: String,
    reason: u64,
    armed: Vec<KeyGrab>,
    refused: Vec<KeyGrab>,
    hold_outcomes: bool,
    awaited: Vec<EffectId>,
}

impl Stage {
    fn new(text: &str) -> Stage {
        let mut stage = Stage {
            engine: Engine::new(rules(text), 1),
            now: Time::START,
            fingers: Vec::new(),
            out: String::new(),
            reason: 0,
            armed: Vec::new(),
            refused: Vec::new(),
            hold_outcomes: false,
            awaited: Vec::new(),
        };
        stage.event(Event::Layout(Layout::us()));
        stage
    }

    /// What came since the last time; lines that repeat stand once, with their number.
    fn take(&mut self) -> String {
        let text = std::mem::take(&mut self.out);
        let mut lines: Vec<(&str, usize)> = Vec::new();
        for line in text.lines() {
            match lines.last_mut() {
                Some((last, count)) if *last == line => *count += 1,
                _ => lines.push((line, 1)),
            }
        }
        let shown = lines.into_iter().map(|(line, count)| match count {
            1 => format!("{line}\n"),
            count => format!("{line} ({count} times)\n"),
        });
        shown.collect()
    }

    fn say(&mut self, words: &str) {
        let millis = self.now.as_micros() as f64 / 1000.0;
        writeln!(self.out, "  {millis:>7} {words}").expect("a text takes all");
    }

    /// When the engine wants to be woken next.
    fn say_deadline(&mut self) {
        let due = self.engine.next_deadline().map(|due| due.since(self.now));
        self.say(&format!("woken next: {due:?}"));
    }

    fn event(&mut self, event: Event) {
        self.engine.handle_event(self.now, event);
        self.collect();
    }

    /// Writes down what was ordered and decided, and answers.
    fn collect(&mut self) {
        loop {
            let reasons: Vec<String> = self
                .engine
                .decisions_after(self.reason)
                .map(|reason| match reason.rule {
                    Some(RuleId(rule)) => format!("  rule {rule}: {:?}", reason.kind),
                    None => format!("  {:?}", reason.kind),
                })
                .collect();
            self.reason = self.engine.last_decision();
            reasons.iter().for_each(|reason| self.say(reason));
            let Some(effect) = self.engine.poll_effect() else { return };
            let words = words(&effect);
            self.say(&words);
            if let EffectKind::SetGrabs(armed) = &effect.kind {
                self.armed.clone_from(&armed.keys);
            }
            if matches!(effect.kind, EffectKind::Input(_) | EffectKind::Execute(_)) {
                if self.hold_outcomes {
                    self.awaited.push(effect.id);
                } else {
                    let event = Event::Outcome { effect: effect.id, result: Ok(None) };
                    self.engine.handle_event(self.now, event);
                }
            }
        }
    }

    fn modifiers(&self) -> HeldModifiers {
        self.fingers.iter().filter_map(|key| ModifierKey::of(*key)).collect()
    }

    fn wait(&mut self, millis: u64) {
        let end = self.now + Duration::from_millis(millis);
        while let Some(due) = self.engine.handle_next_deadline(self.now, end) {
            self.now = due;
            self.collect();
        }
        self.now = end;
    }

    fn press(&mut self, name: &str) {
        let (key, modifiers) = (key(name), self.modifiers());
        self.fingers.push(key);
        self.event(Event::Pressed { key, modifiers });
    }

    fn release(&mut self, name: &str) {
        let key = key(name);
        self.fingers.retain(|held| *held != key);
        self.event(Event::Released { key });
    }

    fn happen(&mut self, line: &str) {
        let (word, rest) = line.split_once(' ').unwrap_or((line, ""));
        let words: Vec<&str> = rest.split_whitespace().collect();
        let number = |at: usize| -> u64 { words[at].parse().expect("it is a number") };
        match word {
            "press" => self.press(rest),
            "release" => self.release(rest),
            "tap" => {
                self.press(words[0]);
                self.wait(number(1));
                self.release(words[0]);
            }
            "hold" => self.fingers.push(key(rest)),
            "drop" => self.fingers.retain(|held| *held != key(rest)),
            "finger" => {
                let down = words[1] == "down";
                self.event(Event::RawKey { key: key(words[0]), down });
            }
            "wait" => self.wait(number(0)),
            "focus" => {
                let title = words.get(2).unwrap_or(&"").to_string();
                let process = words.get(3).map(|id| id.parse().expect("it is a number"));
                let (names, window) = (vec![words[0].to_owned()], number(1));
                let frame = Some(Rect { x: 10, y: 20, width: 100, height: 50 });
                self.event(Event::Focus(App { window, names, title, process, bounds: frame }));
            }
            "opened" => {
                let names = vec![words[0].to_owned()];
                let title = words.get(1).unwrap_or(&"").to_string();
                self.event(Event::WindowOpened(App { window: 99, names, title, ..App::default() }));
            }
            "layout" => self.event(Event::Layout(Layout::named(rest).expect("it is known"))),
            "lock" => self.event(Event::Locked(true)),
            "unlock" => self.event(Event::Locked(false)),
            "secret" => self.event(Event::PasswordField(rest.parse().ok())),
            "method" => self.event(Event::InputMethod(rest == "on")),
            "board" => self.event(Event::ActiveDevice(rest.to_owned())),
            "letters" => {
                for letter in rest.replace("BACK", "\u{8}").chars() {
                    self.event(Event::TextInput(Some(letter)));
                }
            }
            "moved-away" => self.event(Event::TextInput(None)),
            "bytes" => {
                let (device, bytes) = rest.split_once(' ').expect("a device and bytes");
                let bytes = bytes.replace("\\n", "\n").replace("\\r", "\r").into_bytes();
                self.event(Event::Bytes { device: device.to_owned(), bytes });
            }
            "long-line" => {
                let bytes = vec![b'x'; number(1) as usize];
                self.event(Event::Bytes { device: words[0].to_owned(), bytes });
            }
            "message" => {
                let (topic, text) = (words[1].to_owned(), words[2..].join(" "));
                self.event(Event::Message { device: words[0].to_owned(), topic, text });
            }
            "call" => {
                let (device, path) = (words[0].to_owned(), words[1].to_owned());
                let (caller, text) = ("ilva".to_owned(), words[2..].join(" "));
                self.event(Event::Call { call: 0, device, caller, path, text });
            }
            "link" => {
                let state = match words[1] {
                    "open" => ConnectionState::Open,
                    why => ConnectionState::Down(why.to_owned()),
                };
                self.event(Event::ConnectionState { device: words[0].to_owned(), state });
            }
            "clock" => {
                let n: Vec<i32> = words.iter().map(|word| word.parse().expect("numbers")).collect();
                let part = |at: usize| n[at].unsigned_abs();
                let wall = WallTime::from_civil(2031, 6, part(0), part(1), part(2), part(3));
                let offset = n.get(4).map_or(0, |hours| hours * 3600);
                self.event(Event::WallClock(WallTime { offset, ..wall }));
            }
            "started" => self.event(Event::Started),
            "heard" => {
                let (words, began) = (rest.to_owned(), Duration::from_millis(500));
                self.event(Event::Heard { words, score: 0.9, began });
            }
            "misheard" => {
                let (words, why) = (rest.to_owned(), "too unlike".to_owned());
                self.event(Event::Misheard { words, score: 0.4, why });
            }
            "trace" => {
                for spot in words {
                    let (x, y) = spot.split_once(',').expect("x and y");
                    let place = |text: &str| text.parse().expect("it is a number");
                    self.event(Event::PointerPath(vec![(place(x), place(y))]));
                    self.wait(10);
                }
            }
            "drawn" => {
                let frame = Rect { x: 1, y: 2, width: 3, height: 4 };
                let (shape, key) = (words[0].to_owned(), key(words[1]));
                self.event(Event::Gesture { shape, key, bounds: frame, score: 0.8 });
            }
            "pointer" => self.event(Event::Pointer(number(0) as i32, number(1) as i32)),
            "screens" => {
                let wide = |x: i32, width: i32| Rect { x, y: 0, width, height: 100 };
                self.event(Event::Screens(vec![wide(0, 200), wide(200, 300)]));
            }
            "refuse" => {
                let key = self.armed[number(0) as usize];
                let lacks = words.get(1) == Some(&"lacking");
                let why = if lacks { Refusal::NotOnKeyboard } else { Refusal::HeldByOther };
                self.refused.push(key);
                self.event(Event::GrabsRefused(vec![(key, why)]));
            }
            "free" => {
                let free = std::mem::take(&mut self.refused);
                self.event(Event::GrabsFreed(free));
            }
            "outcomes" => self.hold_outcomes = rest == "held",
            "answer" => {
                if self.awaited.is_empty() {
                    return self.say("nothing is awaited");
                }
                let effect = self.awaited.remove(0);
                let result = match words.as_slice() {
                    ["fails", why @ ..] => Err(CommandError::failed(why.join(" "))),
                    [] => Ok(None),
                    text => Ok(Some(Value::Text(text.join(" ")))),
                };
                self.event(Event::Outcome { effect, result });
            }
            other => self.command(other, &words),
        }
    }

    /// What a person asks of the running set.
    fn command(&mut self, word: &str, words: &[&str]) {
        let now = self.now;
        let name = words.first().copied();
        let told = match word {
            "pause" => self.engine.pause(now, name).map_err(|error| error.to_string()),
            "resume" => self.engine.resume(now, name).map_err(|error| error.to_string()),
            "stop" => self
                .engine
                .stop_named(now, words[0])
                .map(|count| self.say(&format!("{count} stopped")))
                .map_err(|error| error.to_string()),
            "stop-run" => {
                let run = RunId(words[0].parse().expect("it is a number"));
                let lived = self.engine.stop_run(now, run);
                self.say(&format!("it lived: {lived}"));
                Ok(())
            }
            "stop-everything" => {
                let counts = self.engine.stop_everything(now, StopCause::StopCommand);
                self.say(&format!("{counts:?} runs and keys"));
                Ok(())
            }
            "fire" => {
                let values = words[1..].iter().map(|text| Value::Text((*text).to_owned()));
                let fired = self.engine.fire_named(now, words[0], values.collect());
                fired.map_err(|error| error.to_string())
            }
            "status" => {
                self.say_deadline();
                for status in self.engine.run_statuses() {
                    self.say(&format!("{status:?}"));
                }
                let held: Vec<String> =
                    self.engine.held_keys().map(|(key, by)| format!("{key} {by:?}")).collect();
                let layers: Vec<String> = self.engine.layers_on().map(str::to_owned).collect();
                let (paused, all) = self.engine.paused();
                let paused: Vec<String> = paused.map(str::to_owned).collect();
                self.say(&format!("held {held:?} layers {layers:?} paused {paused:?} {all}"));
                let started: Vec<String> = self
                    .engine
                    .started_programs()
                    .map(|(name, id)| format!("{name} {id:?}"))
                    .collect();
                let sayable = format!("{:?}", self.engine.active_phrases());
                self.say(&format!("started {started:?} sayable {sayable}"));
                Ok(())
            }
            "nearest" => {
                let combo = combo(words[0]);
                let near = self.engine.nearest(now, &combo);
                let seen = self.engine.last_seen(&combo);
                self.say(&format!("{near:?} seen {seen:?}"));
                Ok(())
            }
            other => panic!("nothing is called {other}"),
        };
        if let Err(error) = told {
            self.say(&format!("error: {error}"));
        }
        self.collect();
    }
}

fn combo(names: &str) -> KeyCombination {
    let key = |name: &str| match Modifier::from_word(name) {
        Some(family) => KeySpec::Either(family),
        None => KeySpec::Named(key(name)),
    };
    KeyCombination(names.split('+').map(key).collect())
}

/// Everything that an effect says.
fn words(effect: &Effect) -> String {
    match &effect.kind {
        EffectKind::SetGrabs(armed) => armed_words(armed),
        EffectKind::Input(step) => format!("input {}", step_words(step)),
        EffectKind::ReplayKey(back) => give_back_words(back),
        EffectKind::Execute(command) => {
            let (value, limit) = (&command.value, &command.timeout);
            format!("do {:?} {:?} {value:?} {limit:?}", command.kind, command.arguments)
        }
        EffectKind::Listen(listening) => {
            let phrase = |one: &lantern_model::ActivePhrase| {
                format!("{:?} {}", one.text, one.without_attention_word)
            };
            let phrases: Vec<String> = listening.phrases.iter().map(phrase).collect();
            format!("listen for {}", phrases.join(", "))
        }
        other => format!("{other:?}"),
    }
}

fn armed_words(armed: &GrabSet) -> String {
    let mut words = "arm".to_owned();
    for one in &armed.keys {
        let families: String =
            one.modifiers.iter().map(|family| format!("{}+", family.word())).collect();
        let flags = [
            (one.any_extra_modifiers, "under more"),
            (one.side_specific, "sides"),
            (one.report_release, "followed"),
            (one.synchronous, "waits"),
        ];
        let flags: Vec<&str> = flags.iter().filter(|(on, _)| *on).map(|(_, flag)| *flag).collect();
        let flags = if flags.is_empty() { String::new() } else { format!("({})", flags.join(" ")) };
        write!(words, " {families}{}{flags}", one.key).expect("a text takes all");
    }
    for (on, what) in [
        (armed.raw_keys, "fingers"),
        (armed.whole_keyboard, "everything"),
        (armed.pointer_path == Some(true), "traces with a trail"),
        (armed.pointer_path == Some(false), "traces"),
        (armed.pointer_position, "pointer"),
        (armed.source_devices, "boards"),
        (armed.text_input, "letters"),
    ] {
        if on {
            write!(words, "; {what}").expect("a text takes all");
        }
    }
    words
}

fn names(keys: &[Key]) -> String {
    keys.iter().map(|key| key.name()).collect::<Vec<_>>().join("+")
}

fn step_words(step: &InputBatch) -> String {
    let mut words = act_words(step);
    if step.suspend_modifiers {
        words += "; lifting";
    }
    for (keys, what) in [(&step.keep, "keeping"), (&step.park, "parking")] {
        if !keys.is_empty() {
            words += &format!("; {what} {}", names(keys));
        }
    }
    words
}

fn give_back_words(back: &ReplayKey) -> String {
    let mut words = format!("give back {}", back.key);
    if back.output != [back.key] {
        words += &format!(" as {}", names(&back.output));
    }
    if !back.modifiers.is_empty() {
        words += &format!(" under {:?}", back.modifiers);
    }
    if !back.hidden_modifiers.is_empty() {
        words += &format!(" hiding {:?}", back.hidden_modifiers);
    }
    if back.is_tap {
        words += " as a tap";
    }
    if !back.path.is_empty() {
        words += &format!(" along {:?}", back.path);
    }
    words
}
