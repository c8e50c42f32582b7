//! Starting programs: desktop entries by their id, programs by name, and waiting for those whose
//! end matters.

use std::env;
use std::ffi::OsString;
use std::fs;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus, Stdio};
use std::time::Duration;

use lantern_model::{EffectId, Event, Time};
use rustix::process::{Pid, PidfdFlags, pidfd_open};

/// Why a program could not be started.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum LaunchError {
    /// Nothing was named.
    #[error("no program is named")]
    Nothing,
    /// Neither a desktop entry nor a program has this name.
    #[error("there is no program or desktop entry `{name}`")]
    NotFound {
        /// The name.
        name: String,
    },
    /// A desktop entry says nothing to start.
    #[error("the desktop entry {path} names no program")]
    EmptyEntry {
        /// The entry's file.
        path: PathBuf,
    },
    /// It is there, but cannot be started.
    #[error("cannot start `{name}`: {source}")]
    Start {
        /// The program.
        name: String,
        /// Why.
        source: std::io::Error,
    },
}

/// A program that was started.
#[derive(Debug)]
struct Started {
    name: String,
    child: Child,
    ended: OwnedFd,
    waiter: Option<EffectId>,
    limit: Option<Time>,
}

/// Starts programs and sees them end.
#[derive(Debug, Default)]
pub struct Launcher {
    started: Vec<Started>,
}

impl Launcher {
    /// Starts a desktop entry or program and lets it be; gives its process id.
    ///
    /// # Errors
    /// When there is none of that name, or it cannot be started.
    pub fn launch(&mut self, name: &str) -> Result<u32, LaunchError> {
        let words = match entry_file(name) {
            Some(path) => entry_words(&path)?,
            None => shlex::split(name).unwrap_or_default(),
        };
        self.start(&words, None, None)
    }

    /// Starts a program whose end is reported as the effect's outcome.
    ///
    /// # Errors
    /// When it is not there or cannot be started.
    pub fn run(
        &mut self,
        now: Time,
        effect: EffectId,
        words: &[String],
        limit: Option<Duration>,
    ) -> Result<u32, LaunchError> {
        self.start(words, Some(effect), limit.map(|limit| now + limit))
    }

    fn start(
        &mut self,
        words: &[String],
        waiter: Option<EffectId>,
        limit: Option<Time>,
    ) -> Result<u32, LaunchError> {
        let (program, arguments) = words.split_first().ok_or(LaunchError::Nothing)?;
        let failed = |source: std::io::Error| match source.kind() {
            std::io::ErrorKind::NotFound => LaunchError::NotFound { name: program.clone() },
            _ => LaunchError::Start { name: program.clone(), source },
        };
        // Its own process group, so that a key pressed in our terminal does not end it.
        let child = Command::new(program)
            .args(arguments)
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .process_group(0)
            .spawn()
            .map_err(failed)?;
        let pid = Pid::from_child(&child);
        let ended = pidfd_open(pid, PidfdFlags::empty()).map_err(|error| failed(error.into()))?;
        let number = child.id();
        self.started.push(Started { name: program.clone(), child, ended, waiter, limit });
        Ok(number)
    }

    /// What becomes readable when a started program has ended.
    pub fn descriptors(&self) -> impl Iterator<Item = BorrowedFd<'_>> {
        self.started.iter().map(|started| started.ended.as_fd())
    }

    /// When a program's time is up, if ever.
    pub fn next_deadline(&self) -> Option<Time> {
        self.started.iter().filter_map(|started| started.limit).min()
    }

    /// Takes in programs that have ended or whose time is up; gives the outcomes.
    pub fn reap(&mut self, now: Time) -> Vec<Event> {
        let mut events = Vec::new();
        self.started.retain_mut(|started| {
            let ended = started.child.try_wait();
            let result = match &ended {
                Ok(None) if started.limit.is_some_and(|limit| limit <= now) => {
                    // It is ended and reaped on the next look.
                    let _ = started.child.kill();
                    started.limit = None;
                    Err(format!("`{}` took too long and was ended", started.name))
                }
                Ok(None) => return true,
                Ok(Some(status)) => outcome(&started.name, *status),
                Err(error) => Err(format!("`{}` was lost: {error}", started.name)),
            };
            if let Some(effect) = started.waiter.take() {
                events.push(Event::Outcome { effect, result });
            }
            !matches!(ended, Ok(Some(_)) | Err(_))
        });
        events
    }
}

fn outcome(name: &str, status: ExitStatus) -> Result<(), String> {
    match status.code() {
        Some(0) => Ok(()),
        Some(code) => Err(format!("`{name}` ended with status {code}")),
        None => Err(format!("`{name}` was ended by a signal")),
    }
}

/// The file of a desktop entry, looked for as the XDG base directories say.
fn entry_file(id: &str) -> Option<PathBuf> {
    if id.is_empty() || id.contains(['/', ' ']) {
        return None;
    }
    let home = env::var_os("XDG_DATA_HOME")
        .map(PathBuf::from)
        .or_else(|| env::var_os("HOME").map(|home| Path::new(&home).join(".local/share")));
    let system = env::var_os("XDG_DATA_DIRS")
        .filter(|dirs| !dirs.is_empty())
        .unwrap_or_else(|| OsString::from("/usr/local/share:/usr/share"));
    let file = if id.ends_with(".desktop") { id.to_owned() } else { format!("{id}.desktop") };
    home.into_iter()
        .chain(env::split_paths(&system))
        .map(|dir| dir.join("applications").join(&file))
        .find(|path| path.is_file())
}

/// What a desktop entry starts: its `Exec` line without the codes for files and icons.
fn entry_words(path: &Path) -> Result<Vec<String>, LaunchError> {
    let text = fs::read_to_string(path)
        .map_err(|source| LaunchError::Start { name: path.display().to_string(), source })?;
    let mut lines = text.lines().skip_while(|line| line.trim() != "[Desktop Entry]").skip(1);
    let exec = lines
        .by_ref()
        .take_while(|line| !line.starts_with('['))
        .find_map(|line| line.strip_prefix("Exec").map(str::trim_start)?.strip_prefix('='));
    let words = exec.and_then(shlex::split).unwrap_or_default();
    let words: Vec<String> = words
        .into_iter()
        .filter(|word| !(word.len() == 2 && word.starts_with('%') && word != "%%"))
        .map(|word| word.replace("%%", "%"))
        .collect();
    if words.is_empty() {
        Err(LaunchError::EmptyEntry { path: path.to_owned() })
    } else {
        Ok(words)
    }
}
