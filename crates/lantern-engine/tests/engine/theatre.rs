//! A small theatre: rules, fingers and a clock; what the engine orders is written down in words.

use std::time::Duration;

use lantern_engine::{Decision, Engine};
use lantern_model::{
    App, CommandResult, Effect, EffectId, EffectKind, Event, HeldModifiers, Hint, HintContent,
    InputAction, InputBatch, Key, Layout, Listening, ModifierKey, ReplayKey, RuleSet, Time,
};
use lantern_script::{Source, check};

/// An engine with rules, and everything it ordered.
pub struct Theatre {
    pub engine: Engine,
    pub now: Time,
    fingers: Vec<Key>,
    script: Vec<String>,
    /// Outcomes come at once unless they are held back.
    pub hold_outcomes: bool,
    last: Option<EffectId>,
    /// What the ear was told to listen for.
    pub listening: Listening,
}

/// Rules that nothing is wrong with.
pub fn rules(text: &str) -> RuleSet {
    let checked = check(&Source::new("bench.lantern", text));
    checked.rules.unwrap_or_else(|| panic!("{:?}", checked.findings))
}

impl Theatre {
    /// A theatre for these rules, with nothing written down yet.
    pub fn new(rules: &str) -> Theatre {
        let rules = self::rules(rules);
        let mut theatre = Theatre {
            engine: Engine::new(rules, 1),
            now: Time::START,
            fingers: Vec::new(),
            script: Vec::new(),
            hold_outcomes: false,
            last: None,
            listening: Listening::default(),
        };
        theatre.happen(Event::Layout(Layout::us()));
        theatre.script.clear();
        theatre
    }

    /// Something happens now.
    pub fn happen(&mut self, event: Event) {
        self.engine.handle_event(self.now, event);
        self.collect();
    }

    /// The person presses a key that is withheld, with what they hold.
    pub fn press(&mut self, name: &str) {
        let key = key(name);
        let modifiers: HeldModifiers =
            self.fingers.iter().filter_map(|key| ModifierKey::of(*key)).collect();
        self.fingers.push(key);
        self.happen(Event::Pressed { key, modifiers });
    }

    /// The person takes a modifier down; it passes.
    pub fn hold(&mut self, name: &str) {
        self.fingers.push(key(name));
    }

    /// The person lets a key go.
    pub fn release(&mut self, name: &str) {
        let key = key(name);
        self.fingers.retain(|held| *held != key);
        self.happen(Event::Released { key });
    }

    /// The person presses a withheld key and lets it go after so many milliseconds.
    pub fn tap(&mut self, name: &str, millis: u64) {
        self.press(name);
        self.wait(millis);
        self.release(name);
    }

    /// The pointer goes along these places, one every ten milliseconds.
    pub fn trace(&mut self, spots: &[(f32, f32)]) {
        for spot in spots {
            self.happen(Event::PointerPath(vec![*spot]));
            self.wait(10);
        }
    }

    /// A key moves that the back end lets pass.
    pub fn finger(&mut self, name: &str, down: bool) {
        self.happen(Event::RawKey { key: key(name), down });
    }

    /// Other rules take the place of these.
    pub fn replace(&mut self, rules: RuleSet) {
        self.engine.replace_rules(self.now, rules);
        self.collect();
    }

    /// The outcome of the last effect that has one.
    pub fn answer(&mut self, result: CommandResult) {
        let effect = self.last.expect("something was asked");
        self.happen(Event::Outcome { effect, result });
    }

    /// A program comes to the front.
    pub fn focus(&mut self, name: &str, window: u64) {
        let app = App { window, names: vec![name.to_owned()], ..App::default() };
        self.happen(Event::Focus(app));
    }

    /// Advances the clock, deadline by deadline.
    pub fn wait(&mut self, millis: u64) {
        let end = self.now + Duration::from_millis(millis);
        while let Some(due) = self.engine.handle_next_deadline(self.now, end) {
            self.now = due;
            self.collect();
        }
        self.now = end;
    }

    /// Everything ordered since the last time, each with its time in milliseconds.
    pub fn script(&mut self) -> String {
        std::mem::take(&mut self.script).join("\n")
    }

