//! The mathematics of phrases: how they are written, which of them was said, and how alike two of
//! them sound.
//!
//! Owns the notation ([`Phrase`]), matching words against many phrases at once ([`PhraseIndex`]) and
//! likeness over sounds ([`likeness`], [`Pronunciations`]). It hears nothing and reads no device; the
//! checker asks it about files, the engine about what was heard.

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
mod shapes;
mod trained_phrases;

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
pub use phrase_index::{PhraseIndex, RecognizedPhrase, heard_words};
pub use pronunciation::{Phoneme, Pronunciations};
pub use shapes::{
    AlikeShapes, EvidenceVector, PATH_WORDS, RankedShape, RankedShapes, Recognition, SIGNS,
    ShapeIndex, examples_of, frame_of, is_drawing, size_of_drawing, strokes_of_words,
};
pub use trained_phrases::{
    ConfusableTraining, Example, TrainedMatch, TrainedPhrase, TrainedPhrases, odd_one,
};
