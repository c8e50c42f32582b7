//! The file of `--log-file`, renamed when it is full.

use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

/// Size, in bytes, at which a log file is renamed to `NAME.1`; one such file is kept.
pub const MAX_SIZE: u64 = 4 * 1024 * 1024;

/// The file of `--log-file`.
#[derive(Debug)]
pub struct LogFile {
    path: PathBuf,
    file: File,
    size: u64,
}

impl LogFile {
    /// Opens it, to append to it.
    ///
    /// # Errors
    /// When it cannot be opened.
    pub fn open(path: &Path) -> std::io::Result<LogFile> {
        let options = OpenOptions::new().append(true).create(true).mode(0o600).to_owned();
        let file = options.open(path)?;
        let size = file.metadata()?.len();
        Ok(LogFile { path: path.to_owned(), file, size })
    }

    /// Its path.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Appends a line. `line` ends with its line feed.
    ///
    /// # Errors
    /// When it cannot be written, or when the full file cannot be renamed.
    pub fn write(&mut self, line: &str) -> std::io::Result<()> {
        if self.size + line.len() as u64 > MAX_SIZE {
            let mut aside = self.path.clone().into_os_string();
            aside.push(".1");
            fs::rename(&self.path, aside)?;
            self.file =
                OpenOptions::new().append(true).create(true).mode(0o600).open(&self.path)?;
            self.size = 0;
        }
        self.file.write_all(line.as_bytes())?;
        self.size += line.len() as u64;
        Ok(())
    }
}
