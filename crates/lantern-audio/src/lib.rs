//! Sound: the sound server, sound files, speech synthesis and speech recognition.
//!
//! Owns the conversation with the sound server ([`SoundServer`]), the microphone ([`AudioSource`]) and the
//! thread of speech recognition ([`SpeechThread`]). What a phrase is, and how alike two sound, is decided
//! in `lantern-speech`.

mod error;
mod playing;
mod sound;
mod sound_file;
mod speech_recognition;
mod synthesis;

pub use error::AudioError;
pub use playing::play;
pub use sound::SoundServer;
pub use speech_recognition::{
    AudioSource, EventSink, HearingEvent, Recognizer, SpeechThread, read_taught, taught_path,
    write_taught,
};
pub use synthesis::{program as speech_program, say};
