//! The recognisers, and what they make of a sound.

use lantern_audio::{HearingEvent, Recognizer};
use lantern_model::{ActivePhrase, Listening};
use lantern_speech::UtteranceResult;
use lantern_speech::{
    EndpointSettings, Endpointer, Example, TrainedPhrase, Utterance, VadEvent, features,
};
use serde::{Deserialize, Serialize};

use crate::said::{self, Noise, Voice};

/// Which recogniser is asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub enum Recogniser {
    Model,
    Taught,
}

/// A phrase that was heard.
#[derive(Debug, Clone)]
pub struct Heard {
    pub words: String,
    pub score: f64,
    pub counts: bool,
}

impl Heard {
    fn of(verdict: UtteranceResult) -> Heard {
        Heard { words: verdict.words, score: verdict.score, counts: verdict.counts }
    }
}

impl Recogniser {
    pub const fn name(self) -> &'static str {
        match self {
            Recogniser::Model => "model",
            Recogniser::Taught => "taught",
        }
    }

    /// A recogniser of the phrases, behind the attention word or not; one that is taught was taught
    /// by that voice.
    pub fn open(self, called: bool, voice: &Voice) -> Recognizer {
        let mut hearer = match self {
            Recogniser::Model => Recognizer::by_model().expect("the speech library is installed"),
            Recogniser::Taught => Recognizer::by_teaching(&teach(called, voice)),
        };
        let sayable =
            |text: &&str| ActivePhrase { text: (*text).to_owned(), without_attention_word: false };
        let attention = if called { "lantern" } else { "" };
        let listening = Listening {
            phrases: said::PHRASES.iter().map(sayable).collect(),
            attention_words: attention.to_owned(),
            end_of_speech_pause: EndpointSettings::default().pause,
            ..Listening::default()
        };
        hearer.listen_for(listening).expect("it takes the phrases");
        hearer
    }
}

/// Three examples of each phrase.
fn teach(called: bool, voice: &Voice) -> Vec<TrainedPhrase> {
    let taught = |phrase: &&str| {
        let words = if called { format!("lantern {phrase}") } else { (*phrase).to_owned() };
        let example = |take: usize| {
            let sound =
                Noise::Decibels(35.0).over(&voice.say(&words, 7001 + take * 13), take as u32);
            let utterance = longest(&sound)?;
            Some(Example::new(utterance.above_noise, &features(utterance.speech())))
        };
        let examples = (0..3).filter_map(example).collect();
        TrainedPhrase { words, examples }
    };
    said::PHRASES.iter().map(taught).collect()
}

fn longest(sound: &[i16]) -> Option<Utterance> {
    let mut endpointer = Endpointer::new(EndpointSettings::default());
    let mut signs = endpointer.take(sound);
    signs.extend(endpointer.finish());
    let utterances = signs.into_iter().filter_map(|sign| match sign {
        VadEvent::Resting(utterance) => Some(utterance),
        _ => None,
    });
    utterances.max_by_key(|utterance| utterance.speech_frames)
}

/// Everything that is heard in a sound.
pub fn all(hearer: &mut Recognizer, sound: &[i16]) -> Vec<Heard> {
    let mut heard = Vec::new();
    for piece in sound.chunks(800) {
        heard.extend(hearer.take(piece).expect("it goes on"));
    }
    let said = heard.into_iter().filter_map(|noted| match noted {
        HearingEvent::Utterance(verdict) => Some(Heard::of(verdict)),
        _ => None,
    });
    said.collect()
}

/// The surest of it.
pub fn first(hearer: &mut Recognizer, sound: &[i16]) -> Option<Heard> {
    all(hearer, sound).into_iter().max_by(|one, other| one.score.total_cmp(&other.score))
}
