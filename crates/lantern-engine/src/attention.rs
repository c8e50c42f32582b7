//! Voice triggers: which phrases are active, with or without the attention word, and what happens when
//! one is recognised. Only active phrases are sent to the recogniser, which makes errors less likely.

use std::time::Duration;

use lantern_model::code::Op;
use lantern_model::{ActivePhrase, EffectKind, ListenMode, Listening, Time, TriggerKind, Value};
use lantern_sense::{RecognizedPhrase, heard_words};

use crate::activation::Activation;
use crate::decision_log::DecisionKind;
use crate::engine::Engine;
use crate::key_recognizer::Won;
use crate::steps::StepFlow;
use crate::timers::Timer;
use crate::trigger_index::{record, text, value_of_part};

/// How much the person is heeded.
#[derive(Debug, Default)]
pub(crate) struct Attention {
    heed: ListenMode,
    /// Whether phrases count without the attention word, until [`Timer::Asleep`] is due.
    awake: bool,
    /// What the ear was told: phrases of the book, each with whether it counts uncalled.
    told: Vec<(usize, bool)>,
    /// When we made the last sound.
    sounded: Option<Time>,
}

impl Attention {
    /// Sends the active phrases again at the next look, if any were sent.
    pub(crate) fn renew(&mut self) {
        if !self.told.is_empty() {
            self.told = vec![(usize::MAX, false)];
        }
    }
}

impl Engine {
    /// Whether phrases count without the attention word now.
    fn needs_no_attention_word(&self) -> bool {
        self.attention.heed == ListenMode::AnyPhrase || self.attention.awake
    }

    /// Whether the listening mode allows the phrases of a rule.
    fn counts_now(&self, rule: usize) -> bool {
        let wakes = |op: &Op| matches!(op, Op::Listen(_));
        self.attention.heed != ListenMode::ControlPhrases
            || self.rules.performs(self.rules.rules[rule].body, &wakes)
    }

    /// Which phrases of the book count now, and whether without the attention word.
    fn counting(&self) -> Vec<(usize, bool)> {
        let free = self.needs_no_attention_word();
        let phrases = self.triggers.phrases.iter().enumerate();
        let counts = |(_, won): &(usize, &Won)| self.applies(**won) && self.counts_now(won.0);
        let uncalled = |(number, won): (usize, &Won)| {
            (number, free || self.rules.rules[won.0].without_attention_word)
        };
        phrases.filter(counts).map(uncalled).collect()
    }

    /// What can be said here and now: each rule's number, its phrase, and whether that counts without the
    /// attention word.
    pub fn active_phrases(&self) -> Vec<(usize, &str, bool)> {
        self.counting().into_iter().filter_map(|counting| self.phrase_of(counting)).collect()
    }

    /// A phrase of the book with its rule's number.
    fn phrase_of(&self, (number, uncalled): (usize, bool)) -> Option<(usize, &str, bool)> {
        let (rule, trigger) = self.triggers.phrases[number];
        match &self.rules.rules[rule].triggers[trigger].kind {
            TriggerKind::Voice(text) => Some((rule, text.as_str(), uncalled)),
            _ => None,
        }
    }

    /// What the ear is to know of these phrases.
    fn listening(&self, counting: &[(usize, bool)]) -> Listening {
        let settings = &self.rules.settings;
        let told = counting.iter().filter_map(|counting| self.phrase_of(*counting));
        let sayable = |(_, text, uncalled): (usize, &str, bool)| ActivePhrase {
            text: text.to_owned(),
            without_attention_word: uncalled,
        };
        let mut phrases: Vec<ActivePhrase> = told.map(sayable).collect();
        phrases.sort();
        phrases.dedup();
        Listening {
            phrases,
            word_lists: self.rules.words.iter().cloned().collect(),
            attention_words: settings.attention.clone(),
            end_of_speech_pause: settings.end_of_speech_pause,
            microphone: settings.microphone.clone(),
            external_recognizer: settings.external_recognizer.clone(),
        }
    }

