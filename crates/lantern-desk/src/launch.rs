//! Starting programs: desktop entries by their id, programs by name, and waiting for those whose
//! end matters.

use std::env;
use std::ffi::OsString;
use std::fs::{self, File};
use std::io::{Read, Seek};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus, Stdio};

use lantern_model::{EffectId, Event, Value};
use rustix::fs::{MemfdFlags, memfd_create};
use rustix::process::{Pid, PidfdFlags, Signal, kill_process_group, pidfd_open};

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
    /// The effect that started it.
    effect: EffectId,
    /// Whether its end is that effect's outcome.
    waited_for: bool,
    /// What it prints, if that is wanted.
    printed: Option<File>,
}

/// So much of what a program prints is kept, in bytes.
const MOST_PRINTED: u64 = 1 << 20;

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
    pub fn launch(&mut self, effect: EffectId, name: &str) -> Result<u32, LaunchError> {
        let words = match entry_file(name) {
            Some(path) => entry_words(&path)?,
            None => shlex::split(name).unwrap_or_default(),
        };
        self.start(effect, &words, false)
    }

    /// Starts a program whose end is reported as the effect's outcome, with what it printed.
    ///
    /// # Errors
    /// When it is not there or cannot be started.
    pub fn run(&mut self, effect: EffectId, words: &[String]) -> Result<u32, LaunchError> {
        self.start(effect, words, true)
    }

    /// Ends what the effect started, and all it started in turn; whether it was still there.
    pub fn end(&mut self, effect: EffectId) -> bool {
        let Some(started) = self.started.iter().find(|started| started.effect == effect) else {
            return false;
        };
        kill_process_group(Pid::from_child(&started.child), Signal::TERM).is_ok()
    }

    /// Nobody waits for the effect's outcome any more: a program that was waited for is ended.
    pub fn abandon(&mut self, effect: EffectId) {
        let waited = self.started.iter_mut().find(|s| s.effect == effect && s.waited_for);
        if let Some(started) = waited {
            started.waited_for = false;
            // One that is gone already needs no ending.
            let _ = kill_process_group(Pid::from_child(&started.child), Signal::KILL);
        }
    }

    fn start(
        &mut self,
        effect: EffectId,
        words: &[String],
        waited_for: bool,
    ) -> Result<u32, LaunchError> {
        let (program, arguments) = words.split_first().ok_or(LaunchError::Nothing)?;
        let failed = |source: std::io::Error| match source.kind() {
            std::io::ErrorKind::NotFound => LaunchError::NotFound { name: program.clone() },
            _ => LaunchError::Start { name: program.clone(), source },
        };
        let mut printed = None;
        let mut output = Stdio::null();
        if waited_for {
            let memory = memfd_create("printed", MemfdFlags::CLOEXEC);
            let file = File::from(memory.map_err(|error| failed(error.into()))?);
            output = Stdio::from(file.try_clone().map_err(failed)?);
            printed = Some(file);
        }
        // Its own process group, so that a key pressed in our terminal does not end it.
        let child = Command::new(program)
            .args(arguments)
            .stdin(Stdio::null())
            .stdout(output)
            .stderr(Stdio::null())
            .process_group(0)
            .spawn()
            .map_err(failed)?;
        let pid = Pid::from_child(&child);
        let ended = pidfd_open(pid, PidfdFlags::empty()).map_err(|error| failed(error.into()))?;
        let number = child.id();
        let name = program.clone();
        self.started.push(Started { name, child, ended, effect, waited_for, printed });
        Ok(number)
    }

    /// What becomes readable when a started program has ended.
    pub fn descriptors(&self) -> impl Iterator<Item = BorrowedFd<'_>> {
        self.started.iter().map(|started| started.ended.as_fd())
    }

    /// Takes in programs that have ended; gives the outcomes that are waited for.
    pub fn reap(&mut self) -> Vec<Event> {
        let mut events = Vec::new();
        self.started.retain_mut(|started| {
            let result = match started.child.try_wait() {
                Ok(None) => return true,
                Ok(Some(status)) => outcome(&started.name, status, started.printed.as_mut()),
                Err(error) => Err(format!("`{}` was lost: {error}", started.name)),
            };
            if started.waited_for {
                events.push(Event::Outcome { effect: started.effect, result });
            }
            false
        });
        events
    }
}

fn outcome(
    name: &str,
    status: ExitStatus,
    printed: Option<&mut File>,
) -> Result<Option<Value>, String> {
    match status.code() {
        Some(0) => Ok(printed.map(|file| Value::Text(text_of(file)))),
        Some(code) => Err(format!("`{name}` ended with status {code}")),
        None => Err(format!("`{name}` was ended by a signal")),
    }
}

/// What a program printed, without its last line end.
fn text_of(file: &mut File) -> String {
    let mut bytes = Vec::new();
    if file.rewind().is_ok() {
        // What cannot be read back was not printed.
        let _ = file.take(MOST_PRINTED).read_to_end(&mut bytes);
    }
    let text = String::from_utf8_lossy(&bytes);
    text.strip_suffix('\n').unwrap_or(&text).to_owned()
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
