//! Triggers that are no keys: phrases, shapes, typed abbreviations, lines, messages, calls, windows
//! and the start. What each needs is looked up, never searched among all rules.

use std::collections::BTreeMap;
use std::sync::Arc;

use lantern_model::{
    App, ConnectionState, Key, Rect, RuleSet, Time, TriggerKind, Value, topic_fits,
};
use lantern_sense::{MatchedPart, Phrase, PhraseIndex, ShapeIndex, word_lists};

use crate::activation::{Activation, Press};
use crate::decision_log::DecisionKind;
use crate::engine::Engine;
use crate::key_recognizer::Won;
use crate::line_buffer::LineBuffer;
use crate::line_rules::{LineRules, SET_SIZE};
use crate::typed_text::TypedText;

/// What the rules listen for, by what brings it.
#[derive(Debug, Default)]
pub(crate) struct TriggerIndex {
    pub book: PhraseIndex,
    /// For each phrase of the book, its rule and trigger.
    pub phrases: Vec<Won>,
    /// Abbreviations by their last letter.
    typed: BTreeMap<char, Vec<(Vec<char>, Won)>>,
    typed_text: TypedText,
    shapes: BTreeMap<String, Vec<Won>>,
    /// The shapes of the set, by their numbers.
    pub shape_book: ShapeIndex,
    /// Rules by the device they listen to: its number.
    lines: BTreeMap<usize, LineRules>,
    messages: BTreeMap<usize, Vec<Won>>,
    calls: BTreeMap<usize, Vec<Won>>,
    windows: Vec<Won>,
    starts: Vec<Won>,
    line_buffers: BTreeMap<String, LineBuffer>,
}

impl TriggerIndex {
    /// Rules that want a shape.
    pub(crate) fn of_shape(&self, name: &str) -> &[Won] {
        self.shapes.get(name).map_or(&[], Vec::as_slice)
    }

    pub(crate) fn new(rules: &RuleSet) -> TriggerIndex {
        let mut ears = TriggerIndex::default();
        let mut phrases = Vec::new();
        let lists = word_lists(rules.words.iter().map(|(name, text)| (name, text)));
        for (number, rule) in rules.rules.iter().enumerate() {
            for (trigger, wanted) in rule.triggers.iter().enumerate() {
                let won = (number, trigger);
                match &wanted.kind {
                    TriggerKind::Voice(text) => {
                        if let Ok(phrase) = Phrase::parse(text, &lists) {
                            phrases.push(phrase);
                            ears.phrases.push(won);
                        }
                    }
                    TriggerKind::Typed(text) => {
                        let text: Vec<char> = text.chars().collect();
                        if let Some(last) = text.last() {
                            ears.typed.entry(*last).or_default().push((text, won));
                        }
                    }
                    TriggerKind::Gesture { shape, .. } => {
                        ears.shapes.entry(shape.clone()).or_default().push(won);
                    }
                    TriggerKind::Line(device, test) => {
                        ears.lines.entry(device.0).or_default().add(won, test.as_ref());
                    }
                    TriggerKind::Message(device, _) => {
                        ears.messages.entry(device.0).or_default().push(won);
                    }
                    TriggerKind::Call(device, _) => {
                        ears.calls.entry(device.0).or_default().push(won)
                    }
                    TriggerKind::Window { .. } => ears.windows.push(won),
                    TriggerKind::Started => ears.starts.push(won),
                    TriggerKind::Key { .. }
                    | TriggerKind::Keys { .. }
                    | TriggerKind::Every(_)
                    | TriggerKind::At(_) => {}
                }
            }
        }
        let longest = ears.typed.values().flatten().map(|(text, _)| text.len()).max();
        ears.typed_text = longest.map_or_else(TypedText::default, TypedText::for_length);
        ears.lines.values_mut().for_each(|rules| rules.join_patterns(SET_SIZE));
        ears.book = PhraseIndex::new(phrases);
        ears.shape_book = ShapeIndex::new(&rules.shapes);
        ears
    }

    pub(crate) fn needs_text_input(&self) -> bool {
        !self.typed.is_empty()
    }

    /// What was typed before no longer stands left of the cursor.
    pub(crate) fn forget_typed_text(&mut self) {
        self.typed_text.forget();
    }

    fn device(rules: &RuleSet, name: &str) -> Option<usize> {
        rules.devices.iter().position(|device| device.name == name)
    }
}

