//! The mathematics of phrases: how they are written, which of them was said, and how alike two of
//! them sound.
//!
//! Owns the notation ([`Phrase`]), matching words against many phrases at once ([`PhraseBook`]) and
//! likeness over sounds ([`likeness`], [`Pronunciations`]). It hears nothing and reads no device; the
//! checker asks it about files, the engine about what was heard.

mod acoustics;
mod book;
mod cepstra;
mod endpoint;
mod grammar;
mod likeness;
mod matching;
mod near;
mod notation;
mod numbers;
mod quieting;
mod shapes;
mod sounds;
mod taught;
mod verdict;
mod warping;

pub use acoustics::{AcousticModel, CEPSTRUM, Cepstrum, Scores, UnknownModel};
pub use book::{PhraseBook, RecognizedPhrase, heard_words};
pub use cepstra::{FEATURES, Features, features};
pub use endpoint::{EndpointSettings, Endpointer, FRAME, Loudness, RATE, Utterance, VadEvent};
pub use grammar::{AttentionPolicy, Grammar};
pub use likeness::{ConfusablePair, PhonemeSequence, alike_pairs, likeness};
pub use matching::MatchedPart;
pub use near::near_words;
pub use notation::{Phrase, PhraseError, PhrasePiece, Slot, WordList, word_lists};
pub use numbers::{number_at, spoken_number};
pub use shapes::{
    AlikeShapes, EvidenceVector, PATH_WORDS, RankedShape, RankedShapes, Recognition, SIGNS,
    ShapeBook, examples_of, frame_of, is_drawing, size_of_drawing, strokes_of_words,
};
pub use sounds::{Phoneme, Pronunciations};
pub use taught::{
    ConfusableTraining, Example, TrainedMatch, TrainedPhrase, TrainedPhrases, odd_one,
};
pub use verdict::{Evidence, ExplainedSpan, weigh};
pub use warping::warped_distance;
