//! What the library writes of a sound, for other looks at it: how well every state of the model fits each
//! frame.
//!
//! The library can write that only to files of a folder. Ours is in memory where the system has such a
//! place, nobody else may enter it, and each file is taken away as soon as it is written.

use std::fs::{self, File};
use std::io::{self, Seek as _};

use tempfile::TempDir;

/// Where Linux keeps files that programs share in memory.
const IN_MEMORY: &str = "/dev/shm";

/// The folder the library writes to. It goes with this.
#[derive(Debug)]
pub(super) struct ScoreFolder(TempDir);

/// The scores of one utterance, in a file that has no name any more.
#[derive(Debug)]
pub(super) struct Scores(File);

impl ScoreFolder {
    pub(super) fn new() -> io::Result<ScoreFolder> {
        let mut folder = tempfile::Builder::new();
        folder.prefix("cold-lantern-");
        folder.tempdir_in(IN_MEMORY).or_else(|_| folder.tempdir()).map(ScoreFolder)
    }

    /// Its path, as the library is told it.
    pub(super) fn path(&self) -> &str {
        self.0.path().to_str().unwrap_or_default()
    }

    /// What was written since this was asked last.
    pub(super) fn take(&self) -> io::Result<Scores> {
        let written = fs::read_dir(self.0.path())?.next().ok_or(io::ErrorKind::NotFound)??.path();
        let file = File::open(&written)?;
        fs::remove_file(&written)?;
        Ok(Scores(file))
    }
}

impl Scores {
    /// All of them, to be read from the start.
    pub(super) fn read_again(&self) -> io::Result<File> {
        (&self.0).rewind()?;
        self.0.try_clone()
    }
}
