//! Triggers: what fires a rule.

use lantern_model::{Key, PressKind, TimeOfDay};

use super::{ErrorReported, Parsed, Parser};
use crate::Finding;
use crate::codes::Code;
use crate::token::{Sign, TokenKind};
use crate::tree::{KeyCombinationSyntax, KeyPart, LineWord, TriggerSyntax, TriggerSyntaxKind};

/// The first words of all triggers.
pub(super) const TRIGGER_WORDS: &[&str] = &[
    "key", "keys", "typed", "voice", "gesture", "line", "message", "call", "every", "at",
    "started", "window",
];

impl Parser<'_> {
    /// All triggers of a rule.
    pub(super) fn parse_triggers(&mut self) -> Parsed<Vec<TriggerSyntax>> {
        let mut triggers = Vec::new();
        loop {
            triggers.push(self.parse_trigger()?);
            if !self.take_word("or") {
                return Ok(triggers);
            }
        }
    }

    fn parse_trigger(&mut self) -> Parsed<TriggerSyntax> {
        let piece = self.peek();
        let word = self.slice(piece.span);
        if piece.kind != TokenKind::Word || !TRIGGER_WORDS.contains(&word) {
            let advice = self.advisor().advise_trigger();
            let expected = "what fires the rule, such as `key f9`";
            return self.fail_advised(expected, TRIGGER_WORDS, advice);
        }
        self.next();
        let kind = match word {
            "key" => {
                let combo = self.parse_trigger_combo()?;
                TriggerSyntaxKind::Key { combo, press: self.parse_press_kind()? }
            }
            "keys" => self.parse_keys_trigger()?,
            "typed" => {
                TriggerSyntaxKind::Typed(self.parse_plain_text("what is typed, between quotes")?)
            }
            "voice" => {
                TriggerSyntaxKind::Voice(self.parse_plain_text("the phrase between quotes")?)
            }
            "gesture" => self.parse_gesture()?,
            "line" => self.parse_line_trigger()?,
            "message" => {
                let topic = self.parse_plain_text("the topic between quotes")?;
                self.expect_word("on", "before the broker's name")?;
                TriggerSyntaxKind::Message { topic, broker: self.expect_name("the broker's name")? }
            }
            "call" => {
                let path = self.parse_plain_text("the path between quotes")?;
                self.expect_word("on", "before the listener's name")?;
                TriggerSyntaxKind::Call { path, listener: self.expect_name("the listener's name")? }
            }
            "every" => TriggerSyntaxKind::Every(self.parse_duration()?),
            "at" => TriggerSyntaxKind::At(self.parse_time_of_day()?),
            "started" => TriggerSyntaxKind::Started,
            _ => self.parse_window_trigger()?,
        };
        let name = if self.take_word("as") { Some(self.expect_name("a name")?) } else { None };
        Ok(TriggerSyntax { kind, name, span: piece.span.to(self.last_span()) })
    }

    fn parse_press_kind(&mut self) -> Parsed<PressKind> {
        Ok(if self.take_word("released") {
            PressKind::Released
        } else if self.take_word("tapped") {
            PressKind::Tapped
        } else if self.take_word("twice") {
            PressKind::DoublePressed
        } else if self.take_word("held") {
            PressKind::Held(self.parse_duration()?)
        } else {
            PressKind::Pressed
        })
    }

    /// A combination in a head: it holds no values, and a set only as its last part.
    pub(super) fn parse_trigger_combo(&mut self) -> Parsed<KeyCombinationSyntax> {
        let combo = self.parse_combo()?;
        let last = combo.parts.len() - 1;
        for (at, part) in combo.parts.iter().enumerate() {
            let finding = match part {
                KeyPart::Value(value) => {
                    let message = "a rule's key stands in its head as it is, not as a value";
                    Finding::new(Code::Unexpected, value.span, message).label("name the key here")
                }
                KeyPart::Set(_, span) if at != last => {
                    let message = "a set of keys stands last in a combination";
                    Finding::new(Code::Unexpected, *span, message)
                        .label("move it to the end")
                        .help("keys that are held together with each of a set stand before it: `ctrl+[1..9]`")
                }
                _ => continue,
            };
            self.findings.push(finding);
        }
        Ok(combo)
    }

    fn parse_keys_trigger(&mut self) -> Parsed<TriggerSyntaxKind> {
        let mut combos = vec![self.parse_trigger_combo()?];
        while self.take_sign(Sign::Comma) {
            combos.push(self.parse_trigger_combo()?);
        }
        let within = if self.take_word("within") { Some(self.parse_duration()?) } else { None };
        Ok(TriggerSyntaxKind::Keys { combos, within })
    }

    fn parse_gesture(&mut self) -> Parsed<TriggerSyntaxKind> {
        if let Some(advice) = self.advisor().advise_shape() {
            let piece = self.peek();
            return self.fail_at(piece, "the shape's name", Some(advice));
        }
        let shape = self.expect_name("the shape's name")?;
        self.expect_word("while", "before `holding`")?;
        self.expect_word("holding", "before the key or button that is held")?;
        Ok(TriggerSyntaxKind::Gesture { shape, holding: self.parse_trigger_combo()? })
    }

    fn parse_line_trigger(&mut self) -> Parsed<TriggerSyntaxKind> {
        self.expect_word("from", "before the device's name")?;
        let device = self.expect_name("the device's name")?;
        let tests = [
            ("is", LineWord::Is),
            ("contains", LineWord::Contains),
            ("matches", LineWord::Matches),
        ];
        for (word, test) in tests {
            if self.take_word(word) {
                let text = self.parse_raw_or_text("a text")?;
                return Ok(TriggerSyntaxKind::Line { device, test: Some((test, text)) });
            }
        }
        Ok(TriggerSyntaxKind::Line { device, test: None })
    }

    fn parse_window_trigger(&mut self) -> Parsed<TriggerSyntaxKind> {
        let opened = self.take_word("opened");
        if !opened {
            self.expect_word("focused", "or `opened` after `window`")?;
        }
        let mut apps = Vec::new();
        let mut titles = Vec::new();
        if self.take_word("app") {
            apps = self.parse_names("a program's name")?;
        }
        if self.take_word("title") {
            titles = self.parse_names("a part of a title")?;
        }
        Ok(TriggerSyntaxKind::Window { opened, apps, titles })
    }

    /// `06:30`
    pub(super) fn parse_time_of_day(&mut self) -> Parsed<TimeOfDay> {
        let piece = self.peek();
        if piece.kind != TokenKind::Clock {
            return self.fail("a time of day, such as `06:30`");
        }
        self.next();
        self.read_time_of_day(piece.span).ok_or(ErrorReported)
    }

    /// One of `words`, as the pointer key whose name has `affix`.
    pub(super) fn parse_pointer_key(
        &mut self,
        affix: &str,
        words: &[&str],
    ) -> Parsed<KeyCombinationSyntax> {
        let piece = self.peek();
        let word = self.slice(piece.span);
        if piece.kind != TokenKind::Word || !words.contains(&word) {
            let list: Vec<String> = words.iter().map(|word| format!("`{word}`")).collect();
            let advice = if affix == "-button" { self.advisor().advise_button() } else { None };
            return self.fail_advised(&list.join(", "), words, advice);
        }
        self.next();
        let name = if affix.starts_with('-') {
            format!("{word}{affix}")
        } else {
            format!("{affix}{word}")
        };
        let key = Key::named(&name).expect("every button and wheel direction is a key");
        let part = KeyPart::Key(lantern_model::KeySpec::Named(key), piece.span);
        Ok(KeyCombinationSyntax { parts: vec![part], span: piece.span })
    }
}
