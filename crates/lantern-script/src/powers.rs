//! What a set can do to the machine and to the person. Used files run only with consent to these.
//!
//! Each trigger, step, question about the world and device has its row in one of the functions here,
//! which name every case: one that is added to the language does not compile without a decision.

use std::collections::BTreeSet;

use lantern_model::code::{AssignTarget, Expr, Function, Op, WorldQuery};
use lantern_model::{
    Broker, CommandKind, DeviceId, DeviceKind, Global, KeyCombination, KeyKind, KeySpec, Rule,
    RuleSet, Secret, SourceLocation, TriggerKind, Value,
};

/// What sort of power it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum PowerKind {
    /// It presses keys, clicks and types.
    MakesInput,
    /// It sees the characters that are typed.
    ReadsTyping,
    /// It sees which keys and buttons are down.
    SeesKeys,
    /// It makes a key another one.
    Remaps,
    /// It sees where the pointer goes.
    SeesPointer,
    /// It sees the programs and titles of windows.
    SeesWindows,
    /// It brings windows to the front and closes them.
    MovesWindows,
    /// It presses what stands in the menus and windows of programs.
    PressesControls,
    /// It asks the person for something.
    AsksQuestions,
    /// It hears what is spoken.
    Listens,
    /// It sees what the clipboard holds.
    ReadsClipboard,
    /// It starts a program.
    StartsProgram,
    /// It ends a program that was started.
    EndsProgram,
    /// It gives a line to the shell.
    UsesShell,
    /// It opens an address or file, by whatever program is set for it.
    Opens,
    /// It plays a file.
    Plays,
    /// It speaks to another machine.
    Connects,
    /// It lets others call it.
    IsCalled,
    /// It reads a secret, to show it to a device.
    ReadsSecret,
    /// It uses a serial port.
    UsesPort,
    /// It uses a device that another file of the set describes, with what that one may show it.
    UsesDevice,
}

impl PowerKind {
    /// Every power.
    pub const ALL: [PowerKind; 21] = [
        PowerKind::MakesInput,
        PowerKind::ReadsTyping,
        PowerKind::SeesKeys,
        PowerKind::Remaps,
        PowerKind::SeesPointer,
        PowerKind::SeesWindows,
        PowerKind::MovesWindows,
        PowerKind::PressesControls,
        PowerKind::AsksQuestions,
        PowerKind::Listens,
        PowerKind::ReadsClipboard,
        PowerKind::StartsProgram,
        PowerKind::EndsProgram,
        PowerKind::UsesShell,
        PowerKind::Opens,
        PowerKind::Plays,
        PowerKind::Connects,
        PowerKind::IsCalled,
        PowerKind::ReadsSecret,
        PowerKind::UsesPort,
        PowerKind::UsesDevice,
    ];

    /// The name of the power in a policy.
    pub const fn name(self) -> &'static str {
        match self {
            PowerKind::MakesInput => "makes-input",
            PowerKind::ReadsTyping => "reads-typing",
            PowerKind::SeesKeys => "sees-keys",
            PowerKind::Remaps => "remaps",
            PowerKind::SeesPointer => "sees-pointer",
            PowerKind::SeesWindows => "sees-windows",
            PowerKind::MovesWindows => "moves-windows",
            PowerKind::PressesControls => "presses-controls",
            PowerKind::AsksQuestions => "asks-questions",
            PowerKind::Listens => "listens",
            PowerKind::ReadsClipboard => "reads-clipboard",
            PowerKind::StartsProgram => "starts-programs",
            PowerKind::EndsProgram => "ends-programs",
            PowerKind::UsesShell => "uses-shell",
            PowerKind::Opens => "opens-files",
            PowerKind::Plays => "plays-sounds",
            PowerKind::Connects => "connects",
            PowerKind::IsCalled => "is-called",
            PowerKind::ReadsSecret => "reads-secrets",
            PowerKind::UsesPort => "uses-ports",
            PowerKind::UsesDevice => "uses-devices",
        }
    }

    /// The power in words.
    pub const fn words(self) -> &'static str {
        match self {
            PowerKind::MakesInput => "presses keys, clicks and types in",
            PowerKind::ReadsTyping => "sees what is typed",
            PowerKind::SeesKeys => "sees which keys are down",
            PowerKind::Remaps => "remaps",
            PowerKind::SeesPointer => "sees where the pointer goes",
            PowerKind::SeesWindows => "sees which windows are in front and their titles",
            PowerKind::MovesWindows => "brings to the front or closes",
            PowerKind::PressesControls => "presses buttons and menus of programs",
            PowerKind::AsksQuestions => "asks you questions",
            PowerKind::Listens => "opens the microphone",
            PowerKind::ReadsClipboard => "reads the clipboard",
            PowerKind::StartsProgram => "starts",
            PowerKind::EndsProgram => "ends",
            PowerKind::UsesShell => "gives the shell",
            PowerKind::Opens => "opens, by whatever program is set for it,",
            PowerKind::Plays => "plays",
            PowerKind::Connects => "speaks to",
            PowerKind::IsCalled => "can be called on",
            PowerKind::ReadsSecret => "reads the secret in",
            PowerKind::UsesPort => "uses the port",
            PowerKind::UsesDevice => "uses the device",
        }
    }
}

