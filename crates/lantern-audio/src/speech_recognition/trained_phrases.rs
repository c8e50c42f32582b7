//! The recogniser without a model: phrases the person has taught, kept in a file of the home.
//!
//! The file is JSON, described in the project's page on voice: features of what was said, no sound. It
//! is read again when it has changed.

use std::io;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use lantern_speech::{Features, TrainedMatch, TrainedPhrase, TrainedPhrases};
use serde::{Deserialize, Serialize};

use lantern_system::{home_folder, read_regular_text, write_private};

/// Most bytes of the file: some ten thousand phrases.
const MOST: u64 = 256 << 20;
/// What the file says it is.
const FORMAT: &str = "cold-lantern taught phrases";
/// The version of the file and of its features.
const VERSION: u32 = 1;

/// The file.
#[derive(Serialize, Deserialize)]
struct TrainedFile {
    format: String,
    version: u32,
    phrases: Vec<TrainedPhrase>,
}

/// Where taught phrases are kept.
pub fn taught_path() -> Option<PathBuf> {
    Some(home_folder("XDG_DATA_HOME", ".local/share")?.join("cold-lantern/voice.json"))
}

/// The phrases of a file; none if there is no file.
///
/// # Errors
/// When it cannot be read, or is another kind of file.
pub fn read_taught(path: &Path) -> io::Result<Vec<TrainedPhrase>> {
    let text = match read_regular_text(path, MOST) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        other => other?,
    };
    let file: TrainedFile = serde_json::from_str(&text)?;
    if file.format != FORMAT || file.version != VERSION {
        let words = format!("it is no file of taught phrases of version {VERSION}");
        return Err(io::Error::new(io::ErrorKind::InvalidData, words));
    }
    Ok(file.phrases)
}

/// Writes the phrases, the whole file at once.
///
/// # Errors
/// When it cannot be written.
pub fn write_taught(path: &Path, phrases: Vec<TrainedPhrase>) -> io::Result<()> {
    let file = TrainedFile { format: FORMAT.to_owned(), version: VERSION, phrases };
    write_private(path, &serde_json::to_vec(&file)?)
}

/// Hears what was taught.
#[derive(Debug, Default)]
pub(super) struct TrainedRecognizer {
    path: Option<PathBuf>,
    read: Option<SystemTime>,
    book: TrainedPhrases,
}

impl TrainedRecognizer {
    /// A recognizer of the phrases in the user's file.
    pub(super) fn open() -> TrainedRecognizer {
        let mut recognizer =
            TrainedRecognizer { path: taught_path(), ..TrainedRecognizer::default() };
        recognizer.refresh();
        recognizer
    }

    /// A recognizer of these phrases.
    pub(super) fn of(phrases: &[TrainedPhrase]) -> TrainedRecognizer {
        TrainedRecognizer { book: TrainedPhrases::new(phrases), ..TrainedRecognizer::default() }
    }

    /// Reads the file again if it has changed. One that cannot be read teaches nothing.
    pub(super) fn refresh(&mut self) {
        let Some(path) = &self.path else { return };
        let changed = std::fs::metadata(path).and_then(|about| about.modified()).ok();
        if changed != self.read {
            self.read = changed;
            self.book = TrainedPhrases::new(&read_taught(path).unwrap_or_default());
        }
    }

    /// Whether nothing was taught.
    pub(super) fn is_empty(&self) -> bool {
        self.book.is_empty()
    }

    /// Whether the person said that this means nothing.
    pub(super) fn refuses(&self, sound: &[Features]) -> bool {
        self.book.is_refused(sound)
    }

    /// The wanted phrase that an utterance is most like.
    pub(super) fn hear(
        &self,
        sound: &[Features],
        above_noise: f32,
        wanted: impl Fn(&str) -> bool,
    ) -> Option<TrainedMatch> {
        self.book.liken(sound, above_noise, wanted)
    }
}
