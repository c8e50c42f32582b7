//! What an ear is to listen for.

use std::collections::BTreeMap;
use std::time::Duration;

/// What the person is listened to for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum ListenMode {
    /// Phrases behind the attention word, if one is set.
    #[default]
    AttentionWord,
    /// Phrases, with the attention word or without.
    AnyPhrase,
    /// Nothing but what changes this.
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

/// Whether the person can be heard.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum MicrophoneState {
    /// The microphone is open.
    Open,
    /// It is closed, as there is nothing to listen for.
    Closed,
    /// It cannot be opened, or broke off, for this reason; it is tried again.
    Failed(String),
}

/// What counts as said now: the phrases of rules that may fire here.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Listening {
    /// The phrases.
    pub phrases: Vec<ActivePhrase>,
    /// Lists of words that stand in them, by name.
    pub word_lists: BTreeMap<String, String>,
    /// The words that must come before a phrase; empty for none.
    pub attention_words: String,
    /// The pause that ends what is said.
    pub end_of_speech_pause: Duration,
    /// A part of the microphone's name; empty for the one in use.
    pub microphone: String,
    /// The command line of a program that hears instead; empty for none.
    pub external_recognizer: String,
}

/// A phrase that counts.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct ActivePhrase {
    /// The phrase as written.
    pub text: String,
    /// Whether it may be said without the attention word.
    pub without_attention_word: bool,
}
