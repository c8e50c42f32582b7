//! Triggers, spread over their sets of keys, and what each brings.

use std::collections::BTreeMap;
use std::time::Duration;

use lantern_model::{
    DeviceId, DeviceKind, KeyCombination, KeySpec, LineTest, PressKind, TriggerKind,
};
use lantern_speech::{Phrase, PhraseError, Slot};

use super::Checker;
use super::kinds::ValueKind;
use super::names::ItemKind;
use crate::codes::Code;
use crate::tree::{self, KeyPart, LineWord, Name, Quoted, TriggerSyntaxKind};
use crate::{Finding, Span};

/// From one key of a sequence to the next when nothing is said.
const WITHIN: Duration = Duration::from_secs(1);

/// Most keys of a sequence.
const LONGEST_SEQUENCE: usize = 32;
/// Most sequences that the sets of one trigger stand for.
const MOST_SEQUENCES: usize = 10_000;
/// Most characters of an abbreviation.
const LONGEST_TYPED: usize = 256;

/// What a record has: its parts by name.
pub(super) type Record = BTreeMap<String, ValueKind>;

impl Checker<'_> {
    /// The causes that a trigger stands for, and the kind of what it brings.
    pub(super) fn lower_trigger(
        &mut self,
        trigger: &tree::TriggerSyntax,
    ) -> (Vec<TriggerKind>, Option<ValueKind>) {
        match &trigger.kind {
            TriggerSyntaxKind::Key { combo, press } => {
                self.check_press_kind(combo, *press, trigger.span);
                (spread_key(combo, *press), Some(ValueKind::Key))
            }
            TriggerSyntaxKind::Keys { combos, within } => {
                (self.lower_keys(combos, within.unwrap_or(WITHIN)), Some(ValueKind::Key))
            }
            TriggerSyntaxKind::Typed((text, span)) => (self.lower_typed(text, *span), None),
            TriggerSyntaxKind::Voice(phrase) => self.lower_voice(phrase),
            TriggerSyntaxKind::Gesture { shape, holding } => {
                let frame = ["x", "y", "width", "height"].map(|part| (part, ValueKind::Number));
                let frame = self.add_record(record(&frame));
                let kind = self.add_record(record(&[
                    ("shape", ValueKind::Text),
                    ("box", frame),
                    ("score", ValueKind::Number),
                ]));
                let found = self.find_shape(shape);
                let holding = holding.fixed();
                let causes = found.zip(holding).map(|(index, holding)| TriggerKind::Gesture {
                    shape: self.lowered.set.shapes[index].name.clone(),
                    holding,
                });
                (causes.into_iter().collect(), Some(kind))
            }
            TriggerSyntaxKind::Line { device, test } => self.lower_line(device, test.as_ref()),
            TriggerSyntaxKind::Message { topic, broker } => {
                let kind = self
                    .add_record(record(&[("topic", ValueKind::Text), ("text", ValueKind::Text)]));
                self.check_topic(topic);
                let device = self.find_device_of(broker, "broker");
                let cause = device.map(|device| TriggerKind::Message(device, topic.0.clone()));
                (cause.into_iter().collect(), Some(kind))
            }
            TriggerSyntaxKind::Call { path, listener } => {
                let kind = self.add_record(record(
                    &["caller", "path", "text"].map(|part| (part, ValueKind::Text)),
                ));
                if !path.0.starts_with('/') {
                    let message = "a path begins with `/`";
                    let finding = Finding::new(Code::BadText, path.1, message);
                    self.say(finding.label("no path").help(format!("write \"/{}\"", path.0)));
                }
                let device = self.find_device_of(listener, "listener");
                let cause = device.map(|device| TriggerKind::Call(device, path.0.clone()));
                (cause.into_iter().collect(), Some(kind))
            }
            TriggerSyntaxKind::Every(span) => {
                if span.is_zero() {
                    let finding =
                        Finding::new(Code::BadNumber, trigger.span, "`every` needs a time");
                    self.say(finding.label("no time at all").help("for example `every 5min`"));
                }
                (vec![TriggerKind::Every(*span)], None)
            }
            TriggerSyntaxKind::At(time) => (vec![TriggerKind::At(*time)], None),
            TriggerSyntaxKind::Started => (vec![TriggerKind::Started], None),
            TriggerSyntaxKind::Window { opened, apps, titles } => {
                let kind = self
                    .add_record(record(&[("app", ValueKind::Text), ("title", ValueKind::Text)]));
                let lower = |names: &[Quoted]| -> Vec<String> {
                    names.iter().map(|(name, _)| name.to_lowercase()).collect()
                };
                let cause = TriggerKind::Window {
                    must_be_new: *opened,
                    apps: lower(apps),
                    titles: lower(titles),
                };
                (vec![cause], Some(kind))
            }
        }
    }

    pub(super) fn add_record(&mut self, record: Record) -> ValueKind {
        self.records.push(record);
        ValueKind::Record(self.records.len() - 1)
    }

    fn check_press_kind(
        &mut self,
        combo: &tree::KeyCombinationSyntax,
        press: PressKind,
        span: Span,
    ) {
        let wheel = |part: &KeyPart| match part {
            KeyPart::Key(key, _) => is_wheel(*key),
            KeyPart::Set(keys, _) => keys.iter().any(|key| is_wheel(*key)),
            _ => false,
        };
        if combo.parts.last().is_some_and(wheel) && press != PressKind::Pressed {
            self.say(
                Finding::new(Code::BadClause, span, "a wheel has no way up")
                    .label("it turns by a notch and is done")
                    .help("leave the manner away"),
            );
        }
    }

    fn lower_keys(
        &mut self,
        combos: &[tree::KeyCombinationSyntax],
        within: Duration,
    ) -> Vec<TriggerKind> {
        if let [alone] = combos {
            self.say(
                Finding::new(Code::BadClause, alone.span, "one combination is no sequence")
                    .label("the only one")
                    .help("write `key` for one, or name another behind a comma"),
            );
        }
        if combos.len() > LONGEST_SEQUENCE {
            let behind = combos[LONGEST_SEQUENCE].span;
            self.say(
                Finding::new(Code::TooMuch, behind, "this sequence has too many keys")
                    .label(format!("key {}", LONGEST_SEQUENCE + 1))
                    .help(format!("a sequence has at most {LONGEST_SEQUENCE}")),
            );
            return Vec::new();
        }
        let mut rows: Vec<Vec<KeyCombination>> = vec![Vec::new()];
        for combo in combos {
            let spread = spread_combo(combo);
            if rows.len() * spread.len() > MOST_SEQUENCES {
                self.say(
                    Finding::new(
                        Code::TooMuch,
                        combo.span,
                        "these sets stand for too many sequences",
                    )
                    .label(format!("more than {MOST_SEQUENCES} with this one"))
                    .help("write smaller sets, or fewer of them behind each other"),
                );
                return Vec::new();
            }
            let with = |row: &Vec<KeyCombination>| {
                let longer = |keys: &KeyCombination| row.iter().chain([keys]).cloned().collect();
                spread.iter().map(longer).collect::<Vec<_>>()
            };
            rows = rows.iter().flat_map(with).collect();
        }
        rows.into_iter().map(|combos| TriggerKind::Keys { combos, timeout: within }).collect()
    }

    fn lower_typed(&mut self, text: &str, span: Span) -> Vec<TriggerKind> {
        let odd = text.chars().find(|character| character.is_control());
        let problem = match odd {
            _ if text.is_empty() => Some("nothing is typed here".to_owned()),
            _ if text.chars().count() > LONGEST_TYPED => {
                Some(format!("an abbreviation has at most {LONGEST_TYPED} characters"))
            }
            Some(odd) => Some(format!("`{}` is not typed as a character", odd.escape_default())),
            None => None,
        };
        if let Some(message) = problem {
            let finding = Finding::new(Code::BadText, span, message);
            self.say(finding.label("not an abbreviation").help("for example \"sct\""));
        }
        vec![TriggerKind::Typed(text.to_owned())]
    }

    fn lower_voice(&mut self, (text, span): &Quoted) -> (Vec<TriggerKind>, Option<ValueKind>) {
        let mut parts = record(&[("words", ValueKind::Text), ("score", ValueKind::Number)]);
        match Phrase::parse(text, &self.word_lists()) {
            Ok(phrase) => {
                for (name, slot) in phrase.slots() {
                    let kind = match slot {
                        Slot::Number | Slot::Range(..) => ValueKind::Number,
                        Slot::Percent => ValueKind::Share,
                        Slot::Listed(_) => ValueKind::Text,
                    };
                    parts.insert(name.to_owned(), kind);
                    self.use_words(name);
                }
                if phrase.takes_anything() {
                    parts.insert("rest".to_owned(), ValueKind::Text);
                }
                self.lowered.phrases.push(super::SpokenPhrase {
                    phrase,
                    rule: self.lowered.set.rules.len(),
                    span: *span,
                });
            }
            Err(error) => self.say_bad_phrase(&error, text, *span),
        }
        let kind = self.add_record(parts);
        (vec![TriggerKind::Voice(self.with_full_lists(text))], Some(kind))
    }

    /// A phrase with its lists under the names they have in the whole set.
    fn with_full_lists(&self, text: &str) -> String {
        let mut full = text.to_owned();
        if !self.names.prefix.is_empty() {
            for name in self.word_lists().keys() {
                full = full.replace(&format!("<{name}>"), &format!("<{}>", self.names.full(name)));
            }
        }
        full
    }

    /// A slot of a phrase uses its list; a second one of the same list is called `name-2`.
    fn use_words(&mut self, slot: &str) {
        let plain = slot.rsplit_once('-').map_or(slot, |(name, count)| {
            if count.bytes().all(|byte| byte.is_ascii_digit()) { name } else { slot }
        });
        for name in [slot, plain] {
            if let Some(entry) = self.names.get_mut(ItemKind::Words, name) {
                entry.used = true;
            }
        }
    }

    pub(super) fn say_bad_phrase(&mut self, error: &PhraseError, text: &str, span: Span) {
        // The place inside the text is the place in the file as long as nothing is escaped.
        let plain = self.source.slice(span).len() == text.len() + 2;
        let narrow = error.at().filter(|_| plain).map(|at| {
            let start = span.start as usize + 1 + at;
            let length = text[at..].chars().next().map_or(0, char::len_utf8);
            Span::new(start, start + length)
        });
        self.say(
            Finding::new(Code::BadPhrase, narrow.unwrap_or(span), error.to_string())
                .label("in this phrase")
                .help(error.hint()),
        );
    }

    fn lower_line(
        &mut self,
        device: &Name,
        test: Option<&(LineWord, Quoted)>,
    ) -> (Vec<TriggerKind>, Option<ValueKind>) {
        let mut parts = record(&[("text", ValueKind::Text)]);
        let test = test.map(|(word, (text, span))| match word {
            LineWord::Is => LineTest::Is(text.clone()),
            LineWord::Contains => LineTest::Contains(text.clone()),
            LineWord::Matches => {
                for name in self.check_pattern(text, *span) {
                    parts.insert(name, ValueKind::Text);
                }
                LineTest::Matches(text.clone())
            }
        });
        let kind = self.add_record(parts);
        let device = self.find_device_of(device, "serial");
        let cause = device.map(|device| TriggerKind::Line(device, test));
        (cause.into_iter().collect(), Some(kind))
    }

    /// Checks a regular expression; gives the names of its parts.
    pub(super) fn check_pattern(&mut self, pattern: &str, span: Span) -> Vec<String> {
        match regex::Regex::new(pattern) {
            Ok(regex) => {
                let named = regex.capture_names().enumerate().skip(1);
                named
                    .map(|(number, name)| match name {
                        Some(name) => name.replace('_', "-"),
                        None => format!("part-{number}"),
                    })
                    .collect()
            }
            Err(error) => {
                let text = error.to_string();
                let last = text.lines().last().unwrap_or("").trim_start_matches("error: ");
                self.say(
                    Finding::new(Code::BadPattern, span, format!("this is no pattern: {last}"))
                        .label("not a regular expression")
                        .help("signs such as `(` and `*` stand for themselves behind a `\\`; raw text between backticks keeps them readable"),
                );
                Vec::new()
            }
        }
    }

    fn check_topic(&mut self, (topic, span): &Quoted) {
        let levels: Vec<&str> = topic.split('/').collect();
        let misplaced = levels.iter().enumerate().any(|(at, level)| {
            level.contains('#') && (*level != "#" || at + 1 != levels.len())
                || level.contains('+') && *level != "+"
        });
        if topic.is_empty() || misplaced {
            self.say(
                Finding::new(Code::BadText, *span, "this is no topic")
                    .label("not a topic")
                    .help("levels are parted by `/`; `+` stands for one whole level, `#` for all that follow, at the end"),
            );
        }
    }

    /// A device of a kind; said if it is another.
    pub(super) fn find_device_of(&mut self, name: &Name, wanted: &str) -> Option<DeviceId> {
        let id = self.find_device(name)?;
        let device = &self.lowered.set.devices[id.0];
        let found = device.kind.word();
        // What is sent may go to every device that takes bytes.
        if found != wanted && !matches!(device.kind, DeviceKind::Serial { .. } if wanted == "line")
        {
            let message = format!("`{}` is a {found}, not a {wanted}", name.text);
            self.say(
                Finding::new(Code::WrongKind, name.span, message)
                    .label(format!("a {found}"))
                    .help(format!("name a device that is a {wanted}")),
            );
            return None;
        }
        Some(id)
    }
}

