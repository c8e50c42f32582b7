//! The recognizer with an acoustic model: the system's speech library, loaded at first use.
//!
//! Each utterance is searched up to three times. The first search uses a grammar and a dictionary of
//! the active phrases. The second allows any sounds of the language, to tell commands from other talk.
//! The third, for phrases that need the attention word, also allows talk about the word and words that
//! sound like it.
//!
//! [`AcousticModel`] scores the model's states once for all searches, which is nearly all of the work.
//! The library computes the cepstra and searches.

mod sys;

use std::collections::BTreeMap;
use std::io::Write as _;
use std::os::fd::{AsRawFd, OwnedFd};
use std::path::Path;
use std::sync::Arc;

use lantern_speech::{AcousticModel, Evidence, Grammar, Utterance, confusable_words, weigh};
use rustix::fs::MemfdFlags;

use self::sys::{CepstraFrontEnd, Decoder, DecoderSearch, SphinxLibrary};
use crate::AudioError;

/// Where Debian's package has the model.
const MODEL: &str = "/usr/share/pocketsphinx/model/en-us";

/// So far above the room, in decibels, a word can be told from one that sounds like it.
const NEIGHBOURS_TOLD: f32 = 25.0;

/// What was understood, and what speaks for it.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct SphinxResult {
    pub words: String,
    pub evidence: Evidence,
}

/// The recogniser, listening for a grammar.
#[derive(Debug)]
pub(super) struct SphinxRecognizer {
    speech: Arc<SphinxLibrary>,
    /// The whole pronunciation dictionary.
    dictionary: Arc<str>,
    grammar: Grammar,
    /// What sounds like a word that calls us, by that word.
    near: BTreeMap<String, Vec<String>>,
    /// The recogniser's own dictionary, and what was made with it.
    pronunciations: String,
    decoder: Option<Decoder>,
    model: AcousticModel,
    /// Opened with the first decoder.
    front: Option<CepstraFrontEnd>,
}

impl SphinxRecognizer {
    /// Loads the library and looks for its model.
    pub(super) fn open() -> Result<SphinxRecognizer, AudioError> {
        let speech = SphinxLibrary::load()?;
        let missing = |_| AudioError::NoSpeechModel { folder: MODEL };
        let read = |name: &str| std::fs::read(Path::new(MODEL).join(name)).map_err(missing);
        let path = Path::new(MODEL).join("cmudict-en-us.dict");
        let dictionary = std::fs::read_to_string(path).map_err(missing)?;
        let [means, variances, weights, sounds] =
            ["means", "variances", "sendump", "mdef"].map(|name| read(&format!("en-us/{name}")));
        let model = AcousticModel::parse(&means?, &variances?, &weights?, &sounds?)?;
        Ok(SphinxRecognizer {
            speech,
            dictionary: dictionary.into(),
            grammar: Grammar::default(),
            near: BTreeMap::new(),
            pronunciations: String::new(),
            decoder: None,
            model,
            front: None,
        })
    }

    /// Listens for this from now on.
    pub(super) fn listen_for(&mut self, grammar: Grammar) -> Result<(), AudioError> {
        let grammar = self.beside_near_words(grammar);
        if self.grammar == grammar {
            return Ok(());
        }
        self.grammar = grammar;
        let grammar = &self.grammar;
        if grammar.is_empty() {
            self.decoder = None;
            return Ok(());
        }
        let pronunciations = grammar.pronunciations(&self.dictionary);
        if pronunciations != self.pronunciations || self.decoder.is_none() {
            let decoder = self.open_decoder(&pronunciations)?;
            if self.front.is_none() {
                self.front = decoder.front();
            }
            self.decoder = Some(decoder);
            self.pronunciations = pronunciations;
        }
        let searches = [
            (DecoderSearch::Phrases, Some(self.grammar.text())),
            (DecoderSearch::BackgroundTalk, self.grammar.talk()),
            (DecoderSearch::NearTalk, self.grammar.near_talk()),
        ];
        let mut searches = searches.into_iter().filter_map(|(search, text)| Some((search, text?)));
        let taken = self
            .decoder
            .as_mut()
            .is_some_and(|decoder| searches.all(|(search, text)| decoder.learn(search, &text)));
        if taken { Ok(()) } else { Err(AudioError::SpeechRefused { what: "the phrases" }) }
    }

    /// The grammar that knows what sounds like its attention word.
    fn beside_near_words(&mut self, grammar: Grammar) -> Grammar {
        for word in grammar.attention() {
            if !self.near.contains_key(word) {
                self.near.insert(word.clone(), confusable_words(&self.dictionary, word));
            }
        }
        grammar.beside(|word| self.near.get(word).map_or(&[], Vec::as_slice))
    }

    fn open_decoder(&self, pronunciations: &str) -> Result<Decoder, AudioError> {
        let refused = AudioError::SpeechRefused { what: "its model" };
        let Some((file, path)) = in_memory(pronunciations) else { return Err(refused) };
        let model = format!("{MODEL}/en-us");
        let settings = [
            "-hmm",
            &model,
            "-dict",
            &path,
            "-logfn",
            "/dev/null",
            "-compallsen",
            "yes",
            "-allphone_ci",
            "yes",
        ];
        let decoder = Decoder::open(&self.speech, &settings);
        drop(file);
        let Some(mut decoder) = decoder else { return Err(refused) };
        if !decoder.learn_sounds() {
            return Err(AudioError::SpeechRefused { what: "to listen for any sounds" });
        }
        Ok(decoder)
    }

    /// What of the grammar an utterance is most like, if it is like any.
    pub(super) fn hear(&mut self, utterance: &Utterance) -> Option<SphinxResult> {
        let (decoder, front) = (self.decoder.as_mut()?, self.front.as_mut()?);
        let scores = self.model.scores(&front.cepstra(&utterance.sound));
        let said = decoder.explain(DecoderSearch::Phrases, &scores);
        let grammar = &self.grammar;
        let spoken: Vec<&str> = said.iter().filter_map(|piece| grammar.word(&piece.what)).collect();
        if spoken.is_empty() {
            return None;
        }
        let is_word = |what: &str| grammar.word(what).is_some();
        // Most talk is known by that, and costs no second look.
        let little = Evidence::of_little(&said, utterance.speech_frames, is_word);
        let mut evidence = little.unwrap_or_else(|| {
            let any = decoder.explain(DecoderSearch::Pronunciations, &scores);
            weigh(&said, &any, utterance.speech_frames, is_word)
        });
        if evidence.counts() && grammar.calls(&spoken) {
            evidence = evidence
                .beside_talk(&said, &decoder.explain(DecoderSearch::BackgroundTalk, &scores));
            if utterance.above_noise > NEIGHBOURS_TOLD && grammar.has_neighbours() {
                let talk = decoder.explain(DecoderSearch::NearTalk, &scores);
                evidence = evidence.beside_talk(&said, &talk);
            }
        }
        Some(SphinxResult { words: spoken.join(" "), evidence })
    }
}

/// A text as a file that is on no disk, and its path; it is gone with the first.
fn in_memory(text: &str) -> Option<(std::fs::File, String)> {
    let file: OwnedFd = rustix::fs::memfd_create("lantern-words", MemfdFlags::CLOEXEC).ok()?;
    let path = format!("/proc/self/fd/{}", file.as_raw_fd());
    let mut file = std::fs::File::from(file);
    file.write_all(text.as_bytes()).ok()?;
    Some((file, path))
}
