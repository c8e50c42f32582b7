//! Lines of a program that recognises speech.

use std::time::Duration;

use lantern_model::Event;
use serde::Deserialize;

/// What such a program prints.
#[derive(Deserialize)]
struct ExternalResult {
    text: String,
    #[serde(default = "certain")]
    confidence: f64,
    from: Option<f64>,
    until: Option<f64>,
}

fn certain() -> f64 {
    1.0
}

/// What a line tells; nothing if it is no such line.
pub(super) fn event_of(line: &str) -> Option<Event> {
    let said: ExternalResult = serde_json::from_str(line.trim()).ok()?;
    let score = said.confidence.clamp(0.0, 1.0);
    let words = said.text;
    if words.trim().is_empty() {
        return None;
    }
    if score < 0.5 {
        return Some(Event::Misheard { words, score, why: "it is not sure enough".to_owned() });
    }
    let seconds = said.until.zip(said.from).map_or(0.0, |(until, from)| until - from);
    let began = Duration::try_from_secs_f64(seconds).unwrap_or_default();
    Some(Event::Heard { words, score, began })
}