    /// The reasons given, in words.
    pub fn reasons(&self) -> Vec<String> {
        self.engine.decisions_after(0).map(|Decision { kind, .. }| format!("{kind:?}")).collect()
    }

    fn collect(&mut self) {
        while let Some(effect) = self.engine.poll_effect() {
            if let EffectKind::Listen(listening) = effect.kind {
                self.listening = listening;
                continue;
            }
            let words = words(&effect);
            let time = self.now.as_micros() as f64 / 1000.0;
            self.script.push(format!("{time:>6} {words}"));
            let has_outcome = matches!(effect.kind, EffectKind::Input(_) | EffectKind::Execute(_));
            if has_outcome {
                self.last = Some(effect.id);
            }
            if has_outcome && !self.hold_outcomes {
                let event = Event::Outcome { effect: effect.id, result: Ok(None) };
                self.engine.handle_event(self.now, event);
            }
        }
    }
}

pub fn key(name: &str) -> Key {
    Key::named(name).unwrap_or_else(|| panic!("no key {name}"))
}

fn words(effect: &Effect) -> String {
    match &effect.kind {
        EffectKind::SetGrabs(armed) => {
            let names = armed.keys.iter().map(|armed| {
                let families = armed.modifiers.iter().map(|family| format!("{}+", family.word()));
                format!("{}{}", families.collect::<String>(), armed.key)
            });
            let fingers = if armed.raw_keys { " and see all fingers" } else { "" };
            let everything = if armed.whole_keyboard { " and withhold all" } else { "" };
            let traces = if armed.pointer_path.is_some() { " and trace" } else { "" };
            format!("arm {}{fingers}{everything}{traces}", names.collect::<Vec<_>>().join(" "))
        }
        EffectKind::Input(step) => step_words(step),
        EffectKind::ReplayKey(back) => give_back_words(back),
        EffectKind::Execute(command) => {
            let value =
                command.value.as_ref().map_or_else(String::new, |value| format!(" {value}"));
            format!("{} {:?}{value}", command.kind.keyword(), command.arguments)
        }
        EffectKind::Cancel(effect) => format!("abandon {}", effect.0),
        EffectKind::Hint(Hint { content: HintContent::Text(text), duration: span, .. }) => {
            format!("hint {text:?} for {span:?}")
        }
        EffectKind::Hint(Hint { content: HintContent::Drawing(name), .. }) => {
            format!("name {name}")
        }
        EffectKind::Hint(hint) => format!("hint {hint:?}"),
        EffectKind::Listen(listening) => format!("listen for {} phrases", listening.phrases.len()),
        EffectKind::Log(text) => format!("log {text:?}"),
    }
}

fn give_back_words(back: &ReplayKey) -> String {
    let mut words = format!("give back {}", back.key);
    if back.output != [back.key] {
        let names: Vec<&str> = back.output.iter().map(|key| key.name()).collect();
        words += &format!(" as {}", names.join("+"));
    }
    if !back.hidden_modifiers.is_empty() {
        words += &format!(" hiding {:?}", back.hidden_modifiers);
    }
    if back.is_tap {
        words += " as a tap";
    }
    if back.path.len() > 1 {
        words += &format!(" along {:?}", back.path);
    }
    words
}

/// The acts of a step in words, separated by commas.
pub fn act_words(step: &InputBatch) -> String {
    let acts = step.actions.iter().map(|act| match act {
        InputAction::Tap(keys) => {
            let names: Vec<&str> = keys.iter().map(|key| key.name()).collect();
            format!("tap {}", names.join("+"))
        }
        InputAction::Down(key) => format!("down {key}"),
        InputAction::Up(key) => format!("up {key}"),
        InputAction::Text(text) => format!("type {text:?}"),
        InputAction::MoveBy(x, y) => format!("by {x},{y}"),
        InputAction::MoveTo(x, y) => format!("to {x},{y}"),
    });
    acts.collect::<Vec<_>>().join(", ")
}

fn step_words(step: &InputBatch) -> String {
    let mut words = act_words(step);
    if !step.keep.is_empty() {
        words += &format!(" keeping {:?}", step.keep);
    }
    if !step.park.is_empty() {
        words += &format!(" parking {:?}", step.park);
    }
    words
}
