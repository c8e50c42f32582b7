//! The person's taught phrases, read and written by the commands about speech.

use std::path::PathBuf;

use lantern_audio::{read_taught, taught_path, write_taught};
use lantern_speech::TrainedPhrase;

use crate::failure::Failure;

/// The file of taught phrases, as it was read.
pub struct Taught {
    pub path: PathBuf,
    pub phrases: Vec<TrainedPhrase>,
}

impl Taught {
    /// Reads it; nothing was taught if there is none.
    pub fn open() -> Result<Taught, Failure> {
        let path = taught_path().ok_or(Failure::NoHome)?;
        match read_taught(&path) {
            Ok(phrases) => Ok(Taught { path, phrases }),
            Err(source) => Err(Failure::Read { path, source }),
        }
    }

    /// Writes it.
    pub fn save(self) -> Result<(), Failure> {
        let Taught { path, phrases } = self;
        write_taught(&path, phrases).map_err(|source| Failure::Write { path, source })
    }
}
