//! Why something that was asked of the machine was not done, and what mends it.

use std::io::ErrorKind;
use std::path::PathBuf;

use pulseaudio::protocol::ProtocolError;

use crate::connections::LinkError;
use crate::programs::LaunchError;

/// Why a service did not do what it was asked.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ServiceError {
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
    UnknownModel(#[from] lantern_sense::UnknownModel),
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
    /// There is no session bus.
    #[error("there is no session bus")]
    NoBus,
    /// No notification service runs.
    #[error("no notification service runs in this session")]
    NoNotices,
    /// There is no accessibility bus.
    #[error("the accessibility bus cannot be reached")]
    NoAccessibility,
    /// The program tells nothing of its menus and buttons.
    #[error("{program} tells nothing of its menus and buttons")]
    Silent {
        /// The program in front.
        program: String,
    },
    /// There is no such entry.
    #[error("{program} has no `{entry}`{among}")]
    NoEntry {
        /// The program in front.
        program: String,
        /// What was looked for.
        entry: String,
        /// What is there instead, as words to add.
        among: String,
    },
    /// An entry is there, but cannot be chosen now.
    #[error("`{entry}` cannot be chosen now")]
    Greyed {
        /// The entry.
        entry: String,
    },
    /// Nothing there can be pressed.
    #[error("{program} shows nothing that can be pressed")]
    NothingToPress {
        /// The program in front.
        program: String,
    },
    /// So many numbers are not on the screen.
    #[error("{program} has no number {number}; the last is {most}")]
    NoNumber {
        /// The program in front.
        program: String,
        /// What was asked for.
        number: usize,
        /// How many there are.
        most: usize,
    },
    /// The bus refused, or broke off.
    #[error("{0}")]
    Bus(#[from] zbus::Error),
    /// A program cannot be started.
    #[error(transparent)]
    Launch(#[from] LaunchError),
    /// A device did not do it.
    #[error(transparent)]
    ConnectionState(#[from] LinkError),
    /// It was stopped on the way.
    #[error("stopped")]
    Stopped,
}

impl ServiceError {
    /// What the person can do about it, if anything is known.
    pub fn hint(&self) -> Option<&'static str> {
        Some(match self {
            ServiceError::NoSoundServer => {
                "install and start a sound server (pipewire-pulse or pulseaudio)"
            }
            ServiceError::NoOutput => "plug in or switch on an output",
            ServiceError::NotASound { .. } => "WAV, FLAC, Ogg Vorbis and MP3 can be played",
            ServiceError::NoSpeech => "install espeak-ng or speech-dispatcher",
            ServiceError::NoMicrophone { .. } => {
                "plug one in, or name another: `pactl list short sources` lists them"
            }
            ServiceError::NoSpeechLibrary(_) => {
                "install libpocketsphinx3 (its versions 3 are known, others are not)"
            }
            ServiceError::NoSpeechModel { .. } => "install pocketsphinx-en-us",
            ServiceError::UnknownModel(_) => "install Debian's pocketsphinx-en-us anew",
            ServiceError::NoBus => {
                "start lantern in the session, where DBUS_SESSION_BUS_ADDRESS is set"
            }
            ServiceError::NoNotices => "install and start a notification daemon (dunst, for one)",
            ServiceError::NoAccessibility => "install at-spi2-core",
            ServiceError::Silent { .. } => {
                "start the program after at-spi2-core is installed, with NO_AT_BRIDGE unset"
            }
            ServiceError::Sound(_)
            | ServiceError::SoundFile { .. }
            | ServiceError::Speech { .. }
            | ServiceError::SpeechRefused { .. }
            | ServiceError::Recogniser { .. }
            | ServiceError::NoEntry { .. }
            | ServiceError::Greyed { .. }
            | ServiceError::NothingToPress { .. }
            | ServiceError::NoNumber { .. }
            | ServiceError::Bus(_)
            | ServiceError::Launch(_)
            | ServiceError::ConnectionState(_)
            | ServiceError::Fault(_)
            | ServiceError::Stopped => return None,
        })
    }

    /// Whether the connection itself is at fault, so that a new one may do.
    pub fn is_broken(&self) -> bool {
        match self {
            ServiceError::Sound(ProtocolError::Io(error)) => {
                error.kind() != ErrorKind::InvalidInput
            }
            ServiceError::Sound(ProtocolError::ServerError(_)) => false,
            ServiceError::Sound(_) => true,
            ServiceError::Bus(error) => matches!(error, zbus::Error::InputOutput(_)),
            _ => false,
        }
    }

    /// Everything in one line.
    pub fn line(&self) -> String {
        if let ServiceError::ConnectionState(error) = self {
            return error.line();
        }
        match self.hint() {
            Some(hint) => format!("{self}; {hint}"),
            None => self.to_string(),
        }
    }
}