pub(crate) fn record(
    parts: impl IntoIterator<Item = (&'static str, Value)>,
) -> BTreeMap<String, Value> {
    parts.into_iter().map(|(name, value)| (name.to_owned(), value)).collect()
}

pub(crate) fn text(text: &str) -> Value {
    Value::Text(text.to_owned())
}

impl Engine {
    /// Rules in the order in which one of them may fire: the narrower place first.
    fn by_precedence(&self, mut found: Vec<(usize, Won, Activation)>) -> Vec<(Won, Activation)> {
        let place = self.context();
        found.sort_by_key(|(looseness, (rule, trigger), _)| {
            let rule_of = &self.rules.rules[*rule];
            let scope = &rule_of.filter;
            let narrowness = 255 - scope.narrowness();
            let depth = place.depth_of(scope);
            (narrowness, depth, *looseness, rule_of.condition.is_none(), *rule, *trigger)
        });
        found.into_iter().map(|(_, won, firing)| (won, firing)).collect()
    }

    pub(crate) fn applies(&self, (rule, _): Won) -> bool {
        self.context().allows(&self.rules.rules[rule])
    }

    /// Fires the first that may.
    pub(crate) fn fire_one(&mut self, now: Time, found: Vec<(usize, Won, Activation)>) -> bool {
        for ((rule, _), firing) in self.by_precedence(found) {
            if self.may_fire(now, rule) {
                self.fire(now, rule, firing);
                return true;
            }
        }
        false
    }

    /// Fires all that may.
    fn fire_all(&mut self, now: Time, found: Vec<(Won, Activation)>) {
        for ((rule, _), firing) in found {
            if self.may_fire(now, rule) {
                self.fire(now, rule, firing);
            }
        }
    }

    /// Handles a gesture that a scene reports.
    pub(crate) fn handle_gesture(
        &mut self,
        now: Time,
        shape: &str,
        key: Key,
        frame: Rect,
        score: f64,
    ) {
        let press = self.take_drawing(now, key);
        let holds = |engine: &Engine, (rule, trigger): Won| match &engine.rules.rules[rule].triggers
            [trigger]
            .kind
        {
            TriggerKind::Gesture { holding, .. } => {
                holding.last().and_then(|key| engine.layout.resolve(key)) == Some(key)
            }
            _ => false,
        };
        self.fire_gesture(now, shape, (frame, score), press, holds);
    }

    /// Fires the rule that wants a shape and holds what was held while it was drawn.
    pub(crate) fn fire_gesture(
        &mut self,
        now: Time,
        shape: &str,
        (frame, score): (Rect, f64),
        press: Option<Press>,
        holds: impl Fn(&Engine, Won) -> bool,
    ) {
        let number = |number: i32| Value::Number(number.into());
        let bounds = record([
            ("x", number(frame.x)),
            ("y", number(frame.y)),
            ("width", number(frame.width)),
            ("height", number(frame.height)),
        ]);
        let brought = Value::Record(record([
            ("shape", text(shape)),
            ("box", Value::Record(bounds)),
            ("score", Value::Number(score)),
        ]));
        let listed = self.triggers.of_shape(shape);
        let wanted = listed.iter().copied().filter(|won| holds(self, *won) && self.applies(*won));
        let found: Vec<_> = wanted
            .map(|won| (0, won, Activation { press, ..Activation::by(won.1, brought.clone()) }))
            .collect();
        if found.is_empty() {
            let why = format!("no rule here wants {shape}");
            self.record_decision(now, None, DecisionKind::NotRecognized(why));
        }
        self.fire_one(now, found);
    }

    /// The person typed a character, or moved away from what they typed. What goes into a password field
    /// is no abbreviation.
    pub(crate) fn handle_text_input(&mut self, now: Time, letter: Option<char>) {
        let Some(letter) = letter.filter(|_| !self.is_secret()) else {
            self.triggers.forget_typed_text();
            return;
        };
        let letters = &mut self.triggers.typed_text;
        if letter == '\u{8}' {
            letters.drop_last();
            return;
        }
        letters.push(letter);
        let letters = &self.triggers.typed_text;
        let listed = self.triggers.typed.get(&letter).map_or(&[] as &[_], Vec::as_slice);
        let found: Vec<_> = listed
            .iter()
            .filter(|(text, won)| letters.end_with_word(text) && self.applies(*won))
            .map(|(text, won)| {
                let erase = text.len();
                // The longest that fits is what was meant.
                (
                    usize::MAX - erase,
                    *won,
                    Activation {
                        typed_characters: erase,
                        ..Activation::by(won.1, Value::Truth(true))
                    },
                )
            })
            .collect();
        if self.fire_one(now, found) {
            self.triggers.forget_typed_text();
        }
    }

    /// Bytes came from a device.
    pub(crate) fn handle_bytes(&mut self, now: Time, device: &str, bytes: &[u8]) {
        let taken = self.triggers.line_buffers.entry(device.to_owned()).or_default().take(bytes);
        for line in taken.lines {
            self.handle_line(now, device, &line);
        }
        if taken.cut {
            self.decisions.add(now, None, DecisionKind::CutLine(device.to_owned()));
        }
    }

    /// A device came or went. What a lost one had begun to say is no line.
    pub(crate) fn handle_connection_state(
        &mut self,
        now: Time,
        device: String,
        state: ConnectionState,
    ) {
        if state != ConnectionState::Open {
            self.triggers.line_buffers.remove(&device);
        }
        self.decisions.add(now, None, DecisionKind::ConnectionState(device, state));
    }

    fn handle_line(&mut self, now: Time, device: &str, line: &str) {
        let rules = Arc::clone(&self.rules);
        let Some(number) = TriggerIndex::device(&rules, device) else { return };
        let Some(listed) = self.triggers.lines.get(&number) else { return };
        let fitting = listed.fitting(line).filter(|(won, _)| self.applies(*won));
        let found =
            fitting.map(|(won, fields)| (won, Activation::by(won.1, Value::Record(fields))));
        let found = found.collect();
        self.fire_all(now, found);
    }

    /// A message came from a broker.
    pub(crate) fn handle_message(&mut self, now: Time, device: &str, topic: &str, body: &str) {
        let rules = Arc::clone(&self.rules);
        let Some(number) = TriggerIndex::device(&rules, device) else { return };
        let listed = self.triggers.messages.get(&number).map_or(&[] as &[_], Vec::as_slice);
        let fits = |won: &&Won| match &rules.rules[won.0].triggers[won.1].kind {
            TriggerKind::Message(_, filter) => topic_fits(filter, topic) && self.applies(**won),
            _ => false,
        };
        let brought = Value::Record(record([("topic", text(topic)), ("text", text(body))]));
        let found =
            listed.iter().filter(fits).map(|won| (*won, Activation::by(won.1, brought.clone())));
        let found = found.collect();
        self.fire_all(now, found);
    }

    /// Handles an HTTP request to a listener.
    pub(crate) fn handle_call(
        &mut self,
        now: Time,
        device: &str,
        brought: [(&'static str, String); 3],
    ) {
        let rules = Arc::clone(&self.rules);
        let Some(number) = TriggerIndex::device(&rules, device) else { return };
        let listed = self.triggers.calls.get(&number).map_or(&[] as &[_], Vec::as_slice);
        let fits = |won: &&Won| match &rules.rules[won.0].triggers[won.1].kind {
            TriggerKind::Call(_, wanted) => *wanted == brought[1].1 && self.applies(**won),
            _ => false,
        };
        let parts = brought.each_ref().map(|(part, said)| (*part, text(said)));
        let brought = Value::Record(record(parts));
        let found =
            listed.iter().filter(fits).map(|won| (*won, Activation::by(won.1, brought.clone())));
        let found = found.collect();
        self.fire_all(now, found);
    }

    /// A window opened, or came to the front.
    pub(crate) fn handle_window(&mut self, now: Time, app: &App, was_opened: bool) {
        let rules = Arc::clone(&self.rules);
        let title = app.title.to_lowercase();
        let fits = |won: &&Won| match &rules.rules[won.0].triggers[won.1].kind {
            TriggerKind::Window { must_be_new: opened, apps, titles } => {
                *opened == was_opened
                    && (apps.is_empty() || apps.iter().any(|name| app.is_named(name)))
                    && (titles.is_empty() || titles.iter().any(|part| title.contains(part)))
                    && self.applies(**won)
            }
            _ => false,
        };
        let brought =
            Value::Record(record([("app", text(app.name())), ("title", text(&app.title))]));
        let found = self.triggers.windows.iter().filter(fits);
        let found = found.map(|won| (*won, Activation::by(won.1, brought.clone()))).collect();
        self.fire_all(now, found);
    }

    /// The program is at work.
    pub(crate) fn handle_started(&mut self, now: Time) {
        self.start_intervals(now);
        let starts = self.triggers.starts.clone();
        let found = starts.into_iter().filter(|won| self.applies(*won));
        let found = found.map(|won| (won, Activation::by(won.1, Value::Truth(true)))).collect();
        self.fire_all(now, found);
    }
}

pub(crate) fn value_of_part(part: MatchedPart) -> Value {
    match part {
        MatchedPart::Number(number) => Value::Number(number),
        MatchedPart::Share(share) => Value::Share(share),
        MatchedPart::Words(words) => Value::Text(words),
    }
}
