//! One line for each event of interest: on standard error, which may be the journal's, and in a
//! file that does not grow without end.

use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use anstream::adapter::strip_str;

use crate::failure::Failure;
use crate::style::{self, complain};

/// How much is told.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default, clap::ValueEnum)]
pub enum LogLevel {
    /// What the person should look at: failures, keys that cannot be had, the panic key.
    #[default]
    Warning,
    /// Also what fires and ends, files read anew, programs started.
    Info,
    /// Also every key that rules take, and the program in front.
    Debug,
}

/// A file is put aside as `NAME.1` when it has grown so long; one such is kept.
const LONGEST: u64 = 4 * 1024 * 1024;

/// Where events go.
#[derive(Debug)]
pub struct Journal {
    level: LogLevel,
    file: Option<LogFile>,
    /// Whether standard error is the system's journal, which wants each line's weight.
    of_system: bool,
}

#[derive(Debug)]
struct LogFile {
    path: PathBuf,
    file: File,
    size: u64,
}

impl Journal {
    /// Tells so much, and writes it into a file as well if one is named.
    pub fn open(level: LogLevel, path: Option<&Path>) -> Result<Journal, Failure> {
        let file = path.map(LogFile::open).transpose()?;
        let of_system = std::env::var_os("JOURNAL_STREAM").is_some();
        Ok(Journal { level, file, of_system })
    }

    /// Whether events of that level are told.
    pub fn wants(&self, level: LogLevel) -> bool {
        level <= self.level
    }

    /// Tells of an event.
    pub fn tell(&mut self, level: LogLevel, words: &str) {
        if !self.wants(level) {
            return;
        }
        // The weights of syslog (RFC 5424).
        let weight = match level {
            _ if !self.of_system => "",
            LogLevel::Warning => "<4>",
            LogLevel::Info => "<6>",
            LogLevel::Debug => "<7>",
        };
        complain!("{weight}{words}");
        self.keep(level, words);
    }

    /// Says what the person is to know whatever the level, an answer to what they did.
    pub fn note(&mut self, words: &str) {
        complain!("{words}");
        self.write(LogLevel::Info, words);
    }

    /// Writes into the file alone what was said elsewhere.
    pub fn keep(&mut self, level: LogLevel, words: &str) {
        if self.wants(level) {
            self.write(level, words);
        }
    }

    fn write(&mut self, level: LogLevel, words: &str) {
        let Some(file) = &mut self.file else { return };
        if let Err(error) = file.write(level, words) {
            complain!(
                "{}warning{0:#}: cannot write {}: {error}; nothing more is logged there",
                style::WARNING,
                file.path.display()
            );
            self.file = None;
        }
    }
}

impl LogFile {
    fn open(path: &Path) -> Result<LogFile, Failure> {
        let failed = |source| Failure::Write { path: path.to_owned(), source };
        let options = OpenOptions::new().append(true).create(true).mode(0o600).to_owned();
        let file = options.open(path).map_err(failed)?;
        let size = file.metadata().map_err(failed)?.len();
        Ok(LogFile { path: path.to_owned(), file, size })
    }

    fn write(&mut self, level: LogLevel, words: &str) -> std::io::Result<()> {
        let time = jiff::Zoned::now().strftime("%F %T%.3f%:z").to_string();
        let level = format!("{level:?}").to_lowercase();
        let words = strip_str(words).to_string();
        let line = format!("{time} {level:<7} {}\n", words.replace('\n', " | "));
        if self.size + line.len() as u64 > LONGEST {
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_does_not_grow_without_end_and_nothing_of_the_last_part_is_lost() {
        let folder = tempfile::tempdir().expect("a folder can be made");
        let path = folder.path().join("lantern.log");
        let mut file = LogFile::open(&path).expect("it can be made");
        let words = "core ".repeat(2000);
        for number in 0..900 {
            file.write(LogLevel::Info, &format!("{number} {words}")).expect("there is room");
        }
        let parts = ["lantern.log.1", "lantern.log"].map(|name| folder.path().join(name));
        let texts = parts.map(|part| fs::read_to_string(part).expect("it is there"));
        assert!(texts.iter().all(|text| text.len() as u64 <= LONGEST));
        let both = texts.concat();
        assert!(both.lines().all(|line| line.contains(" info    ")));
        assert!(both.contains(" 899 core") && both.contains(" 600 core"));
        assert_eq!(fs::read_dir(folder.path()).expect("it is there").count(), 2);
    }
}
