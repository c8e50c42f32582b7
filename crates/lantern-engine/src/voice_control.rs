//! Voice triggers: which phrases are active, with or without the attention word, and which rule a
//! recognised phrase fires. Only active phrases are sent to the recogniser, which makes errors less
//! likely.
//!
//! Owns the phrases of the set and the listening mode. The engine fires what it finds.

use lantern_model::code::Op;
use lantern_model::{
    ActivePhrase, ListenMode, Listening, RuleSet, Time, TriggerKind, TriggerRef, Value,
};
use lantern_speech::{MatchedPart, Phrase, PhraseIndex, RecognizedPhrase, heard_words, word_lists};

use crate::activation_policy::Activation;
use crate::payload::{record, text};
use crate::scope::{Found, Scope};
use crate::timers::{Timer, TimerQueue};

/// The phrases of a set of rules, with the trigger of each.
#[derive(Debug, Default)]
pub(crate) struct PhraseTriggers {
    index: PhraseIndex,
    /// For each phrase of the index, its trigger.
    triggers: Vec<TriggerRef>,
}

impl PhraseTriggers {
    pub(crate) fn new(rules: &RuleSet) -> PhraseTriggers {
        let lists = word_lists(rules.words.iter().map(|(name, text)| (name, text)));
        let mut phrases = Vec::new();
        let mut triggers = Vec::new();
        for (trigger, kind) in rules.triggers() {
            if let TriggerKind::Voice(text) = kind
                && let Ok(phrase) = Phrase::parse(text, &lists)
            {
                phrases.push(phrase);
                triggers.push(trigger);
            }
        }
        PhraseTriggers { index: PhraseIndex::new(phrases), triggers }
    }
}

/// Whether a phrase counts without the attention word.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Attention {
    Needed,
    NotNeeded,
}

/// A phrase of the index that counts now.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct CountingPhrase {
    number: usize,
    attention: Attention,
}

/// What recognised words are.
#[derive(Debug)]
pub(crate) enum Hearing {
    /// The attention word alone.
    AttentionWord,
    /// No phrase that counts here, for this reason.
    NotRecognized(String),
    /// These words, which are phrases of these triggers.
    Phrase(String, Vec<Found>),
}

/// The listening mode, and what the recogniser listens for.
#[derive(Debug, Default)]
pub(crate) struct VoiceControl {
    phrases: PhraseTriggers,
    mode: ListenMode,
    /// Whether phrases count without the attention word, until [`Timer::AttentionTimeout`] is due.
    is_attentive: bool,
    /// The phrases that were sent to the recogniser last.
    sent: Vec<CountingPhrase>,
    /// Whether they must be sent again, also if they are the same.
    is_stale: bool,
}

impl VoiceControl {
    /// Takes the phrases of another set of rules.
    pub(crate) fn set_phrases(&mut self, phrases: PhraseTriggers) {
        self.phrases = phrases;
        self.send_again();
    }

    /// Sends the active phrases again at the next [`VoiceControl::update`], if any were sent.
    pub(crate) fn send_again(&mut self) {
        self.is_stale |= !self.sent.is_empty();
    }

    /// What the recogniser is to listen for, if that has changed.
    pub(crate) fn update(&mut self, scope: Scope<'_>) -> Option<Listening> {
        let counting = self.counting(scope);
        if self.sent == counting && !std::mem::take(&mut self.is_stale) {
            return None;
        }
        let listening = self.listening(&counting, scope.rules);
        self.sent = counting;
        self.is_stale = false;
        Some(listening)
    }