/// Something a set can do.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Power {
    /// What sort.
    pub kind: PowerKind,
    /// With what: a program, line, address; empty where there is nothing to name.
    pub what: String,
    /// Where it was first found.
    pub place: SourceLocation,
}

/// Everything a set can do, each once for each of its files.
pub fn powers(rules: &RuleSet) -> Vec<Power> {
    let mut search = Search { rules, assigned: assigned(rules), found: Vec::new() };
    for rule in &rules.rules {
        search.add_rule(rule);
    }
    for remap in &rules.remaps {
        let what = format!("{} to {}", remap.from, remap.to);
        search.add(PowerKind::Remaps, what, remap.place);
    }
    search.add_routines();
    search.add_devices();
    let mut found = search.found;
    found.sort();
    found.dedup_by(|later, first| {
        later.kind == first.kind && later.what == first.what && later.place.file == first.place.file
    });
    found
}

/// What the files that use a file give it by `with`: each value's name with what is known of it
/// before it runs, as in a power.
pub fn given_values(rules: &RuleSet, file: usize) -> Vec<String> {
    let search = Search { rules, assigned: assigned(rules), found: Vec::new() };
    let is_its = |global: &&Global| global.is_given && usize::from(global.place.file) == file;
    let given = rules.globals.iter().filter(is_its);
    given.map(|global| format!("{} = {}", global.name, search.shown(&global.initial))).collect()
}

/// Top-level values that some step changes, so that what they hold is not known before.
fn assigned(rules: &RuleSet) -> BTreeSet<usize> {
    let target = |op: &Op| match op {
        Op::Set(AssignTarget::Global(index), _)
        | Op::Command { into: Some(AssignTarget::Global(index)), .. } => Some(*index),
        _ => None,
    };
    rules.ops().filter_map(target).collect()
}

struct Search<'r> {
    rules: &'r RuleSet,
    assigned: BTreeSet<usize>,
    found: Vec<Power>,
}

/// Input goes here where nothing says otherwise.
const ANY_PROGRAM: &str = "any program";

