//! One line for each event of interest: on standard error, which may be the journal's, and in a
//! file that does not grow without end. [`crate::output`] writes them.

use std::path::Path;

use anstream::adapter::strip_str;

use crate::escaping::shown;
use crate::failure::Failure;
use crate::log_file::LogFile;
use crate::output::complain;
use crate::output::{self, Stream};

/// Which events are logged.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default, clap::ValueEnum)]
pub enum LogLevel {
    /// What the person should look at: failures, keys that cannot be had, the panic key.
    #[default]
    Warning,
    /// Also activations, ends of runs, reloaded files, started programs.
    Info,
    /// Also every key that rules take, and the program in front.
    Debug,
}

/// Where events go.
#[derive(Debug)]
pub struct EventLog {
    level: LogLevel,
    has_file: bool,
    /// Whether standard error is the system's journal, which wants each line's weight.
    of_system: bool,
}

impl EventLog {
    /// Tells events of that level and above, and writes them into a file as well if one is named.
    /// From here on lines are written by a thread.
    ///
    /// # Errors
    /// When the file cannot be opened, or no thread can be started.
    pub fn open(level: LogLevel, path: Option<&Path>) -> Result<EventLog, Failure> {
        let cannot_open = |path: &Path, source| Failure::Write { path: path.to_owned(), source };
        let open = |path| LogFile::open(path).map_err(|source| cannot_open(path, source));
        let file = path.map(open).transpose()?;
        let has_file = file.is_some();
        let failed = |source| Failure::System { what: "cannot write from a thread", source };
        output::start_queue(file).map_err(failed)?;
        let of_system = std::env::var_os("JOURNAL_STREAM").is_some();
        Ok(EventLog { level, has_file, of_system })
    }

    /// Whether events of that level are logged.
    pub fn wants(&self, level: LogLevel) -> bool {
        level <= self.level
    }

    /// Tells of an event.
    pub fn tell(&self, level: LogLevel, words: &str) {
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
        // The journal reads the weight of each line; a line end in foreign words must not bring its own.
        complain!("{weight}{}", words.replace('\n', &format!("\n{weight}")));
        self.keep(level, words);
    }

    /// Says what the person is to know whatever the level, an answer to what they did.
    pub fn note(&self, words: &str) {
        complain!("{words}");
        self.write(LogLevel::Info, words);
    }

    /// Writes into the file alone what was said elsewhere.
    pub fn keep(&self, level: LogLevel, words: &str) {
        if self.wants(level) {
            self.write(level, words);
        }
    }

    fn write(&self, level: LogLevel, words: &str) {
        if self.has_file {
            output::write_line(Stream::Log, format_args!("{}", log_line(level, words)));
        }
    }
}

/// A line of the log file, with the time and without colours.
fn log_line(level: LogLevel, words: &str) -> String {
    let time = jiff::Zoned::now().strftime("%F %T%.3f%:z").to_string();
    let level = format!("{level:?}").to_lowercase();
    let words = strip_str(words).to_string();
    format!("{time} {level:<7} {}", shown(&words.replace('\n', " | ")))
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;
    use crate::log_file::MAX_SIZE;

    #[test]
    fn a_file_does_not_grow_without_end_and_nothing_of_the_last_part_is_lost() {
        let folder = tempfile::tempdir().expect("a folder can be made");
        let path = folder.path().join("lantern.log");
        let mut file = LogFile::open(&path).expect("it can be made");
        let words = "core ".repeat(2000);
        for number in 0..900 {
            let line = log_line(LogLevel::Info, &format!("{number} {words}")) + "\n";
            file.write(&line).expect("there is room");
        }
        let parts = ["lantern.log.1", "lantern.log"].map(|name| folder.path().join(name));
        let texts = parts.map(|part| fs::read_to_string(part).expect("it is there"));
        assert!(texts.iter().all(|text| text.len() as u64 <= MAX_SIZE));
        let both = texts.concat();
        assert!(both.lines().all(|line| line.contains(" info    ")));
        assert!(both.contains(" 899 core") && both.contains(" 600 core"));
        assert_eq!(fs::read_dir(folder.path()).expect("it is there").count(), 2);
    }
}
