//! A checked set of rules, ready to run.

use std::collections::BTreeSet;
use std::ops::Index;
use std::time::Duration;

use crate::code::{Expr, KeyCombinationExpr, Op, WorldQuery};
use crate::{
    CommandKind, ContextFilter, Device, DeviceId, Key, KeyCombination, KeySpec, Modifier, Remap,
    Secret, Shape, Trigger, TriggerKind,
};

/// Where something stands in a file, counted from 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
pub struct SourceLocation {
    /// Which file of the set, counted from 0.
    pub file: u16,
    /// The line.
    pub line: u32,
    /// The column, in characters.
    pub column: u32,
}

/// The number of a rule in its set.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct RuleId(pub usize);

/// One trigger of a rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct TriggerRef {
    /// The rule.
    pub rule: RuleId,
    /// Its trigger, counted from 0.
    pub trigger: usize,
}

/// A set of rules that may run.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct RuleSet {
    /// The files' names as shown in messages, the first one first.
    pub files: Vec<String>,
    /// Choices that hold for the whole set.
    pub settings: Settings,
    /// Top-level values.
    pub globals: Vec<Global>,
    /// The rules, in the order of the file.
    pub rules: Vec<Rule>,
    /// Bodies of rules and macros.
    pub routines: Vec<Routine>,
    /// Keys that stand for others.
    pub remaps: Vec<Remap>,
    /// Names of layers.
    pub layers: Vec<String>,
    /// What rules listen and speak to.
    pub devices: Vec<Device>,
    /// Shapes that can be drawn.
    pub shapes: Vec<Shape>,
    /// Lists of spoken words by name, in the notation of phrases.
    pub words: Vec<(String, String)>,
}

impl Index<RuleId> for RuleSet {
    type Output = Rule;

    fn index(&self, id: RuleId) -> &Rule {
        &self.rules[id.0]
    }
}

impl Index<TriggerRef> for RuleSet {
    type Output = TriggerKind;

    fn index(&self, at: TriggerRef) -> &TriggerKind {
        &self[at.rule].triggers[at.trigger].kind
    }
}

impl RuleSet {
    /// The rule with that number, if the set has as many.
    pub fn get(&self, id: RuleId) -> Option<&Rule> {
        self.rules.get(id.0)
    }

    /// Every rule with its number, in the order of the file.
    pub fn numbered_rules(&self) -> impl Iterator<Item = (RuleId, &Rule)> {
        self.rules.iter().enumerate().map(|(number, rule)| (RuleId(number), rule))
    }

    /// Every trigger of every rule, in the order of the file.
    pub fn triggers(&self) -> impl Iterator<Item = (TriggerRef, &TriggerKind)> {
        self.numbered_rules().flat_map(|(rule, definition)| {
            let triggers = definition.triggers.iter().enumerate();
            triggers.map(move |(trigger, of)| (TriggerRef { rule, trigger }, &of.kind))
        })
    }

    /// The rule with that name.
    pub fn rule_named(&self, name: &str) -> Option<RuleId> {
        self.rules.iter().position(|rule| rule.name.as_deref() == Some(name)).map(RuleId)
    }

    /// The routine with that number.
    pub fn routine(&self, id: RoutineId) -> &Routine {
        &self.routines[id.0]
    }

    /// Whether any condition or step asks for that.
    pub fn reads(&self, wanted: &dyn Fn(&WorldQuery) -> bool) -> bool {
        let asks = |expr: &Expr| expr.reads(wanted);
        self.rules.iter().any(|rule| rule.condition.as_ref().is_some_and(asks))
            || self.ops().any(|op| op.exprs().into_iter().any(asks))
    }

    /// The topics of a broker that rules want to hear of, as filters, each once.
    pub fn topics_of(&self, broker: DeviceId) -> Vec<String> {
        let triggers = self.rules.iter().flat_map(|rule| &rule.triggers);
        let topics: BTreeSet<&String> = triggers
            .filter_map(|trigger| match &trigger.kind {
                TriggerKind::Message(device, topic) if *device == broker => Some(topic),
                _ => None,
            })
            .collect();
        topics.into_iter().cloned().collect()
    }

    /// Whether it matters whether a password field has the keyboard: rules write text, or wait for text
    /// that the person types.
    pub fn needs_password_field(&self) -> bool {
        let mut triggers = self.rules.iter().flat_map(|rule| &rule.triggers);
        self.writes_text() || triggers.any(|trigger| matches!(trigger.kind, TriggerKind::Typed(_)))
    }