impl Search<'_> {
    fn add(&mut self, kind: PowerKind, what: impl Into<String>, place: SourceLocation) {
        self.found.push(Power { kind, what: what.into(), place });
    }

    fn add_rule(&mut self, rule: &Rule) {
        for trigger in &rule.triggers {
            let place = trigger.place;
            match &trigger.kind {
                TriggerKind::Key { combo, .. } => self.add_seen_key(combo, rule, place),
                TriggerKind::Keys { combos, .. } => {
                    for combo in combos {
                        self.add_seen_key(combo, rule, place);
                    }
                }
                TriggerKind::Typed(_) => self.add(PowerKind::ReadsTyping, "", place),
                TriggerKind::Voice(_) => self.add(PowerKind::Listens, "", place),
                TriggerKind::Gesture { .. } => self.add(PowerKind::SeesPointer, "", place),
                TriggerKind::Window { .. } => self.add(PowerKind::SeesWindows, "", place),
                TriggerKind::Line(device, _)
                | TriggerKind::Message(device, _)
                | TriggerKind::Call(device, _) => {
                    self.add_used_device(*device, place);
                }
                // Time passes for everybody.
                TriggerKind::Every(_) | TriggerKind::At(_) | TriggerKind::Started => {}
            }
        }
        if let Some(condition) = &rule.condition {
            self.add_asked(condition, rule.place);
        }
    }

    /// A key as a trigger: one of plain typing tells what is typed, one that passes what is pressed
    /// in a program. Any other is taken from programs, so it is pressed for the rule alone.
    fn add_seen_key(&mut self, combo: &KeyCombination, rule: &Rule, place: SourceLocation) {
        if is_of_typing(combo) {
            self.add(PowerKind::ReadsTyping, "", place);
        } else if rule.passes_key_through {
            self.add(PowerKind::SeesKeys, "", place);
        }
    }

    /// What an expression asks of the world.
    fn add_asked(&mut self, expr: &Expr, place: SourceLocation) {
        let mut kinds = BTreeSet::new();
        let all = std::cell::RefCell::new(&mut kinds);
        expr.reads(&|asked| {
            all.borrow_mut().extend(power_to_ask(asked));
            false
        });
        for kind in kinds {
            self.add(kind, "", place);
        }
    }

    fn add_routines(&mut self) {
        let mut apps_of: Vec<Option<&[String]>> = vec![None; self.rules.routines.len()];
        for rule in &self.rules.rules {
            apps_of[rule.body.0] = rule.filter.apps.as_deref();
        }
        for (routine, apps) in self.rules.routines.iter().zip(apps_of) {
            let outside = apps.map_or_else(|| ANY_PROGRAM.to_owned(), |apps| apps.join(", "));
            // The program that input goes to in each block that is open, if the block says so.
            let mut blocks: Vec<Option<String>> = Vec::new();
            for (op, place) in routine.ops.iter().zip(&routine.places) {
                for expr in op.exprs() {
                    self.add_asked(expr, *place);
                }
                let front = blocks.iter().rev().flatten().next().unwrap_or(&outside).clone();
                match op {
                    Op::With(app) => {
                        let app = self.shown(app);
                        self.add(PowerKind::MovesWindows, app.clone(), *place);
                        blocks.push(Some(app));
                    }
                    Op::Hold(_) => {
                        self.add(PowerKind::MakesInput, front, *place);
                        blocks.push(None);
                    }
                    Op::Repeat { .. } | Op::For { .. } => blocks.push(None),
                    Op::EndBlock => {
                        blocks.pop();
                    }
                    Op::Tap { .. }
                    | Op::Press(_)
                    | Op::Toggle(_)
                    | Op::Type { .. }
                    | Op::Erase
                    | Op::Move { .. } => self.add(PowerKind::MakesInput, front, *place),
                    Op::Command { kind: verb, arguments: words, .. } => {
                        self.add_verb(verb, words, front, *place)
                    }
                    Op::Listen(_) => self.add(PowerKind::Listens, "", *place),
                    // Steps that act within the set, show text or wait.
                    Op::Release(_)
                    | Op::OnFailure(_)
                    | Op::Wait(_)
                    | Op::WaitUntil { .. }
                    | Op::NextIteration(_)
                    | Op::AnyOf(_)
                    | Op::Jump(_)
                    | Op::JumpUnless(..)
                    | Op::Set(..)
                    | Op::Call(..)
                    | Op::Log(_)
                    | Op::Hint { .. }
                    | Op::Stop(_)
                    | Op::Pause { .. }
                    | Op::Layer { .. } => {}
                }
            }
        }
    }

    fn add_verb(
        &mut self,
        verb: &CommandKind,
        words: &[Expr],
        front: String,
        place: SourceLocation,
    ) {
        let first = || words.first().map_or_else(String::new, |word| self.shown(word));
        let all = || words.iter().map(|word| self.shown(word)).collect::<Vec<_>>();
        let (kind, what) = match verb {
            CommandKind::Launch => (PowerKind::StartsProgram, first()),
            CommandKind::Run => (PowerKind::StartsProgram, all().join(" ")),
            CommandKind::Shell => (PowerKind::UsesShell, first()),
            CommandKind::Open => (PowerKind::Opens, first()),
            CommandKind::End(name) => (PowerKind::EndsProgram, name.clone()),
            CommandKind::Focus | CommandKind::Close => (PowerKind::MovesWindows, first()),
            CommandKind::ChooseMenuEntry | CommandKind::Tally => {
                (PowerKind::PressesControls, String::new())
            }
            CommandKind::Paste => (PowerKind::MakesInput, front),
            CommandKind::ReadClipboard => (PowerKind::ReadsClipboard, String::new()),
            CommandKind::Play => (PowerKind::Plays, all().join(", ")),
            CommandKind::Ask | CommandKind::Confirm | CommandKind::Pick => {
                (PowerKind::AsksQuestions, String::new())
            }
            CommandKind::Send(device)
            | CommandKind::Get(device)
            | CommandKind::Put(device)
            | CommandKind::Post(device)
            | CommandKind::Publish { broker: device, .. } => {
                self.add_used_device(*device, place);
                return;
            }
            // Words shown or said and how loud it is; the rest is never written in a file.
            CommandKind::Notify | CommandKind::Say | CommandKind::Volume(_) => return,
            CommandKind::EndStarted(_)
            | CommandKind::FocusWindow(_)
            | CommandKind::QueryInputMethod => return,
        };
        self.add(kind, what, place);
    }

    /// Adds a device that the file itself does not define; its own are listed at their definition.
    fn add_used_device(&mut self, DeviceId(device): DeviceId, place: SourceLocation) {
        let described = &self.rules.devices[device];
        if described.place.file != place.file {
            self.add(PowerKind::UsesDevice, described.name.clone(), place);
        }
    }

    fn add_devices(&mut self) {
        for device in &self.rules.devices {
            let (kind, what) = match &device.kind {
                DeviceKind::Serial { port, .. } => (PowerKind::UsesPort, port),
                DeviceKind::Listener { address, .. } => (PowerKind::IsCalled, address),
                DeviceKind::Broker(Broker { address, .. }) | DeviceKind::Web { address, .. } => {
                    (PowerKind::Connects, address)
                }
            };
            self.add(kind, what, device.place);
            for secret in device.kind.secrets() {
                let what = match secret {
                    Secret::File(path) => path.clone(),
                    Secret::Environment(variable) => format!("${variable}"),
                };
                self.add(PowerKind::ReadsSecret, what, device.place);
            }
        }
    }

    /// A text as it is known before the run: with values that no step changes, and `…` for others.
    fn shown(&self, expr: &Expr) -> String {
        match expr {
            Expr::Value(Value::Text(text)) => text.clone(),
            Expr::Value(value) => value.to_string(),
            Expr::Text(parts) => parts.iter().map(|part| self.shown(part)).collect(),
            // As one word of a command line.
            Expr::Call(Function::ShellWord, values) => {
                let word: String = values.iter().map(|value| self.shown(value)).collect();
                let is_plain = |c: char| c.is_alphanumeric() || "_-./@:=+,…".contains(c);
                if word.chars().all(is_plain) { word } else { format!("'{word}'") }
            }
            Expr::Call(Function::PathSegment, values) => {
                values.iter().map(|value| self.shown(value)).collect()
            }
            Expr::Global(index) if !self.assigned.contains(index) => {
                self.shown(&self.rules.globals[*index].initial)
            }
            _ => "…".to_owned(),
        }
    }
}

