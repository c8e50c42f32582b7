//! The phrases of a file, wherever they count, and whose they are.

use std::collections::BTreeSet;

#[cfg(feature = "audio")]
use lantern_audio::{AudioSource, HearingEvent, Recognizer};
use lantern_model::{ActivePhrase, Listening, RuleSet, TriggerKind};
use lantern_speech::UtteranceResult;
use lantern_speech::{
    Phoneme, Phrase, PhraseIndex, Pronunciations, heard_words, likeness, word_lists,
};

#[cfg(feature = "audio")]
use crate::failure::Failure;

/// Everything that can be said for the rules of a file.
pub struct Phrases<'r> {
    rules: &'r RuleSet,
    book: PhraseIndex,
    /// The phrases of the book, as those of `listening` are.
    phrases: Vec<Phrase>,
    /// For each phrase of the book its rule.
    owners: Vec<usize>,
    attention: Vec<String>,
    pub listening: Listening,
}

impl<'r> Phrases<'r> {
    pub fn of(rules: &'r RuleSet) -> Phrases<'r> {
        let lists = word_lists(rules.words.iter().map(|(name, text)| (name, text)));
        let settings = &rules.settings;
        let (mut phrases, mut owners, mut sayable) = (Vec::new(), Vec::new(), Vec::new());
        for (number, rule) in rules.rules.iter().enumerate() {
            for trigger in &rule.triggers {
                let TriggerKind::Voice(text) = &trigger.kind else { continue };
                let Ok(phrase) = Phrase::parse(text, &lists) else { continue };
                phrases.push(phrase);
                owners.push(number);
                sayable.push(ActivePhrase {
                    text: text.clone(),
                    without_attention_word: rule.without_attention_word,
                });
            }
        }
        let listening = Listening {
            phrases: sayable,
            word_lists: rules.words.iter().cloned().collect(),
            attention_words: settings.attention.clone(),
            end_of_speech_pause: settings.end_of_speech_pause,
            microphone: settings.microphone.clone(),
            external_recognizer: settings.external_recognizer.clone(),
        };
        let attention = heard_words(&settings.attention);
        let book = PhraseIndex::new(phrases.clone());
        Phrases { rules, book, phrases, owners, attention, listening }
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.book.is_empty()
    }

    /// The rule that would fire, if its place allows.
    fn owner_of(&self, words: &str) -> Option<&'r str> {
        let words = heard_words(words);
        let called = words.strip_prefix(self.attention.as_slice());
        let said = called.unwrap_or(&words).join(" ");
        let found = self.book.understand(&said, |_| true);
        found.first().map(|found| self.rules.rules[self.owners[found.phrase]].label.as_str())
    }

    /// What can be said, called as it must be, the most like these words first; a form of each phrase.
    pub fn most_alike(&self, words: &str) -> Vec<String> {
        let said = heard_words(words);
        let called = |uncalled: bool| if uncalled { &[] } else { self.attention.as_slice() };
        let form = |(phrase, said): (&Phrase, &ActivePhrase)| {
            let form = phrase.spoken_forms(1).into_iter().next()?;
            let words: Vec<String> =
                called(said.without_attention_word).iter().cloned().chain(form).collect();
            Some(words)
        };
        let phrases = self.phrases.iter().zip(&self.listening.phrases);
        let mut forms: Vec<Vec<String>> = phrases.filter_map(form).collect();
        let all = forms.iter().flatten().chain(&said).map(String::as_str);
        let sounds = Pronunciations::of_words(all.collect::<BTreeSet<_>>());
        let spoken = |words: &[String]| -> Vec<Phoneme> {
            words.iter().flat_map(|word| sounds.of_word(word)).collect()
        };
        let own = spoken(&said);
        let alike = |form: &Vec<String>| likeness(&own, &spoken(form));
        forms.sort_by(|one, other| alike(other).total_cmp(&alike(one)));
        let mut texts: Vec<String> = forms.into_iter().map(|form| form.join(" ")).collect();
        texts.dedup();
        texts
    }

    /// What would come of an utterance, in words.
    pub fn outcome(&self, verdict: &UtteranceResult) -> String {
        match verdict.problem() {
            Some(why) => why,
            None => {
                self.owner_of(&verdict.words).unwrap_or("called by the attention word").to_owned()
            }
        }
    }

    /// Recognises everything that is said in a source; `tell` is given each of it.
    #[cfg(feature = "audio")]
    pub fn hear(
        &self,
        source: &mut AudioSource,
        mut tell: impl FnMut(&Recognizer, HearingEvent) -> bool,
    ) -> Result<(), Failure> {
        let mut hearer = Recognizer::open()?;
        hearer.listen_for(self.listening.clone())?;
        while let Some(sound) = source.read()? {
            for noted in hearer.take(&sound)? {
                if !tell(&hearer, noted) {
                    return Ok(());
                }
            }
        }
        for noted in hearer.finish()? {
            tell(&hearer, noted);
        }
        Ok(())
    }
}

/// Seconds with two places.
#[cfg(feature = "audio")]
pub fn seconds(span: std::time::Duration) -> String {
    format!("{:.2} s", span.as_secs_f64())
}
