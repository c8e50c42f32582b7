//! The same words for the same thing everywhere: decisions of the engine, keys together, commands.

use std::sync::LazyLock;

use lantern_engine::DecisionKind;
use lantern_model::{
    Command, CommandKind, ConnectionState, Key, Layout, MicrophoneState, ModifierKey, RuleSet,
};
use lantern_script::Power;
use unicode_width::UnicodeWidthStr;

use crate::escaping::shown;

/// The layout on which scenes are played and after which keys are named; made once.
pub fn reference_layout() -> &'static Layout {
    static REFERENCE_LAYOUT: LazyLock<Layout> = LazyLock::new(Layout::us);
    &REFERENCE_LAYOUT
}

/// A number of things, in the singular for one: "1 rule", "2 rules".
pub fn counted(count: usize, noun: &str) -> String {
    let plural = if count == 1 { "" } else { "s" };
    format!("{count} {noun}{plural}")
}

/// A power as it is kept and shown.
pub fn power_words(power: &Power) -> String {
    if power.what.is_empty() {
        power.kind.words().to_owned()
    } else {
        format!("{} {}", power.kind.words(), shown(&power.what))
    }
}

/// How sure something is, from 0 to 1, as a person reads it: nothing is wholly out of the question.
pub fn sureness(share: f64) -> String {
    if share < 0.005 { "<1 %".to_owned() } else { format!("{:.0} %", 100.0 * share) }
}

/// A reason in one line, fit to be shown whatever came from outside.
pub fn describe(kind: &DecisionKind, rules: &RuleSet) -> String {
    shown(&words_of(kind, rules)).into_owned()
}

fn words_of(kind: &DecisionKind, rules: &RuleSet) -> String {
    match kind {
        DecisionKind::Fired { by, .. } => format!("fired by {by}"),
        DecisionKind::Ended(_) => "ended".to_owned(),
        DecisionKind::Stopped(_, by) => format!("stopped: {by}"),
        DecisionKind::Failed { place, message, .. } => {
            let file = rules.files.get(usize::from(place.file)).filter(|_| place.file > 0);
            let file = file.map_or_else(String::new, |file| format!("{file} "));
            format!("failed at {file}line {}: {message}", place.line)
        }
        DecisionKind::RateLimited(_) => {
            "is held to 2,000 strokes a second; a rule that says `fast` is not".to_owned()
        }
        DecisionKind::Dropped(why) => format!("did not fire: {why}"),
        DecisionKind::NotRecognized(why) => format!("not understood: {why}"),
        DecisionKind::Heard(words, score) => format!("heard {words:?}, {} sure", sureness(*score)),
        DecisionKind::AttentionWord => "called by the attention word".to_owned(),
        DecisionKind::ListenModeChanged(heed) => format!("listens {}", heed.words()),
        DecisionKind::MicrophoneState(MicrophoneState::Open) => {
            "listens: the microphone is open".to_owned()
        }
        DecisionKind::MicrophoneState(MicrophoneState::Closed) => {
            "listens no more: the microphone is closed".to_owned()
        }
        DecisionKind::MicrophoneState(MicrophoneState::Failed(why)) => {
            format!("hears nothing: {why}")
        }
        DecisionKind::ConnectionState(device, ConnectionState::Open) => {
            format!("{device} is there")
        }
        DecisionKind::ConnectionState(device, ConnectionState::Down(why)) => {
            format!("{device} is not there: {why}")
        }
        DecisionKind::CutLine(device) => {
            format!("{device} sent a line of over 4096 bytes; what came after them was left out")
        }
        DecisionKind::Replayed(combo) => format!("{combo} was given to the program"),
        DecisionKind::PasswordField(true) => "a password field has the keyboard".to_owned(),
        DecisionKind::PasswordField(false) => {
            "no password field has the keyboard any more".to_owned()
        }
        DecisionKind::Locked(true) => "the screen is locked".to_owned(),
        DecisionKind::Locked(false) => "the screen is unlocked".to_owned(),
        DecisionKind::MissingKeys(combo) => format!("not on this keyboard: {combo}"),
        DecisionKind::GrabsRefused(combo) => format!("taken by another program: {combo}"),
        DecisionKind::GrabsNotGranted(combo) => format!("not granted by the desktop: {combo}"),
        DecisionKind::LayoutChanged => "the keyboard has another layout".to_owned(),
        DecisionKind::Resumed => {
            "rules are active again: the panic combination was held".to_owned()
        }
        DecisionKind::Panic { runs, keys } => {
            format!(
                "panic: {runs} runs stopped, {keys} keys let go; everything is paused: \
                 `lantern resume`, or the same combination held for two seconds, continues"
            )
        }
    }
}

/// Keys that go down together, modifiers by their family.
pub fn combo_name(keys: &[Key]) -> String {
    let names: Vec<&str> = keys
        .iter()
        .map(|key| match ModifierKey::of(*key) {
            Some(side) if side == side.modifier(false).default_key() => side.modifier(false).word(),
            _ => key.name(),
        })
        .collect();
    names.join("+")
}

/// What a deed is about, in words: what it was given, and the amount or body.
pub fn command_text(command: &Command) -> String {
    let joint = if command.kind == CommandKind::ChooseMenuEntry { ", " } else { " " };
    let mut parts = vec![command.arguments.join(joint)];
    if let CommandKind::Volume(change) = command.kind {
        parts = vec![change.words().to_owned()];
    }
    parts.extend(command.value.as_ref().map(ToString::to_string));
    parts.retain(|part| !part.is_empty());
    parts.join(" ")
}

/// A text as the language writes it.
pub fn quoted(text: &str) -> String {
    let mut quoted = String::from("\"");
    for character in text.chars() {
        match character {
            '"' | '\\' => quoted.extend(['\\', character]),
            '{' => quoted.push_str("{{"),
            '}' => quoted.push_str("}}"),
            '\n' => quoted.push_str("\\n"),
            '\t' => quoted.push_str("\\t"),
            character => quoted.push(character),
        }
    }
    quoted.push('"');
    quoted
}

/// A span in the largest unit that tells it.
pub fn span_words(seconds: f64) -> String {
    match seconds {
        s if s < 1.0 => format!("{:.0} ms", s * 1000.0),
        s if s < 60.0 => format!("{s:.1} s"),
        s if s < 3600.0 => format!("{:.0} min", s / 60.0),
        s if s < 172_800.0 => format!("{:.1} h", s / 3600.0),
        s => format!("{:.1} days", s / 86_400.0),
    }
}

/// Joins words with spaces into lines of at most `columns` terminal columns. A longer word gets a
/// line of its own.
pub fn wrapped<'a>(words: impl IntoIterator<Item = &'a str>, columns: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in words {
        match lines.last_mut() {
            Some(line) if line.width() + 1 + word.width() <= columns => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines
}