fn record(parts: &[(&str, ValueKind)]) -> Record {
    parts.iter().map(|(name, kind)| ((*name).to_owned(), *kind)).collect()
}

fn is_wheel(key: KeySpec) -> bool {
    matches!(key, KeySpec::Named(key) if key.kind() == lantern_model::KeyKind::Wheel)
}

fn spread_key(combo: &tree::KeyCombinationSyntax, press: PressKind) -> Vec<TriggerKind> {
    spread_combo(combo)
        .into_iter()
        .filter_map(|combo| {
            let brings = combo.last()?;
            Some(TriggerKind::Key { combo, payload_key: brings, press })
        })
        .collect()
}

/// One combination for each key of its set.
pub(super) fn spread_combo(combo: &tree::KeyCombinationSyntax) -> Vec<KeyCombination> {
    let Some((last, held)) = combo.parts.split_last() else {
        return Vec::new();
    };
    let held: Vec<KeySpec> = held
        .iter()
        .filter_map(|part| match part {
            KeyPart::Key(key, _) => Some(*key),
            _ => None,
        })
        .collect();
    let lasts = match last {
        KeyPart::Key(key, _) => std::slice::from_ref(key),
        KeyPart::Set(keys, _) => keys.as_slice(),
        KeyPart::Value(_) | KeyPart::Unread(_) => &[],
    };
    lasts.iter().map(|key| KeyCombination(held.iter().copied().chain([*key]).collect())).collect()
}