    /// The variables of the environment that hold secrets of devices.
    pub fn secret_variables(&self) -> BTreeSet<String> {
        let secrets = self.devices.iter().flat_map(|device| device.kind.secrets());
        let variables = secrets.filter_map(|secret| match secret {
            Secret::Environment(name) => Some(name.clone()),
            Secret::File(_) => None,
        });
        variables.collect()
    }

    /// Whether anything depends on what the wall clock shows.
    pub fn reads_clock(&self) -> bool {
        let at = |trigger: &Trigger| matches!(trigger.kind, TriggerKind::At(_));
        self.rules.iter().any(|rule| rule.triggers.iter().any(at)) || self.reads(&|a| a.is_time())
    }

    /// How many rules there are that something fires.
    pub fn count(&self) -> usize {
        self.rules.iter().filter(|rule| !rule.triggers.is_empty()).count()
    }

    /// Macros: routines that are no rule's body and can be called by name.
    pub fn macros(&self) -> impl Iterator<Item = RoutineId> {
        let named = |id: &RoutineId| !self.routine(*id).name.is_empty();
        (0..self.routines.len()).map(RoutineId).filter(named)
    }

    /// Whether anything types or pastes text.
    pub fn writes_text(&self) -> bool {
        let writes = |op: &Op| match op {
            Op::Type { .. } => true,
            Op::Command { kind: verb, .. } => *verb == CommandKind::Paste,
            _ => false,
        };
        self.ops().any(writes)
    }

    /// A routine and all that it calls, each once.
    fn routines_from(&self, body: RoutineId) -> Vec<&Routine> {
        let (mut open, mut seen) = (vec![body], BTreeSet::new());
        let mut routines = Vec::new();
        while let Some(id) = open.pop() {
            if seen.insert(id) {
                let routine = self.routine(id);
                routines.push(routine);
                open.extend(routine.ops.iter().filter_map(|op| match op {
                    Op::Call(called, _) => Some(*called),
                    _ => None,
                }));
            }
        }
        routines
    }

    /// Whether a routine has such an operation, or one that it calls.
    pub fn performs(&self, body: RoutineId, wanted: &dyn Fn(&Op) -> bool) -> bool {
        self.routines_from(body).iter().any(|routine| routine.ops.iter().any(wanted))
    }

    /// Every operation of every routine.
    pub fn ops(&self) -> impl Iterator<Item = &Op> {
        self.routines.iter().flat_map(|routine| &routine.ops)
    }

    /// The combinations that a body sends, those of the macros it calls among them, each once. Those that
    /// hold a value are left out.
    pub fn sent_combinations(&self, body: RoutineId) -> Vec<KeyCombination> {
        let mut sent: Vec<KeyCombination> = Vec::new();
        for op in self.routines_from(body).into_iter().flat_map(|routine| &routine.ops) {
            let combos = match op {
                Op::Tap { combos, .. } => combos.as_slice(),
                Op::Press(combo) | Op::Toggle(combo) | Op::Hold(combo) => {
                    std::slice::from_ref(combo)
                }
                _ => continue,
            };
            for combo in combos.iter().filter_map(KeyCombinationExpr::fixed) {
                if !sent.contains(&combo) {
                    sent.push(combo);
                }
            }
        }
        sent
    }

    /// A place as it is shown: file and line.
    pub fn show_place(&self, place: SourceLocation) -> String {
        let file = self.files.get(usize::from(place.file)).map_or("", String::as_str);
        format!("{file}:{}", place.line)
    }
}

/// Choices that hold for the whole set.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settings {
    /// The combination that stops everything and releases every key.
    pub panic: KeyCombination,
    /// Words that must be spoken before a phrase; none if empty.
    pub attention: String,
    /// How long a phrase may follow the attention word said alone, or the phrase before.
    pub attention_timeout: Duration,
    /// The pause that ends an utterance.
    pub end_of_speech_pause: Duration,
    /// A part of the microphone's name; empty for the one in use.
    pub microphone: String,
    /// The command line of a program that hears instead of us; empty for none.
    pub external_recognizer: String,
    /// How long the first of several plain keys waits for the others.
    pub chord_window: Duration,
    /// How soon a tapped key must be up again.
    pub tap_timeout: Duration,
    /// How soon the second press of a key pressed twice must come.
    pub double_press_timeout: Duration,
    /// Whether a drawing leaves a trail on the screen.
    pub draws_trail: bool,
    /// Whether `type` may bring long text, and characters that the layout lacks, by the clipboard.
    pub may_paste: bool,
    /// Whether a rule that fails shows a notice of the desktop.
    pub shows_notices: bool,
}