/// The power that it takes to ask for that.
fn power_to_ask(asked: &WorldQuery) -> Option<PowerKind> {
    match asked {
        WorldQuery::PhysicalKeys => Some(PowerKind::SeesKeys),
        WorldQuery::PointerX | WorldQuery::PointerY => Some(PowerKind::SeesPointer),
        WorldQuery::WindowApp | WorldQuery::WindowTitle => Some(PowerKind::SeesWindows),
        // Only of the key that fired the rule.
        WorldQuery::Held => None,
        WorldQuery::Hour
        | WorldQuery::Minute
        | WorldQuery::Second
        | WorldQuery::Day
        | WorldQuery::Month
        | WorldQuery::Year
        | WorldQuery::Weekday
        | WorldQuery::TimeOfDay => None,
    }
}

/// Whether pressing it is part of writing text: a key that gives characters, with
/// nothing held that makes it a command.
fn is_of_typing(combo: &KeyCombination) -> bool {
    let commands = |key: &&KeySpec| {
        // The right alt key gives characters on many layouts.
        let name = key.to_string();
        ["ctrl", "super"].iter().any(|command| name.ends_with(command))
            || ["alt", "left-alt"].contains(&name.as_str())
    };
    let types = |key: &KeySpec| match key {
        KeySpec::Named(key) | KeySpec::Placed(key) => match key.kind() {
            KeyKind::Letter
            | KeyKind::Digit
            | KeyKind::Punctuation
            | KeyKind::Pad
            | KeyKind::National => true,
            KeyKind::Editing
            | KeyKind::Function
            | KeyKind::Navigation
            | KeyKind::Modifier
            | KeyKind::Lock
            | KeyKind::Media
            | KeyKind::Program
            | KeyKind::Mouse
            | KeyKind::Wheel
            | KeyKind::Pen => false,
        },
        KeySpec::Character(_) => true,
        KeySpec::Either(_) => false,
    };
    !combo.0.iter().any(|key| commands(&key)) && combo.0.iter().any(types)
}