    /// What can be said here and now: each trigger, its phrase, and whether that counts without the
    /// attention word.
    pub(crate) fn active_phrases<'a>(&self, scope: Scope<'a>) -> Vec<(TriggerRef, &'a str, bool)> {
        let of = |counting: CountingPhrase| self.phrase_of(counting, scope.rules);
        self.counting(scope).into_iter().filter_map(of).collect()
    }

    /// Takes another listening mode. The attention word must be said again.
    pub(crate) fn set_mode(&mut self, mode: ListenMode, timers: &mut TimerQueue<Timer>) {
        self.mode = mode;
        self.end_attention(timers);
    }

    /// The attention word was said, or a phrase behind it: others may follow without it.
    pub(crate) fn begin_attention(
        &mut self,
        now: Time,
        rules: &RuleSet,
        timers: &mut TimerQueue<Timer>,
    ) {
        self.is_attentive = true;
        timers.set(Timer::AttentionTimeout, now + rules.settings.attention_timeout);
    }

    /// Phrases count with the attention word only.
    pub(crate) fn end_attention(&mut self, timers: &mut TimerQueue<Timer>) {
        self.is_attentive = false;
        timers.cancel(Timer::AttentionTimeout);
    }

    pub(crate) fn is_attentive(&self) -> bool {
        self.is_attentive
    }

    /// Takes recognised words, which are as sure as the score from 0 to 1.
    pub(crate) fn hear(&self, scope: Scope<'_>, heard: &str, score: f64) -> Hearing {
        let words = heard_words(heard);
        let attention = heard_words(&scope.rules.settings.attention);
        let called = words.strip_prefix(attention.as_slice());
        if called.is_some_and(<[String]>::is_empty) && !attention.is_empty() {
            return Hearing::AttentionWord;
        }
        let spoken = called.unwrap_or(&words).join(" ");
        let is_free = self.needs_no_attention_word();
        let is_wanted = |phrase: usize| {
            let rule = &scope.rules[self.phrases.triggers[phrase].rule];
            let is_heeded = called.is_some() || is_free || rule.without_attention_word;
            is_heeded && self.counts(self.phrases.triggers[phrase], scope)
        };
        let understood = self.phrases.index.understand(&spoken, is_wanted);
        if understood.is_empty() {
            return Hearing::NotRecognized(if called.is_none() && !is_free {
                format!("{heard:?} does not begin with the attention word")
            } else {
                format!("no phrase here is {spoken:?}")
            });
        }
        let found = understood.into_iter().map(|RecognizedPhrase { phrase, parts, loose }| {
            let trigger = self.phrases.triggers[phrase];
            let mut fields = record([("words", text(&spoken)), ("score", Value::Number(score))]);
            for (name, part) in parts {
                fields.insert(name, value_of_part(part));
            }
            let activation = Activation::by(trigger.trigger, Value::Record(fields));
            Found { looseness: loose, trigger, activation }
        });
        let found = found.collect();
        Hearing::Phrase(spoken, found)
    }

    /// Whether phrases count without the attention word now.
    fn needs_no_attention_word(&self) -> bool {
        self.mode == ListenMode::AnyPhrase || self.is_attentive
    }

    /// Whether the phrase of a trigger counts in the present context and listening mode.
    fn counts(&self, trigger: TriggerRef, scope: Scope<'_>) -> bool {
        let rule = &scope.rules[trigger.rule];
        let listens = |op: &Op| matches!(op, Op::Listen(_));
        scope.context.allows(rule)
            && (self.mode != ListenMode::ControlPhrases
                || scope.rules.performs(rule.body, &listens))
    }

    fn counting(&self, scope: Scope<'_>) -> Vec<CountingPhrase> {
        let is_free = self.needs_no_attention_word();
        let phrases = self.phrases.triggers.iter().enumerate();
        let counting = phrases.filter(|(_, trigger)| self.counts(**trigger, scope));
        counting
            .map(|(number, trigger)| {
                let is_free = is_free || scope.rules[trigger.rule].without_attention_word;
                let attention = if is_free { Attention::NotNeeded } else { Attention::Needed };
                CountingPhrase { number, attention }
            })
            .collect()
    }

    fn phrase_of<'a>(
        &self,
        counting: CountingPhrase,
        rules: &'a RuleSet,
    ) -> Option<(TriggerRef, &'a str, bool)> {
        let trigger = self.phrases.triggers[counting.number];
        match &rules[trigger] {
            TriggerKind::Voice(text) => {
                Some((trigger, text.as_str(), counting.attention == Attention::NotNeeded))
            }
            _ => None,
        }
    }

    fn listening(&self, counting: &[CountingPhrase], rules: &RuleSet) -> Listening {
        let settings = &rules.settings;
        let phrases = counting.iter().filter_map(|counting| self.phrase_of(*counting, rules));
        let active = |(_, text, is_free): (TriggerRef, &str, bool)| ActivePhrase {
            text: text.to_owned(),
            without_attention_word: is_free,
        };
        let mut phrases: Vec<ActivePhrase> = phrases.map(active).collect();
        phrases.sort();
        phrases.dedup();
        Listening {
            phrases,
            word_lists: rules.words.iter().cloned().collect(),
            attention_words: settings.attention.clone(),
            end_of_speech_pause: settings.end_of_speech_pause,
            microphone: settings.microphone.clone(),
            external_recognizer: settings.external_recognizer.clone(),
        }
    }
}

