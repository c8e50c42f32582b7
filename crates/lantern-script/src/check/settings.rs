//! `settings { ... }`: choices that hold for the whole set. Only those of the first file count.

use std::time::Duration;

use lantern_model::{Value, is_combination};
use lantern_speech::heard_words;

use super::Checker;
use crate::codes::Code;
use crate::parser::everyday_words::everyday_value;
use crate::parser::words::SETTINGS;
use crate::tree::{ExprSyntax, ExprSyntaxKind, Name, TextPart};
use crate::{Finding, near_name};

impl Checker<'_> {
    pub(super) fn check_settings(&mut self, settings: &[(Name, ExprSyntax)]) {
        for (index, (name, value)) in settings.iter().enumerate() {
            let earlier = settings[..index].iter().find(|(other, _)| other.text == name.text);
            if let Some((earlier, _)) = earlier {
                let message = format!("`{}` is set twice", name.text);
                let finding = Finding::new(Code::NamedTwice, name.span, message);
                self.say(finding.label("again").other(earlier.span, "first here"));
            }
            match name.text.as_str() {
                "panic" => self.check_panic(value),
                "attention" => {
                    if let Some(text) = self.check_text_setting("attention", value) {
                        self.lowered.set.settings.attention = heard_words(text).join(" ");
                    }
                }
                "microphone" => {
                    if let Some(text) = self.check_text_setting("microphone", value) {
                        text.clone_into(&mut self.lowered.set.settings.microphone);
                    }
                }
                "recogniser" => {
                    if let Some(text) = self.check_text_setting("recogniser", value) {
                        text.clone_into(&mut self.lowered.set.settings.external_recognizer);
                        self.lowered.recognizer_span =
                            Some(value.span).filter(|_| !text.is_empty());
                    }
                }
                "trail" => {
                    if let Some(shown) = self.check_truth("trail", value) {
                        self.lowered.set.settings.draws_trail = shown;
                    }
                }
                "clipboard" => {
                    if let Some(allowed) = self.check_truth("clipboard", value) {
                        self.lowered.set.settings.may_paste = allowed;
                    }
                }
                "notices" => {
                    if let Some(shown) = self.check_truth("notices", value) {
                        self.lowered.set.settings.shows_notices = shown;
                    }
                }
                "together" | "tap" | "twice" | "awake" | "pause" => self.check_span(name, value),
                other => self.say_no_setting(other, name),
            }
        }
    }

    fn say_no_setting(&mut self, word: &str, name: &Name) {
        let words: Vec<&str> = SETTINGS.iter().map(|(word, _)| *word).collect();
        let near = near_name(word, words.iter().copied());
        self.say(
            Finding::new(Code::NoSuchName, name.span, format!("there is no setting `{word}`"))
                .label("no such setting")
                .help(format!("the settings are {}", words.join(", ")))
                .maybe_help(near.map(|near| format!("did you mean `{near}`?"))),
        );
    }

    fn say_wrong_setting(&mut self, name: &str, value: &ExprSyntax, kind: &str) {
        if value.kind == ExprSyntaxKind::Unread {
            return;
        }
        let example = SETTINGS.iter().find(|(word, _)| *word == name).map_or("", |(_, text)| *text);
        let finding = Finding::new(Code::WrongKind, value.span, format!("`{name}` is {kind}"))
            .label(format!("not {kind}"));
        // What is written, if only its form is wrong.
        let written = self.source.slice(value.span);
        let mended = match kind {
            "a key" if is_combination(written) => Some(format!("key {written}")),
            "a duration" if written.bytes().all(|byte| byte.is_ascii_digit()) => {
                Some(format!("{written}ms"))
            }
            "true or false" => everyday_value(written).map(str::to_owned),
            "a text" if is_plain_word(written) => Some(format!("\"{written}\"")),
            _ => None,
        };
        self.say(match mended {
            Some(text) => {
                finding.help(format!("write `{name} = {text}`")).likely_fix(value.span, text)
            }
            None => finding.help(format!("for example `{name} = {example}`")),
        });
    }

    fn check_panic(&mut self, value: &ExprSyntax) {
        let ExprSyntaxKind::Key(combo) = &value.kind else {
            return self.say_wrong_setting("panic", value, "a key");
        };
        self.lowered.panic_span = Some(value.span);
        if let Some(panic) = combo.fixed() {
            self.lowered.set.settings.panic = panic;
        }
    }

    fn check_truth(&mut self, name: &str, value: &ExprSyntax) -> Option<bool> {
        match value.kind {
            ExprSyntaxKind::Value(Value::Truth(truth)) => Some(truth),
            _ => {
                self.say_wrong_setting(name, value, "true or false");
                None
            }
        }
    }

    fn check_text_setting<'v>(&mut self, name: &str, value: &'v ExprSyntax) -> Option<&'v str> {
        let text = match &value.kind {
            ExprSyntaxKind::Text(parts) => match parts.as_slice() {
                [] => Some(""),
                [TextPart::Literal(text)] => Some(text.as_str()),
                _ => None,
            },
            _ => None,
        };
        if text.is_none() {
            self.say_wrong_setting(name, value, "a text");
        }
        text
    }

    fn check_span(&mut self, name: &Name, value: &ExprSyntax) {
        let ExprSyntaxKind::Value(Value::Duration(span)) = value.kind else {
            return self.say_wrong_setting(&name.text, value, "a duration");
        };
        let (least, most) = match name.text.as_str() {
            "awake" => (Duration::from_secs(1), Duration::from_secs(3600)),
            "pause" => (Duration::from_millis(200), Duration::from_secs(5)),
            _ => (Duration::from_millis(1), Duration::from_secs(5)),
        };
        if span < least || span > most {
            let (least, most) = (Value::Duration(least), Value::Duration(most));
            self.say(
                Finding::new(
                    Code::BadNumber,
                    value.span,
                    format!("`{}` is out of range", name.text),
                )
                .label("out of range")
                .help(format!("it may be from {least} to {most}")),
            );
        }
        let settings = &mut self.lowered.set.settings;
        match name.text.as_str() {
            "together" => settings.chord_window = span,
            "tap" => settings.tap_timeout = span,
            "awake" => settings.attention_timeout = span,
            "pause" => settings.end_of_speech_pause = span,
            _ => settings.double_press_timeout = span,
        }
    }
}

fn is_plain_word(text: &str) -> bool {
    text.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-')
}
