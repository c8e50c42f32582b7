//! Triggers that are no keys, phrases, shapes or times: typed abbreviations, lines, messages, calls,
//! windows and the start. Rules are found by an index, never searched.
//!
//! Owns the index of the set, the characters typed last and half lines of devices. It finds triggers; the
//! engine fires them.

use std::collections::BTreeMap;

use lantern_model::{App, RuleSet, TriggerKind, TriggerRef, Value, topic_fits};

use crate::activation_policy::Activation;
use crate::line_buffer::{CompletedLines, LineBuffer};
use crate::line_rules::{LineRules, SET_SIZE};
use crate::payload::{record, text};
use crate::scope::{Found, Scope};
use crate::typed_text::TypedText;

/// The character that removes the one before it.
const BACKSPACE: char = '\u{8}';

/// Triggers by their device, and what is kept of the input so far.
#[derive(Debug, Default)]
pub(crate) struct TriggerIndex {
    /// Abbreviations by their last character.
    typed: BTreeMap<char, Vec<(Vec<char>, TriggerRef)>>,
    typed_text: TypedText,
    /// By the number of the device.
    lines: BTreeMap<usize, LineRules>,
    messages: BTreeMap<usize, Vec<TriggerRef>>,
    calls: BTreeMap<usize, Vec<TriggerRef>>,
    windows: Vec<TriggerRef>,
    starts: Vec<TriggerRef>,
    line_buffers: BTreeMap<String, LineBuffer>,
}

impl TriggerIndex {
    pub(crate) fn new(rules: &RuleSet) -> TriggerIndex {
        let mut index = TriggerIndex::default();
        for (trigger, kind) in rules.triggers() {
            match kind {
                TriggerKind::Typed(text) => {
                    let text: Vec<char> = text.chars().collect();
                    if let Some(last) = text.last() {
                        index.typed.entry(*last).or_default().push((text, trigger));
                    }
                }
                TriggerKind::Line(device, test) => {
                    index.lines.entry(device.0).or_default().add(trigger, test.as_ref());
                }
                TriggerKind::Message(device, _) => {
                    index.messages.entry(device.0).or_default().push(trigger);
                }
                TriggerKind::Call(device, _) => {
                    index.calls.entry(device.0).or_default().push(trigger);
                }
                TriggerKind::Window { .. } => index.windows.push(trigger),
                TriggerKind::Started => index.starts.push(trigger),
                TriggerKind::Key { .. }
                | TriggerKind::Keys { .. }
                | TriggerKind::Voice(_)
                | TriggerKind::Gesture { .. }
                | TriggerKind::Every(_)
                | TriggerKind::At(_) => {}
            }
        }
        let longest = index.typed.values().flatten().map(|(text, _)| text.len()).max();
        index.typed_text = longest.map_or_else(TypedText::default, TypedText::for_length);
        index.lines.values_mut().for_each(|rules| rules.join_patterns(SET_SIZE));
        index
    }

    /// Whether any trigger is an abbreviation.
    pub(crate) fn needs_text_input(&self) -> bool {
        !self.typed.is_empty()
    }

    /// Forgets what was typed, as it no longer stands left of the cursor.
    pub(crate) fn forget_typed_text(&mut self) {
        self.typed_text.forget();
    }

    /// Takes a character that the person typed, or that they moved away from what they typed. Gives the
    /// abbreviations that it completes. A character in a password field completes none.
    pub(crate) fn text_input(&mut self, character: Option<char>, scope: Scope<'_>) -> Vec<Found> {
        let is_secret = scope.context.is_password_field_focused();
        let Some(character) = character.filter(|_| !is_secret) else {
            self.typed_text.forget();
            return Vec::new();
        };
        if character == BACKSPACE {
            self.typed_text.drop_last();
            return Vec::new();
        }
        self.typed_text.push(character);
        let listed = self.typed.get(&character).map_or(&[] as &[_], Vec::as_slice);
        let complete = listed.iter().filter(|(text, trigger)| {
            self.typed_text.end_with_word(text) && scope.applies(*trigger)
        });
        complete
            .map(|(text, trigger)| {
                let found = Found::new(*trigger, Value::Truth(true));
                let typed_characters = text.len();
                Found {
                    // The longest one that fits is meant.
                    looseness: usize::MAX - typed_characters,
                    activation: Activation { typed_characters, ..found.activation },
                    ..found
                }
            })
            .collect()
    }

    /// Takes bytes of a device; gives the lines that they complete.
    pub(crate) fn bytes(&mut self, device: &str, bytes: &[u8]) -> CompletedLines {
        self.line_buffers.entry(device.to_owned()).or_default().take(bytes)
    }

    /// Forgets the half line of a device that was lost.
    pub(crate) fn forget_half_line(&mut self, device: &str) {
        self.line_buffers.remove(device);
    }

    /// The triggers that a line of a device fires.
    pub(crate) fn line(&self, device: &str, line: &str, scope: Scope<'_>) -> Vec<Found> {
        let listed = scope.device(device).and_then(|device| self.lines.get(&device));
        let fitting = listed.into_iter().flat_map(|rules| rules.fitting(line));
        fitting
            .filter(|(trigger, _)| scope.applies(*trigger))
            .map(|(trigger, fields)| Found::new(trigger, Value::Record(fields)))
            .collect()
    }

    /// The triggers that a message of a broker fires.
    pub(crate) fn message(
        &self,
        device: &str,
        topic: &str,
        body: &str,
        scope: Scope<'_>,
    ) -> Vec<Found> {
        let payload = Value::Record(record([("topic", text(topic)), ("text", text(body))]));
        let fits = |kind: &TriggerKind| match kind {
            TriggerKind::Message(_, filter) => topic_fits(filter, topic),
            _ => false,
        };
        scope.find(scope.of_device(&self.messages, device), fits, &payload)
    }

    /// The triggers that an HTTP request to a listener fires.
    pub(crate) fn call(&self, device: &str, call: Call<'_>, scope: Scope<'_>) -> Vec<Found> {
        let payload = Value::Record(record([
            ("caller", text(call.caller)),
            ("path", text(call.path)),
            ("text", text(call.text)),
        ]));
        let fits = |kind: &TriggerKind| match kind {
            TriggerKind::Call(_, wanted) => wanted == call.path,
            _ => false,
        };
        scope.find(scope.of_device(&self.calls, device), fits, &payload)
    }

    /// The triggers that a window fires.
    pub(crate) fn window(&self, app: &App, event: WindowEvent, scope: Scope<'_>) -> Vec<Found> {
        let title = app.title.to_lowercase();
        let fits = |kind: &TriggerKind| match kind {
            TriggerKind::Window { must_be_new, apps, titles } => {
                *must_be_new == (event == WindowEvent::Opened)
                    && (apps.is_empty() || apps.iter().any(|name| app.is_named(name)))
                    && (titles.is_empty() || titles.iter().any(|part| title.contains(part)))
            }
            _ => false,
        };
        let payload =
            Value::Record(record([("app", text(app.name())), ("title", text(&app.title))]));
        scope.find(&self.windows, fits, &payload)
    }

    /// The triggers that the start of the program fires.
    pub(crate) fn started(&self, scope: Scope<'_>) -> Vec<Found> {
        scope.find(&self.starts, |_| true, &Value::Truth(true))
    }
}

/// An HTTP request to a listener.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Call<'a> {
    pub caller: &'a str,
    pub path: &'a str,
    pub text: &'a str,
}

/// What happened to a window.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum WindowEvent {
    Opened,
    Focused,
}
