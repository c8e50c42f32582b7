//! Active phrases and the state of the microphone.

use std::collections::BTreeMap;
use std::time::Duration;

/// Which phrases are recognised.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum ListenMode {
    /// Phrases behind the attention word, if one is set.
    #[default]
    AttentionWord,
    /// Phrases, with the attention word or without.
    AnyPhrase,
    /// Only phrases of rules that change the listening mode.
    ControlPhrases,
}

impl ListenMode {
    /// What stands behind `listen`.
    pub const fn words(self) -> &'static str {
        match self {
            ListenMode::AttentionWord => "when called",
            ListenMode::AnyPhrase => "freely",
            ListenMode::ControlPhrases => "to nothing",
        }
    }

    /// All of them.
    pub const ALL: [ListenMode; 3] =
        [ListenMode::AttentionWord, ListenMode::AnyPhrase, ListenMode::ControlPhrases];
}

/// State of the microphone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum MicrophoneState {
    /// The microphone is open.
    Open,
    /// It is closed, because no phrase is active.
    Closed,
    /// It cannot be opened, or failed, for this reason. It is tried again.
    Failed(String),
}

/// The phrases that can be recognised now: those of rules that may fire in the present context.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Listening {
    /// The phrases.
    pub phrases: Vec<ActivePhrase>,
    /// Lists of words that stand in them, by name.
    pub word_lists: BTreeMap<String, String>,
    /// The words that must come before a phrase; empty for none.
    pub attention_words: String,
    /// The pause that ends an utterance.
    pub end_of_speech_pause: Duration,
    /// A part of the microphone's name; empty for the one in use.
    pub microphone: String,
    /// The command line of a program that hears instead; empty for none.
    pub external_recognizer: String,
}

/// A phrase that can be recognised now.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct ActivePhrase {
    /// The phrase as written.
    pub text: String,
    /// Whether it may be said without the attention word.
    pub without_attention_word: bool,
}
