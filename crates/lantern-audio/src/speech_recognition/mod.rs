//! Ears: what is said becomes words. Sound is cut into utterances and recognised on a thread of its
//! own; only words, a score and times leave it. No sound is kept.

mod active_phrases;
mod audio_source;
mod external_recognizer;
mod external_result;
mod recognizer;
mod speech_command;
mod sphinx;
mod thread;
mod trained_phrases;

pub use audio_source::AudioSource;
pub use recognizer::{HearingEvent, Recognizer};
pub use thread::{EventSink, SpeechThread};
pub use trained_phrases::{read_taught, taught_path, write_taught};