    /// Tells the ear what counts now, if that has changed.
    pub(crate) fn listen(&mut self) {
        let counting = self.counting();
        if counting != self.attention.told {
            let listening = self.listening(&counting);
            self.attention.told = counting;
            self.emit(None, EffectKind::Listen(listening));
        }
    }

    /// The step `listen`.
    pub(crate) fn do_listen(&mut self, now: Time, heed: ListenMode) -> StepFlow {
        self.attention.heed = heed;
        self.close_attention();
        self.record_decision(now, None, DecisionKind::ListenModeChanged(heed));
        self.listen();
        StepFlow::Next
    }

    /// The attention word was said, or a phrase behind it: others may follow without it.
    fn open_attention(&mut self, now: Time) {
        self.close_attention();
        let until = now + self.rules.settings.attention_timeout;
        self.attention.awake = true;
        self.timers.set(Timer::AttentionTimeout, until);
        self.listen();
    }

    /// The time in which phrases count without the attention word is over.
    pub(crate) fn close_attention(&mut self) {
        self.attention.awake = false;
        self.timers.cancel(Timer::AttentionTimeout);
    }

    /// We made a sound until now.
    pub(crate) fn end_sound(&mut self, now: Time) {
        self.attention.sounded = Some(now);
    }

    /// Whether we were to be heard ourselves since then.
    fn sounded_since(&self, began: Time) -> bool {
        !self.own_sounds.is_empty() || self.attention.sounded.is_some_and(|end| end > began)
    }

    /// Handles a recognised phrase. `began` is the time since its beginning.
    pub(crate) fn handle_heard(&mut self, now: Time, heard: &str, score: f64, began: Duration) {
        if self.sounded_since(now.before(began)) {
            let why = "we were speaking or playing ourselves".to_owned();
            return self.record_decision(now, None, DecisionKind::NotRecognized(why));
        }
        let words = heard_words(heard);
        let attention = heard_words(&self.rules.settings.attention);
        let called = words.strip_prefix(attention.as_slice());
        if called.is_some_and(<[String]>::is_empty) && !attention.is_empty() {
            self.record_decision(now, None, DecisionKind::AttentionWord);
            return self.open_attention(now);
        }
        let spoken = called.unwrap_or(&words).join(" ");
        let free = self.needs_no_attention_word();
        let wanted = |phrase: usize| {
            let won = self.triggers.phrases[phrase];
            let heeded = called.is_some() || free || self.rules.rules[won.0].without_attention_word;
            heeded && self.applies(won) && self.counts_now(won.0)
        };
        let understood = self.triggers.book.understand(&spoken, wanted);
        if understood.is_empty() {
            let why = if called.is_none() && !free {
                format!("{heard:?} does not begin with the attention word")
            } else {
                format!("no phrase here is {spoken:?}")
            };
            return self.record_decision(now, None, DecisionKind::NotRecognized(why));
        }
        self.record_decision(now, None, DecisionKind::Heard(spoken.clone(), score));
        let found = understood.into_iter().map(|RecognizedPhrase { phrase, parts, loose }| {
            let won = self.triggers.phrases[phrase];
            let mut fields = record([("words", text(&spoken)), ("score", Value::Number(score))]);
            for (name, part) in parts {
                fields.insert(name, value_of_part(part));
            }
            (loose, won, Activation::by(won.1, Value::Record(fields)))
        });
        let found = found.collect();
        if self.fire_one(now, found) && self.attention.awake {
            self.open_attention(now);
        }
    }

    /// Something was said that counts as no phrase.
    pub(crate) fn handle_misheard(&mut self, now: Time, words: &str, score: f64, why: &str) {
        let why = if words.is_empty() {
            why.to_owned()
        } else {
            format!("{why}; it is most like {words:?} ({:.0} %)", score * 100.0)
        };
        self.record_decision(now, None, DecisionKind::NotRecognized(why));
    }
}
