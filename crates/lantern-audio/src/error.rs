//! Why sound or speech does not work.

use std::io::ErrorKind;
use std::path::PathBuf;

use lantern_system::ConnectionError;
use pulseaudio::protocol::ProtocolError;

/// Why sound or speech does not work.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum AudioError {
    /// No sound server answers.
    #[error("no sound server answers")]
    NoSoundServer,
    /// The sound server has nothing to play on.
    #[error("the sound server has no output")]
    NoOutput,
    /// The sound server refused, or broke off.
    #[error("the sound server: {0}")]
    Sound(#[from] ProtocolError),
    /// A sound's file cannot be read.
    #[error("cannot read {path}: {source}")]
    SoundFile {
        /// The file.
        path: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// A file holds no sound that we know.
    #[error("{path} is no sound that can be played: {source}")]
    NotASound {
        /// The file.
        path: PathBuf,
        /// Why.
        source: Box<symphonia::core::errors::Error>,
    },
    /// There is no speech program.
    #[error("no speech program is installed")]
    NoSpeech,
    /// The speech program failed.
    #[error("`{program}` could not speak: {why}")]
    Speech {
        /// Its name.
        program: &'static str,
        /// Why.
        why: String,
    },
    /// The sound server has nothing to listen with.
    #[error("the sound server has no microphone{named}")]
    NoMicrophone {
        /// What it was to be called, as words to add.
        named: String,
    },
    /// The speech library is not there.
    #[error("the speech library cannot be loaded: {0}")]
    NoSpeechLibrary(#[from] libloading::Error),
    /// The speech library's model is not there.
    #[error("the speech library has no model in {folder}")]
    NoSpeechModel {
        /// Where it was looked for.
        folder: &'static str,
    },
    /// The model is none that we know.
    #[error("the speech library's model: {0}")]
    UnknownModel(#[from] lantern_speech::UnknownModel),
    /// A program that was to hear does not.
    #[error("`{line}` does not hear: {why}")]
    Recogniser {
        /// Its command line.
        line: String,
        /// Why.
        why: String,
    },
    /// The speech library did not take what it was given.
    #[error("the speech library refused {what}")]
    SpeechRefused {
        /// What that was.
        what: &'static str,
    },
    /// The program itself has a fault, which a panic showed.
    #[error("a fault of the program itself: {0}; please report it")]
    Fault(String),
    /// It was stopped on the way.
    #[error("stopped")]
    Stopped,
}

impl AudioError {
    /// What the person can do about it, if anything is known.
    pub fn hint(&self) -> Option<&'static str> {
        Some(match self {
            AudioError::NoSoundServer => {
                "install and start a sound server (pipewire-pulse or pulseaudio)"
            }
            AudioError::NoOutput => "plug in or switch on an output",
            AudioError::NotASound { .. } => "WAV, FLAC, Ogg Vorbis and MP3 can be played",
            AudioError::NoSpeech => "install espeak-ng or speech-dispatcher",
            AudioError::NoMicrophone { .. } => {
                "plug one in, or name another: `pactl list short sources` lists them"
            }
            AudioError::NoSpeechLibrary(_) => {
                "install libpocketsphinx3 (its versions 3 are known, others are not)"
            }
            AudioError::NoSpeechModel { .. } => "install pocketsphinx-en-us",
            AudioError::UnknownModel(_) => "install Debian's pocketsphinx-en-us anew",
            _ => return None,
        })
    }

    /// Everything in one line.
    pub fn line(&self) -> String {
        match self.hint() {
            Some(hint) => format!("{self}; {hint}"),
            None => self.to_string(),
        }
    }
}

impl ConnectionError for AudioError {
    fn is_broken(&self) -> bool {
        match self {
            AudioError::Sound(ProtocolError::Io(error)) => error.kind() != ErrorKind::InvalidInput,
            AudioError::Sound(ProtocolError::ServerError(_)) => false,
            AudioError::Sound(_) => true,
            _ => false,
        }
    }
}
