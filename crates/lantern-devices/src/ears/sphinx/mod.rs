//! The recogniser with a model: the system's speech library, loaded when it is first needed.
//!
//! It listens for exactly the phrases that count now, by a grammar and a dictionary made from them; a
//! second time, for any sounds of the language, to tell commands from other talk; and what would count then
//! a third time, for talk that speaks of what the attention word names, or of what sounds like it.
//!
//! To hold a sound against the model is nearly all of the work. It is done once: the library writes down how
//! well every state of the model fits, and the second and third look read that.

mod scores;
mod sys;

use std::collections::BTreeMap;
use std::io::{ErrorKind, Write as _};
use std::os::fd::{AsRawFd, OwnedFd};
use std::path::Path;
use std::sync::Arc;

use lantern_sense::{Evidence, Explained, Grammar, Utterance, near_words, weigh};
use rustix::fs::MemfdFlags;

use self::scores::ScoreFolder;
use self::sys::{Decoder, Search, Speech};
use crate::ServiceError;

/// Where Debian's package has the model.
const MODEL: &str = "/usr/share/pocketsphinx/model/en-us";

/// So far above the room, in decibels, a word can be told from one that sounds like it.
const NEIGHBOURS_TOLD: f32 = 25.0;

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
    /// What sounds like a word that calls us, by that word.
    near: BTreeMap<String, Vec<String>>,
    /// The recogniser's own dictionary, and what was made with it.
    pronunciations: String,
    looks: Option<Looks>,
}

/// What looks at an utterance.
#[derive(Debug)]
struct Looks {
    /// Is given the sound, and listens for the phrases.
    first: Decoder,
    /// Where that one writes its scores.
    folder: ScoreFolder,
    /// Reads them.
    further: Decoder,
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
            near: BTreeMap::new(),
            pronunciations: String::new(),
            looks: None,
        })
    }

    /// Listens for this from now on.
    pub(super) fn listen_for(&mut self, grammar: Grammar) -> Result<(), ServiceError> {
        let grammar = self.beside_near_words(grammar);
        if self.grammar == grammar {
            return Ok(());
        }
        self.grammar = grammar;
        let grammar = &self.grammar;
        if grammar.is_empty() {
            self.looks = None;
            return Ok(());
        }
        let pronunciations = grammar.pronunciations(&self.dictionary);
        if pronunciations != self.pronunciations || self.looks.is_none() {
            self.looks = Some(self.open_looks(&pronunciations)?);
            self.pronunciations = pronunciations;
        }
        let further = [(Search::Talk, grammar.talk()), (Search::NearTalk, grammar.near_talk())];
        let taken = self.looks.as_mut().is_some_and(|looks| {
            let mut further =
                further.into_iter().filter_map(|(search, text)| Some((search, text?)));
            looks.first.learn(Search::Phrases, &grammar.text())
                && further.all(|(search, text)| looks.further.learn(search, &text))
        });
        if taken { Ok(()) } else { Err(ServiceError::SpeechRefused { what: "the phrases" }) }
    }

    /// The grammar that knows what sounds like its attention word.
    fn beside_near_words(&mut self, grammar: Grammar) -> Grammar {
        for word in grammar.attention() {
            if !self.near.contains_key(word) {
                self.near.insert(word.clone(), near_words(&self.dictionary, word));
            }
        }
        grammar.beside(|word| self.near.get(word).map_or(&[], Vec::as_slice))
    }

    fn open_looks(&self, pronunciations: &str) -> Result<Looks, ServiceError> {
        let refused = ServiceError::SpeechRefused { what: "its model" };
        let Some((file, path)) = in_memory(pronunciations) else { return Err(refused) };
        let folder = ScoreFolder::new().map_err(ServiceError::NoScores)?;
        let model = format!("{MODEL}/en-us");
        // Every look has the scores of all states, or they could not be compared.
        let all = ["-hmm", &model, "-dict", &path, "-logfn", "/dev/null", "-compallsen", "yes"];
        let open = |others: [&str; 2]| Decoder::open(&self.speech, &[&all[..], &others].concat());
        let looks = open(["-senlogdir", folder.path()]).zip(open(["-allphone_ci", "yes"]));
        drop(file);
        let Some((first, mut further)) = looks else { return Err(refused) };
        if !further.learn_sounds() {
            return Err(ServiceError::SpeechRefused { what: "to listen for any sounds" });
        }
        Ok(Looks { first, folder, further })
    }

    /// What of the grammar an utterance is most like, if it is like any.
    ///
    /// # Errors
    /// When there is no room for what the looks share.
    pub(super) fn hear(
        &mut self,
        utterance: &Utterance,
    ) -> Result<Option<Understood>, ServiceError> {
        let Some(looks) = &mut self.looks else { return Ok(None) };
        let said = looks.first.explain(Search::Phrases, &utterance.sound);
        let scores = looks.folder.take().map_err(ServiceError::NoScores)?;
        let grammar = &self.grammar;
        let spoken: Vec<&str> = said.iter().filter_map(|piece| grammar.word(&piece.what)).collect();
        if spoken.is_empty() {
            return Ok(None);
        }
        let is_word = |what: &str| grammar.word(what).is_some();
        let mut further = |search| -> Result<Vec<Explained>, ServiceError> {
            let scores = scores.read_again().map_err(ServiceError::NoScores)?;
            let pieces = looks.further.explain_scores(search, scores);
            // Less than all of the sound would look better than it is.
            let whole = looks.further.frames() == looks.first.frames();
            if whole {
                Ok(pieces)
            } else {
                Err(ServiceError::NoScores(ErrorKind::StorageFull.into()))
            }
        };
        // Most talk is known by that, and costs no second look.
        let little = Evidence::of_little(&said, utterance.speech_frames, is_word);
        let mut evidence = match little {
            Some(little) => little,
            None => weigh(&said, &further(Search::Sounds)?, utterance.speech_frames, is_word),
        };
        if evidence.counts() && grammar.calls(&spoken) {
            evidence = evidence.beside_talk(&said, &further(Search::Talk)?);
            if utterance.above_noise > NEIGHBOURS_TOLD && grammar.has_neighbours() {
                evidence = evidence.beside_talk(&said, &further(Search::NearTalk)?);
            }
        }
        Ok(Some(Understood { words: spoken.join(" "), evidence }))
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