fn value_of_part(part: MatchedPart) -> Value {
    match part {
        MatchedPart::Number(number) => Value::Number(number),
        MatchedPart::Share(share) => Value::Share(share),
        MatchedPart::Words(words) => Value::Text(words),
    }
}

#[cfg(test)]
mod tests {
    use lantern_model::{Rule, Settings, SourceLocation, Trigger};

    use super::*;
    use crate::context::Context;

    fn rules(phrases: &[&str]) -> RuleSet {
        let rule = |phrase: &&str| Rule {
            triggers: vec![Trigger {
                kind: TriggerKind::Voice((*phrase).to_owned()),
                place: SourceLocation::default(),
            }],
            ..Rule::default()
        };
        RuleSet {
            settings: Settings { attention: "lantern".to_owned(), ..Settings::default() },
            rules: phrases.iter().map(rule).collect(),
            routines: vec![lantern_model::Routine::default()],
            ..RuleSet::default()
        }
    }

    #[test]
    fn a_phrase_counts_behind_the_attention_word_or_soon_after_it() {
        let rules = rules(&["log core", "seal bag"]);
        let context = Context::default();
        let scope = Scope { rules: &rules, context: &context };
        let (mut voice, mut timers) = (VoiceControl::default(), TimerQueue::default());
        voice.set_phrases(PhraseTriggers::new(&rules));
        let trigger = |hearing: Hearing| match hearing {
            Hearing::Phrase(_, found) => Some(found[0].trigger.rule.0),
            _ => None,
        };
        assert!(matches!(voice.hear(scope, "lantern", 1.0), Hearing::AttentionWord));
        assert_eq!(trigger(voice.hear(scope, "seal bag", 1.0)), None);
        assert_eq!(trigger(voice.hear(scope, "lantern seal bag", 1.0)), Some(1));
        voice.begin_attention(Time::START, &rules, &mut timers);
        assert_eq!(trigger(voice.hear(scope, "log core", 1.0)), Some(0));
        assert_eq!(timers.next(), Some(Time::START + rules.settings.attention_timeout));
        voice.end_attention(&mut timers);
        assert_eq!(trigger(voice.hear(scope, "log core", 1.0)), None);
        assert_eq!(timers.next(), None);
    }

    #[test]
    fn active_phrases_are_sent_when_they_change() {
        let rules = rules(&["log core"]);
        let mut context = Context::default();
        let mut voice = VoiceControl::default();
        let update = |voice: &mut VoiceControl, context: &Context| {
            voice.update(Scope { rules: &rules, context }).map(|sent| sent.phrases.len())
        };
        assert_eq!(update(&mut voice, &context), None, "there are none yet");
        voice.set_phrases(PhraseTriggers::new(&rules));
        assert_eq!(update(&mut voice, &context), Some(1));
        assert_eq!(update(&mut voice, &context), None);
        voice.send_again();
        assert_eq!(update(&mut voice, &context), Some(1));
        context.pause_all();
        assert_eq!(update(&mut voice, &context), Some(0));
        assert_eq!(update(&mut voice, &context), None);
    }
}
