//! What recognition makes of an utterance.

use std::time::Duration;

use crate::trained_phrases::Example;

/// Level above the noise, in decibels, below which recognised speech is not trusted.
const TOO_NOISY: f32 = 9.0;

/// What was made of an utterance.
#[derive(Debug, Clone, PartialEq)]
pub struct UtteranceResult {
    /// The phrase it is most like; empty if it is like none.
    pub words: String,
    /// How sure that is, from 0 to 1.
    pub score: f64,
    /// Whether it counts as said.
    pub counts: bool,
    /// Whether the person said that it means nothing.
    pub refused: bool,
    /// When it began and ended, from the start of the stream.
    pub from: Duration,
    /// When its last sound ended.
    pub until: Duration,
    /// How far it was above the room, in decibels.
    pub above_noise: f32,
}

impl UtteranceResult {
    /// Why it does not count, if it does not.
    pub fn problem(&self) -> Option<String> {
        if self.counts {
            return None;
        }
        Some(if self.refused {
            "you said that this means nothing".to_owned()
        } else if self.above_noise < TOO_NOISY {
            let above = self.above_noise;
            format!("the room is too loud: speech is {above:.0} dB above it")
        } else if self.words.is_empty() {
            "it is like none of the phrases".to_owned()
        } else {
            "it is not sure enough".to_owned()
        })
    }
}

/// What was said last, in memory only, for who says that it was understood wrongly.
#[derive(Debug, Clone)]
pub struct LastUtterance {
    /// What was made of it.
    pub verdict: UtteranceResult,
    /// What it was like.
    pub example: Example,
    /// How long ago that was.
    pub ago: Duration,
}
