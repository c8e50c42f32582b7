//! Ears: what is said becomes words. Sound is cut into utterances and recognised on a thread of its
//! own; only words, a score and times leave it. No sound is kept.

mod hearer;
mod heeded;
mod outside;
mod said;
mod sources;
mod sphinx;
mod taught;
mod thread;

pub use hearer::{HearingEvent, Recognizer, UtteranceResult};
pub use sources::AudioSource;
pub use taught::{read_taught, taught_path, write_taught};
pub use thread::LastUtterance;
pub(crate) use thread::{EventSink, SpeechThread};
