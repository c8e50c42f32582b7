//! The phrases that count now, ready for recognisers: as a grammar, and to tell whether words are one.

use lantern_model::{ActivePhrase, Listening};
use lantern_speech::{AttentionPolicy, Grammar, Phrase, PhraseIndex, heard_words, word_lists};

/// What is listened for.
#[derive(Debug, Default)]
pub(super) struct ActivePhrases {
    phrases: Vec<(Phrase, AttentionPolicy)>,
    book: PhraseIndex,
    attention: Vec<String>,
}

impl ActivePhrases {
    pub(super) fn new(listening: &Listening) -> ActivePhrases {
        let lists = word_lists(&listening.word_lists);
        let parse = |phrase: &ActivePhrase| {
            let calling = if phrase.without_attention_word {
                AttentionPolicy::Free
            } else {
                AttentionPolicy::Needed
            };
            Some((Phrase::parse(&phrase.text, &lists).ok()?, calling))
        };
        let phrases: Vec<(Phrase, AttentionPolicy)> =
            listening.phrases.iter().filter_map(parse).collect();
        let book = PhraseIndex::new(phrases.iter().map(|(phrase, _)| phrase.clone()).collect());
        ActivePhrases { phrases, book, attention: heard_words(&listening.attention_words) }
    }

    /// The grammar of it.
    pub(super) fn grammar(&self) -> Grammar {
        let phrases = self.phrases.iter().map(|(phrase, calling)| (phrase, *calling));
        Grammar::new(phrases, &self.attention)
    }

    /// Whether words are one of the phrases, called as it must be, or the call alone.
    pub(super) fn counts(&self, words: &str) -> bool {
        let words = heard_words(words);
        let called = words.strip_prefix(self.attention.as_slice());
        if called.is_some_and(<[String]>::is_empty) {
            return !self.attention.is_empty();
        }
        let said = called.unwrap_or(&words).join(" ");
        let heeded =
            |phrase: usize| called.is_some() || self.phrases[phrase].1 == AttentionPolicy::Free;
        !self.book.understand(&said, heeded).is_empty()
    }
}
