//! Speech without devices: phrases and how alike they sound, voice activity, acoustic evidence.
//!
//! Owns the notation ([`Phrase`]), matching words against many phrases at once ([`PhraseIndex`]),
//! likeness over sounds ([`likeness`], [`Pronunciations`]), the [`Endpointer`] and trained phrases. It
//! opens no microphone and reads no file; the checker asks it about phrases of a file, the engine about
//! recognised words, the recogniser about samples.

mod acoustics;
mod cepstra;
mod confusable;
mod dtw;
mod endpoint;
mod evidence;
mod grammar;
mod likeness;
mod matching;
mod noise_reduction;
mod notation;
mod numbers;
mod phrase_index;
mod pronunciation;
mod spoken_words;
mod trained_phrases;
mod utterance_result;

pub use acoustics::{AcousticModel, CEPSTRUM, Cepstrum, Scores, UnknownModel};
pub use cepstra::{FEATURES, Features, features};
pub use confusable::confusable_words;
pub use dtw::warped_distance;
pub use endpoint::{EndpointSettings, Endpointer, FRAME, Loudness, RATE, Utterance, VadEvent};
pub use evidence::{Evidence, ExplainedSpan, weigh};
pub use grammar::{AttentionPolicy, Grammar};
pub use likeness::{ConfusablePair, PhonemeSequence, alike_pairs, likeness};
pub use matching::MatchedPart;
pub use notation::{Phrase, PhraseError, PhrasePiece, Slot, WordList, word_lists};
pub use numbers::{number_at, spoken_number};
pub use phrase_index::{PhraseIndex, RecognizedPhrase};
pub use pronunciation::{Phoneme, Pronunciations};
pub use spoken_words::heard_words;
pub use trained_phrases::{
    ConfusableTraining, Example, TrainedMatch, TrainedPhrase, TrainedPhrases, odd_one,
};
pub use utterance_result::{LastUtterance, UtteranceResult};