impl Default for Settings {
    fn default() -> Self {
        let escape = Key::named("escape").expect("escape stands in the key table");
        Settings {
            panic: KeyCombination(vec![
                KeySpec::Either(Modifier::Ctrl),
                KeySpec::Either(Modifier::Alt),
                KeySpec::Either(Modifier::Shift),
                KeySpec::Named(escape),
            ]),
            attention: String::new(),
            attention_timeout: Duration::from_secs(8),
            end_of_speech_pause: Duration::from_millis(500),
            microphone: String::new(),
            external_recognizer: String::new(),
            chord_window: Duration::from_millis(60),
            tap_timeout: Duration::from_millis(250),
            double_press_timeout: Duration::from_millis(300),
            draws_trail: true,
            may_paste: false,
            shows_notices: true,
        }
    }
}

/// A top-level value.
#[derive(Debug, Clone, PartialEq)]
pub struct Global {
    /// Its name.
    pub name: String,
    /// What it starts as; may use globals above it.
    pub initial: Expr,
    /// Two values with the same fingerprint have the same text.
    pub fingerprint: u64,
    /// Where its `let` stands.
    pub place: SourceLocation,
    /// Whether the file that uses this one gives the value, by `with`.
    pub is_given: bool,
}

/// The number of a routine in its set.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
pub struct RoutineId(pub usize);

/// The body of a rule or a macro.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Routine {
    /// The macro's name; empty for a rule's body.
    pub name: String,
    /// What a caller gives; they are the first slots.
    pub parameters: Vec<Parameter>,
    /// How many slots a call needs.
    pub slots: usize,
    /// What it does.
    pub ops: Vec<Op>,
    /// Where each operation stands in the file.
    pub places: Vec<SourceLocation>,
    /// Two macros with the same fingerprint have the same text, and so have the macros they call.
    pub fingerprint: u64,
}

/// What a caller gives a macro.
#[derive(Debug, Clone, PartialEq)]
pub struct Parameter {
    /// Its name.
    pub name: String,
    /// What it is when the caller gives nothing.
    pub default: Option<Expr>,
}

/// What happens to an activation while the rule runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum ReentryPolicy {
    /// One activation waits, more are dropped.
    #[default]
    Queue,
    /// The activation ends the run.
    Toggle,
    /// The activation ends the run and starts another.
    Restart,
    /// Both run.
    Parallel,
    /// The activation is dropped.
    Ignore,
}

/// A rule that may fire.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Rule {
    /// What to call it in lists: its description, name or head.
    pub label: String,
    /// Its steps as they are written, in one line, the end left out if they are long.
    pub steps_text: String,
    /// Its `named` name.
    pub name: Option<String>,
    /// Where its `when` stands.
    pub place: SourceLocation,
    /// What fires it.
    pub triggers: Vec<Trigger>,
    /// Whether slot 0 of the body holds what its trigger brings.
    pub has_payload: bool,
    /// Where it applies.
    pub filter: ContextFilter,
    /// What must hold when its trigger comes.
    pub condition: Option<Expr>,
    /// The same as it is written.
    pub condition_text: String,
    /// Minimum time between two activations.
    pub throttle: Option<Duration>,
    /// The rule fires when its triggers have been quiet for this time.
    pub debounce: Option<Duration>,
    /// Whether a held key fires again.
    pub repeats_while_held: bool,
    /// Whether the program in front receives the key too.
    pub passes_key_through: bool,
    /// Whether the run ends when the key is released.
    pub ends_on_release: bool,
    /// What happens to an activation while the rule runs.
    pub reentry: ReentryPolicy,
    /// Whether it also fires while the screen is locked.
    pub allowed_when_locked: bool,
    /// Whether its input is exempt from the rate limit.
    pub without_rate_limit: bool,
    /// Whether its phrases are recognised without the attention word.
    pub without_attention_word: bool,
    /// Its body.
    pub body: RoutineId,
    /// Two rules with the same fingerprint have the same text, and so have the macros they call.
    pub fingerprint: u64,
}
