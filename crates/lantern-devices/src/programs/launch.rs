//! Starting programs, and waiting for those whose end matters.

use std::fs::File;
use std::io::{Read, Seek, Write};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::process::CommandExt;
use std::path::PathBuf;
use std::process::{Child, ChildStdin, Command, ExitStatus, Stdio};

use lantern_model::{EffectId, Event, Value};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fs::{MemfdFlags, memfd_create};
use rustix::process::{Pid, PidfdFlags, Signal, kill_process_group, pidfd_open, pidfd_send_signal};

use super::entries::Start;

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
    /// It needs a terminal, and none is known.
    #[error("`{name}` needs a terminal, and no terminal program was found; set TERMINAL to one")]
    NoTerminal {
        /// The program.
        name: String,
    },
    /// Nothing is set to open it.
    #[error(
        "no program is set to open {target} ({kind}); set one with `xdg-mime default ENTRY.desktop {kind}`"
    )]
    NoHandler {
        /// The file or address.
        target: String,
        /// Its MIME type.
        kind: String,
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
    /// What it is told, if anything.
    told: Option<ChildStdin>,
}

/// What becomes of a program once it is started.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Manner {
    LetBe,
    Wait,
    Converse,
}

/// So much of what a program prints is kept, in bytes.
const MOST_PRINTED: u64 = 1 << 20;

/// Starts programs and sees them end.
#[derive(Debug, Default)]
pub struct Launcher {
    started: Vec<Started>,
    /// Not our children: their end is not seen, and not waited for.
    adopted: Vec<(EffectId, OwnedFd)>,
}

impl Launcher {
    /// Starts a program and lets it be; gives its process id.
    ///
    /// # Errors
    /// When it cannot be started.
    pub fn launch(&mut self, effect: EffectId, start: &Start) -> Result<u32, LaunchError> {
        self.start(effect, start, Manner::LetBe)
    }

    /// Starts a program whose end is reported as the effect's outcome, with what it printed.
    ///
    /// # Errors
    /// When it is not there or cannot be started.
    pub fn run(&mut self, effect: EffectId, words: &[String]) -> Result<u32, LaunchError> {
        self.start(effect, &Start::of(words), Manner::Wait)
    }

    /// The same for a program that is told more by [`Launcher::tell`].
    ///
    /// # Errors
    /// When it is not there or cannot be started.
    pub fn converse(&mut self, effect: EffectId, words: &[String]) -> Result<u32, LaunchError> {
        self.start(effect, &Start::of(words), Manner::Converse)
    }

    /// Tells a line to a program that is waited for; whether it is still there.
    pub fn tell(&mut self, effect: EffectId, line: &str) -> bool {
        let started = self.started.iter_mut().find(|started| started.effect == effect);
        let told = started.and_then(|started| started.told.as_mut());
        told.is_some_and(|told| writeln!(told, "{line}").is_ok())
    }

    /// Remembers a program that another started for us, so that it can be ended.
    pub fn adopt(&mut self, effect: EffectId, process: u32) {
        let pid = i32::try_from(process).ok().and_then(Pid::from_raw);
        let ended = pid.and_then(|pid| pidfd_open(pid, PidfdFlags::empty()).ok());
        self.adopted.retain(|(_, process)| !has_ended(process));
        self.adopted.extend(ended.map(|ended| (effect, ended)));
    }

    /// What was started for the person and has not ended, each with its process.
    pub fn programs(&self) -> impl Iterator<Item = (&str, u32)> {
        let own = self.started.iter().filter(|started| !started.waited_for);
        own.map(|started| (started.name.as_str(), started.child.id()))
    }

    /// Ends a program by its process, and all it started in turn; whether it is one of ours.
    pub fn end_process(&mut self, process: u32) -> bool {
        let started = self.started.iter().find(|started| started.child.id() == process);
        let effect = started.map(|started| started.effect);
        effect.is_some_and(|effect| self.end(effect))
    }

    /// Ends what the effect started, and all it started in turn; whether it was still there.
    pub fn end(&mut self, effect: EffectId) -> bool {
        if let Some((_, process)) = self.adopted.iter().find(|(adopted, _)| *adopted == effect) {
            return pidfd_send_signal(process, Signal::TERM).is_ok();
        }
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
        start: &Start,
        manner: Manner,
    ) -> Result<u32, LaunchError> {
        let (program, arguments) = start.words.split_first().ok_or(LaunchError::Nothing)?;
        let failed = |source: std::io::Error| match source.kind() {
            std::io::ErrorKind::NotFound => LaunchError::NotFound { name: program.clone() },
            _ => LaunchError::Start { name: program.clone(), source },
        };
        let mut printed = None;
        let (mut input, mut output) = (Stdio::null(), Stdio::null());
        let waited_for = manner != Manner::LetBe;
        if waited_for {
            let memory = memfd_create("printed", MemfdFlags::CLOEXEC);
            let file = File::from(memory.map_err(|error| failed(error.into()))?);
            output = Stdio::from(file.try_clone().map_err(failed)?);
            printed = Some(file);
        }
        if manner == Manner::Converse {
            input = Stdio::piped();
        }
        // Its own process group, so that a key pressed in our terminal does not end it.
        let mut command = Command::new(program);
        command.args(arguments).stdin(input).stdout(output).stderr(Stdio::null()).process_group(0);
        if let Some(folder) = &start.folder {
            command.current_dir(folder);
        }
        let mut child = command.spawn().map_err(failed)?;
        let pid = Pid::from_child(&child);
        let ended = pidfd_open(pid, PidfdFlags::empty()).map_err(|error| failed(error.into()))?;
        let number = child.id();
        let (name, told) = (start.name.clone(), child.stdin.take());
        self.started.push(Started { name, child, ended, effect, waited_for, printed, told });
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

fn has_ended(process: &OwnedFd) -> bool {
    let mut fds = [PollFd::new(process, PollFlags::IN)];
    poll(&mut fds, Some(&Timespec::default())).is_ok_and(|ready| ready > 0)
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
