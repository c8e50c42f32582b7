//! What happened in a rehearsal as a scene that expects it all: a run turned into a test.

use lantern_model::{Key, KeyCombination, KeySpec, ModifierKey, Time, Value};
use lantern_script::scene::{DONE_WORDS, Expectation, TextTest};

use crate::timeline::{SentEffect, SentEffectKind, Timeline};

/// A scene of what came in and what went out, in order.
pub fn scene_of(timeline: &Timeline) -> String {
    let mut lines: Vec<(Time, usize, String)> = Vec::new();
    for (time, act) in timeline.inputs() {
        lines.push((time, 0, act.to_owned()));
    }
    for sent in timeline.sent() {
        // A key that goes up at once would not be visible as down.
        let lasts = timeline.holds().iter().any(|hold| {
            sent.kind == SentEffectKind::Pressed(hold.key)
                && hold.start == sent.time
                && hold.end.is_none_or(|end| end > hold.start)
        });
        if matches!(sent.kind, SentEffectKind::Pressed(_)) && !lasts {
            continue;
        }
        if let Some(expectation) = expectation_of(sent) {
            lines.push((sent.until, 1, format!("expect {expectation}")));
        }
    }
    lines.sort_by_key(|(time, order, _)| (*time, *order));
    let mut text = String::from("# recorded from a rehearsal\n");
    let mut shown = None;
    for (time, _, words) in lines {
        let at = Value::Duration(time - Time::START);
        let stamp = if shown == Some(time) { String::new() } else { format!("at {at}") };
        shown = Some(time);
        text.push_str(&format!("{stamp:<12}{words}\n"));
    }
    text
}

/// What a scene expects where this goes out; a key let go is not expected.
pub fn expectation_of(sent: &SentEffect) -> Option<Expectation> {
    let is = |text: &str| TextTest::Is(text.to_owned());
    Some(match &sent.kind {
        SentEffectKind::Typed(text, _) => Expectation::Typed(is(text)),
        SentEffectKind::Tapped(keys, _) => match keys.as_slice() {
            [key] if key.is_pointer() => {
                Expectation::Clicked(KeyCombination::of(KeySpec::Named(*key)), sent.count)
            }
            keys => Expectation::Tapped(combo_of(keys)),
        },
        SentEffectKind::Pressed(key) => Expectation::Down(KeyCombination::of(KeySpec::Named(*key))),
        SentEffectKind::LetGo(_) => return None,
        SentEffectKind::PointerAt(x, y) => Expectation::PointerAt(*x, *y),
        SentEffectKind::Hint(text) => Expectation::Hint(is(text)),
        SentEffectKind::Logged(text) => Expectation::Logged(is(text)),
        SentEffectKind::Done(step, text) => {
            let (word, _) = DONE_WORDS.iter().find(|(_, done)| done == step)?;
            Expectation::Done(word, is(text))
        }
        SentEffectKind::Failed { message, .. } => Expectation::Failed(is(message)),
    })
}

fn combo_of(keys: &[Key]) -> KeyCombination {
    let name = |key: &Key| match ModifierKey::of(*key) {
        Some(side) if side == side.modifier(false).default_key() => {
            KeySpec::Either(side.modifier(false))
        }
        _ => KeySpec::Named(*key),
    };
    KeyCombination(keys.iter().map(name).collect())
}
