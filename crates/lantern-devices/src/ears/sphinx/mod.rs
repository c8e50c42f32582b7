//! The recogniser with a model: the system's speech library, loaded when it is first needed.
//!
//! It listens for exactly the phrases that count now, by a grammar and a dictionary made from them; a
//! second time, for any sounds of the language, to tell commands from other talk; and what would count then
//! a third time, for talk that speaks of what the attention word names.

mod sys;

use std::io::Write as _;
use std::os::fd::{AsRawFd, OwnedFd};
use std::path::Path;
use std::sync::Arc;

use lantern_sense::{Evidence, Grammar, Utterance, weigh};
use rustix::fs::MemfdFlags;

use self::sys::{Decoder, Search, Speech};
use crate::ServiceError;

/// Where Debian's package has the model.
const MODEL: &str = "/usr/share/pocketsphinx/model/en-us";

/// What was understood, and what speaks for it.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Understood {
    pub words: String,
    pub evidence: Evidence,
}

/// The recogniser, listening for a grammar.
#[derive(Debug)]
pub(super) struct ModelEar {
    speech: Arc<Speech>,
    /// The whole pronunciation dictionary.
    dictionary: Arc<str>,
    grammar: Grammar,
    /// The recogniser's own dictionary, and what was made with it.
    pronunciations: String,
    decoders: Option<(Decoder, Decoder)>,
}

impl ModelEar {
    /// Loads the library and looks for its model.
    pub(super) fn open() -> Result<ModelEar, ServiceError> {
        let speech = Speech::load()?;
        let missing = |_| ServiceError::NoSpeechModel { folder: MODEL };
        let path = Path::new(MODEL).join("cmudict-en-us.dict");
        let dictionary = std::fs::read_to_string(path).map_err(missing)?;
        Ok(ModelEar {
            speech,
            dictionary: dictionary.into(),
            grammar: Grammar::default(),
            pronunciations: String::new(),
            decoders: None,
        })
    }

    /// Listens for this from now on.
    pub(super) fn listen_for(&mut self, grammar: &Grammar) -> Result<(), ServiceError> {
        if self.grammar == *grammar {
            return Ok(());
        }
        self.grammar = grammar.clone();
        if grammar.is_empty() {
            self.decoders = None;
            return Ok(());
        }
        let pronunciations = grammar.pronunciations(&self.dictionary);
        if pronunciations != self.pronunciations || self.decoders.is_none() {
            self.decoders = Some(self.open_decoders(&pronunciations)?);
            self.pronunciations = pronunciations;
        }
        let taken = self.decoders.as_mut().is_some_and(|(words, _)| {
            let talk = grammar.talk();
            words.learn(Search::Phrases, &grammar.text())
                && talk.is_none_or(|talk| words.learn(Search::Talk, &talk))
        });
        if taken { Ok(()) } else { Err(ServiceError::SpeechRefused { what: "the phrases" }) }
    }

    fn open_decoders(&self, pronunciations: &str) -> Result<(Decoder, Decoder), ServiceError> {
        let refused = ServiceError::SpeechRefused { what: "its model" };
        let Some((file, path)) = in_memory(pronunciations) else { return Err(refused) };
        let model = format!("{MODEL}/en-us");
        let both = [
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
        let open = || Decoder::open(&self.speech, &both);
        let decoders = open().zip(open());
        drop(file);
        let Some((words, mut sounds)) = decoders else { return Err(refused) };
        if !sounds.learn_sounds() {
            return Err(ServiceError::SpeechRefused { what: "to listen for any sounds" });
        }
        Ok((words, sounds))
    }

    /// What of the grammar an utterance is most like, if it is like any.
    pub(super) fn hear(&mut self, utterance: &Utterance) -> Option<Understood> {
        let (words, sounds) = self.decoders.as_mut()?;
        let said = words.decode(Search::Phrases, &utterance.sound);
        let grammar = &self.grammar;
        let spoken: Vec<&str> = said.iter().filter_map(|piece| grammar.word(&piece.what)).collect();
        if spoken.is_empty() {
            return None;
        }
        let is_word = |what: &str| grammar.word(what).is_some();
        // Most talk is known by that, and costs no second look.
        let little = Evidence::of_little(&said, utterance.speech_frames, is_word);
        let mut evidence = little.unwrap_or_else(|| {
            let any = sounds.decode(Search::Sounds, &utterance.sound);
            weigh(&said, &any, utterance.speech_frames, is_word)
        });
        if evidence.counts() && grammar.calls(&spoken) {
            evidence = evidence.beside_talk(&said, &words.decode(Search::Talk, &utterance.sound));
        }
        Some(Understood { words: spoken.join(" "), evidence })
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
