//! From sound to what was said: utterances are cut out of the stream, and each is recognised once.
//!
//! An utterance is recognised during the pause that ends it, so that the result is known when the
//! pause is over. If the person continues to speak, that work is discarded.

use std::time::Duration;

use lantern_model::Listening;
use lantern_speech::{
    EndpointSettings, Endpointer, Example, Loudness, TrainedPhrase, Utterance, UtteranceResult,
    VadEvent, features,
};

use super::active_phrases::ActivePhrases;
use super::sphinx::SphinxRecognizer;
use super::trained_phrases::TrainedRecognizer;
use crate::AudioError;

/// What a recognizer reports.
#[derive(Debug, Clone, PartialEq)]
pub enum HearingEvent {
    /// Sound was taken in.
    Passed,
    /// Speech begins.
    Began,
    /// Something was said.
    Utterance(UtteranceResult),
    /// Continuous speech; commands stand alone between pauses.
    BackgroundTalk,
}

/// Hears phrases in a stream of sound.
#[derive(Debug)]
pub struct Recognizer {
    endpointer: Endpointer,
    /// Missing where the system has no speech library; then only what was taught is heard.
    model: Option<SphinxRecognizer>,
    taught: TrainedRecognizer,
    heeded: ActivePhrases,
    /// The phrases to recognise after the present speech.
    next: Option<Listening>,
    /// What was made of the utterance that may be over.
    pending: Option<UtteranceResult>,
    /// What the last utterance was like.
    last: Option<Example>,
    speaking: bool,
}

impl Recognizer {
    /// A hearer that listens for nothing yet.
    ///
    /// # Errors
    /// When the system has no speech library, and nothing was taught.
    pub fn open() -> Result<Recognizer, AudioError> {
        let taught = TrainedRecognizer::open();
        let model = match SphinxRecognizer::open() {
            Ok(model) => Some(model),
            Err(error) if taught.is_empty() => return Err(error),
            Err(_) => None,
        };
        Ok(Recognizer::of(model, taught))
    }

    /// A hearer that has the model only.
    ///
    /// # Errors
    /// When the system has no speech library.
    pub fn by_model() -> Result<Recognizer, AudioError> {
        Ok(Recognizer::of(Some(SphinxRecognizer::open()?), TrainedRecognizer::default()))
    }

    /// A hearer that knows only what was taught.
    pub fn by_teaching(phrases: &[TrainedPhrase]) -> Recognizer {
        Recognizer::of(None, TrainedRecognizer::of(phrases))
    }

    fn of(model: Option<SphinxRecognizer>, taught: TrainedRecognizer) -> Recognizer {
        Recognizer {
            endpointer: Endpointer::new(EndpointSettings::default()),
            model,
            taught,
            heeded: ActivePhrases::default(),
            next: None,
            pending: None,
            last: None,
            speaking: false,
        }
    }

    /// What the last utterance was like.
    pub fn last(&self) -> Option<&Example> {
        self.last.as_ref()
    }

    /// Listens for this from the next utterance on; one that is being said is heard as before.
    ///
    /// # Errors
    /// When the recogniser does not take it.
    pub fn listen_for(&mut self, listening: Listening) -> Result<(), AudioError> {
        self.next = Some(listening);
        if self.speaking { Ok(()) } else { self.turn() }
    }

    fn turn(&mut self) -> Result<(), AudioError> {
        let Some(listening) = self.next.take() else { return Ok(()) };
        let settings = EndpointSettings {
            pause: listening.end_of_speech_pause,
            ..EndpointSettings::default()
        };
        self.endpointer.set(settings);
        self.heeded = ActivePhrases::new(&listening);
        match &mut self.model {
            Some(model) => model.listen_for(self.heeded.grammar()),
            None => Ok(()),
        }
    }

    /// Forgets what was being said and how the room sounded.
    pub fn forget(&mut self) {
        self.endpointer = Endpointer::new(EndpointSettings::default());
        self.pending = None;
        self.speaking = false;
    }

    /// How much sound was taken in.
    pub fn time(&self) -> Duration {
        self.endpointer.time()
    }

    /// How loud it is now.
    pub fn loudness(&self) -> Loudness {
        self.endpointer.loudness()
    }

    /// Takes in sound: 16,000 samples a second, one channel.
    ///
    /// # Errors
    /// When the recogniser does not take what to listen for next.
    pub fn take(&mut self, sound: &[i16]) -> Result<Vec<HearingEvent>, AudioError> {
        let signs = self.endpointer.take(sound);
        let mut noted = self.note(signs)?;
        noted.push(HearingEvent::Passed);
        Ok(noted)
    }

    /// The stream is over.
    ///
    /// # Errors
    /// When the recogniser does not take what to listen for next.
    pub fn finish(&mut self) -> Result<Vec<HearingEvent>, AudioError> {
        let signs = self.endpointer.finish();
        self.note(signs)
    }

    fn note(&mut self, signs: Vec<VadEvent>) -> Result<Vec<HearingEvent>, AudioError> {
        let mut noted = Vec::new();
        for sign in signs {
            match sign {
                VadEvent::Began => {
                    self.speaking = true;
                    noted.push(HearingEvent::Began);
                }
                VadEvent::Resting(utterance) => {
                    self.pending = Some(self.recognise(utterance));
                }
                VadEvent::WentOn => self.pending = None,
                VadEvent::Ended => {
                    noted.extend(self.pending.take().map(HearingEvent::Utterance));
                    self.speaking = false;
                    self.turn()?;
                }
                VadEvent::BackgroundTalk => {
                    self.pending = None;
                    self.speaking = false;
                    noted.push(HearingEvent::BackgroundTalk);
                    self.turn()?;
                }
            }
        }
        Ok(noted)
    }

    /// Asks both recognisers; the surer one is believed.
    fn recognise(&mut self, utterance: Utterance) -> UtteranceResult {
        // Something may have been taught meanwhile.
        self.taught.refresh();
        let sound = features(utterance.speech());
        let refused = self.taught.refuses(&sound);
        let heeded = |words: &str| self.heeded.counts(words);
        let taught = self.taught.hear(&sound, utterance.above_noise, heeded);
        self.last = Some(Example::new(utterance.above_noise, &sound));
        // What was taught has a floor of its own under which the room disappears.
        let utterance = utterance.quieted();
        let model = self.model.as_mut().and_then(|model| model.hear(&utterance));
        let model = model.map(|said| (said.evidence.score(), said.evidence.counts(), said.words));
        let taught = taught.map(|said| (said.score, said.score >= 0.5, said.words));
        let surer = [model, taught].into_iter().flatten();
        let surer = surer.max_by(|one, other| one.0.total_cmp(&other.0));
        let (score, counts, words) = surer.unwrap_or((0.0, false, String::new()));
        UtteranceResult {
            words,
            score,
            counts: counts && !refused,
            refused,
            from: utterance.from,
            until: utterance.until,
            above_noise: utterance.above_noise,
        }
    }
}
