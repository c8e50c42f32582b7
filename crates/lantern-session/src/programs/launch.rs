//! Starting programs, and waiting for those whose end matters.

use std::fs::File;
use std::io::{Seek, Write};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::process::CommandExt;
use std::process::{Child, ChildStdin, ExitStatus, Stdio};
use std::time::Instant;

use lantern_model::{CommandError, CommandResult, EffectId, Event, Value};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fs::{MemfdFlags, memfd_create};
use rustix::process::{Pid, PidfdFlags, Signal, kill_process_group, pidfd_open, pidfd_send_signal};

use super::entries::StartRequest;
use super::error::LaunchError;
use super::output::Printed;
use lantern_system::ChildEnvironment;
use lantern_system::{Allowance, Rate};

/// A program that was started.
#[derive(Debug)]
struct StartedProgram {
    name: String,
    child: Child,
    ended: OwnedFd,
    /// The effect that started it.
    effect: EffectId,
    /// Whether its end is that effect's outcome.
    waited_for: bool,
    /// What it prints, if that is wanted.
    printed: Option<Printed>,
    /// The text for its standard input, if any.
    told: Option<ChildStdin>,
}

/// What becomes of a program once it is started.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum LaunchMode<'t> {
    Detached,
    /// Its end is awaited. It reads this text.
    Wait(&'t str),
    /// Its end is awaited. It reads this text, and lines that are sent later.
    Interactive(&'t str),
}

/// Maximum number of programs that were started and have not ended.
const MOST_PROGRAMS: usize = 128;
/// Maximum rate at which programs are started.
const STARTS: Rate = Rate { per_second: 20.0, at_once: 40.0 };
/// Maximum size in bytes of the text that such a program reads first.
const MOST_TOLD: usize = 16 << 10;

/// Starts programs and sees them end.
#[derive(Debug)]
pub struct Launcher {
    started: Vec<StartedProgram>,
    /// Not our children: their end is not seen, and not waited for.
    adopted: Vec<(EffectId, OwnedFd)>,
    environment: ChildEnvironment,
    allowance: Allowance,
}

impl Default for Launcher {
    fn default() -> Self {
        Launcher::new(ChildEnvironment::default())
    }
}

impl Launcher {
    /// A launcher whose programs inherit this environment.
    pub fn new(environment: ChildEnvironment) -> Launcher {
        let allowance = Allowance::full(STARTS, Instant::now());
        Launcher { started: Vec::new(), adopted: Vec::new(), environment, allowance }
    }

    /// Starts a program and lets it be; gives its process id.
    ///
    /// # Errors
    /// When it cannot be started.
    pub fn launch(&mut self, effect: EffectId, start: &StartRequest) -> Result<u32, LaunchError> {
        self.start(effect, start, LaunchMode::Detached)
    }

    /// Starts a program whose end is reported as the effect's outcome, with what it printed.
    ///
    /// # Errors
    /// When it is not there or cannot be started.
    pub fn run(&mut self, effect: EffectId, words: &[String]) -> Result<u32, LaunchError> {
        self.run_with(effect, words, "")
    }

    /// The same for a program that reads a text from its standard input.
    ///
    /// # Errors
    /// When it is not there or cannot be started.
    pub fn run_with(
        &mut self,
        effect: EffectId,
        words: &[String],
        text: &str,
    ) -> Result<u32, LaunchError> {
        self.start(effect, &StartRequest::of(words), LaunchMode::Wait(text))
    }

    /// The same for a program that gets more text by [`Launcher::tell`]. The text has at most 16
    /// KiB.
    ///
    /// # Errors
    /// When it is not there or cannot be started.
    pub fn converse(
        &mut self,
        effect: EffectId,
        words: &[String],
        text: &str,
    ) -> Result<u32, LaunchError> {
        self.start(effect, &StartRequest::of(words), LaunchMode::Interactive(text))
    }

    /// Tells a line to a program that is waited for; whether it is there and reads.
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

    /// Cancels an effect: a program whose end was awaited is ended.
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
        start: &StartRequest,
        mode: LaunchMode,
    ) -> Result<u32, LaunchError> {
        let (program, arguments) = start.words.split_first().ok_or(LaunchError::Nothing)?;
        let failed = |source: std::io::Error| match source.kind() {
            std::io::ErrorKind::NotFound => LaunchError::NotFound { name: program.clone() },
            _ => LaunchError::StartRequest { name: program.clone(), source },
        };
        if self.started.len() >= MOST_PROGRAMS {
            return Err(LaunchError::TooMany { most: MOST_PROGRAMS });
        }
        if !self.allowance.spend(Instant::now()) {
            return Err(LaunchError::TooOften { most: STARTS.per_second as u32 });
        }
        let waited_for = mode != LaunchMode::Detached;
        let (printed, output) = match waited_for {
            true => Printed::new().map(|(printed, output)| (Some(printed), output)),
            false => Ok((None, Stdio::null())),
        }
        .map_err(failed)?;
        let input = match mode {
            LaunchMode::Detached | LaunchMode::Wait("") => Stdio::null(),
            LaunchMode::Wait(text) => file_of(text).map_err(failed)?,
            LaunchMode::Interactive(_) => Stdio::piped(),
        };
        // Its own process group, so that a key pressed in our terminal does not end it.
        let mut command = self.environment.command(program);
        command.args(arguments).stdin(input).stdout(output).stderr(Stdio::null()).process_group(0);
        if let Some(folder) = &start.folder {
            command.current_dir(folder);
        }
        let mut child = command.spawn().map_err(failed)?;
        let pid = Pid::from_child(&child);
        let ended = pidfd_open(pid, PidfdFlags::empty()).map_err(|error| {
            // A program whose end cannot be seen could be neither listed nor ended.
            let _ = child.kill();
            let _ = child.wait();
            failed(error.into())
        })?;
        let number = child.id();
        let (name, mut told) = (start.name.clone(), child.stdin.take());
        if let (LaunchMode::Interactive(text), Some(pipe)) = (mode, &mut told) {
            // A pipe has room for this; one that is not read later must not stop the event loop.
            let _ = rustix::io::ioctl_fionbio(&*pipe, true);
            let _ = pipe.write_all(&text.as_bytes()[..text.len().min(MOST_TOLD)]);
        }
        self.started.push(StartedProgram { name, child, ended, effect, waited_for, printed, told });
        Ok(number)
    }

    /// What becomes readable when a started program has ended.
    pub fn descriptors(&self) -> impl Iterator<Item = BorrowedFd<'_>> {
        let prints = self.started.iter().filter_map(|started| started.printed.as_ref());
        let ends = self.started.iter().map(|started| started.ended.as_fd());
        ends.chain(prints.filter_map(Printed::descriptor))
    }

    /// Takes in programs that have ended; gives the outcomes that are waited for.
    pub fn reap(&mut self) -> Vec<Event> {
        let mut events = Vec::new();
        self.started.retain_mut(|started| {
            if let Some(printed) = &mut started.printed {
                printed.read();
            }
            let result = match started.child.try_wait() {
                Ok(None) => return true,
                Ok(Some(status)) => outcome(&started.name, status, started.printed.take()),
                Err(error) => {
                    Err(CommandError::failed(format!("`{}` was lost: {error}", started.name)))
                }
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

fn outcome(name: &str, status: ExitStatus, printed: Option<Printed>) -> CommandResult {
    match status.code() {
        Some(0) => Ok(printed.map(|printed| Value::Text(printed.finish()))),
        Some(code) => Err(CommandError::failed(format!("`{name}` ended with status {code}"))),
        None => Err(CommandError::failed(format!("`{name}` was ended by a signal"))),
    }
}

/// A text as a file in memory, to be read by a program.
fn file_of(text: &str) -> std::io::Result<Stdio> {
    let mut file = File::from(memfd_create("input", MemfdFlags::CLOEXEC)?);
    file.write_all(text.as_bytes())?;
    file.rewind()?;
    Ok(Stdio::from(file))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Waits for the outcome of the only program.
    fn outcome_of(launcher: &mut Launcher) -> CommandResult {
        loop {
            let mut fds: Vec<PollFd> = launcher
                .descriptors()
                .map(|descriptor| PollFd::from_borrowed_fd(descriptor, PollFlags::IN))
                .collect();
            poll(&mut fds, None).expect("it can wait");
            drop(fds);
            if let Some(Event::Outcome { result, .. }) = launcher.reap().pop() {
                return result;
            }
        }
    }

    fn shell(launcher: &mut Launcher, line: &str, text: &str) -> CommandResult {
        let words = ["sh", "-c", line].map(str::to_owned);
        launcher.run_with(EffectId(1), &words, text).expect("it starts");
        outcome_of(launcher)
    }

    #[test]
    fn of_a_long_output_the_beginning_is_kept_and_nothing_waits() {
        let mut launcher = Launcher::default();
        let line = "head -c 3000000 /dev/zero | tr '\\0' x; echo end";
        let Ok(Some(Value::Text(text))) = shell(&mut launcher, line, "") else {
            panic!("it ends well");
        };
        assert!(text.len() == 1 << 20 && text.bytes().all(|byte| byte == b'x'));
        let said = shell(&mut launcher, "cat; echo done", "core 12\n");
        assert_eq!(said, Ok(Some(Value::Text("core 12\ndone".to_owned()))));
        // A background process keeps the output open and is not awaited.
        let said = shell(&mut launcher, "sleep 60 & echo $!", "");
        let Ok(Some(Value::Text(process))) = said else { panic!("it ends well: {said:?}") };
        let pid = process.parse().ok().and_then(Pid::from_raw).expect("it is a number");
        rustix::process::kill_process(pid, Signal::KILL).expect("it runs");
    }

    #[test]
    fn secrets_of_the_environment_are_not_inherited() {
        let environment = ChildEnvironment::default();
        let mut launcher = Launcher::new(environment.clone());
        environment.hide(["PATH".to_owned()].into());
        let words = ["/bin/sh", "-c", "env"].map(str::to_owned);
        launcher.run(EffectId(1), &words).expect("it starts");
        let Ok(Some(Value::Text(seen))) = outcome_of(&mut launcher) else { panic!("it ends well") };
        let path = std::env::var("PATH").expect("it is set");
        assert!(!seen.lines().any(|line| line == format!("PATH={path}")), "{seen}");
    }

    #[test]
    fn no_more_programs_are_started_than_may_run() {
        let mut launcher = Launcher::default();
        let words = ["sleep", "60"].map(str::to_owned);
        let mut pids = Vec::new();
        loop {
            launcher.allowance = Allowance::full(STARTS, Instant::now());
            match launcher.run(EffectId(pids.len() as u64), &words) {
                Ok(process) => pids.push(process),
                Err(error) => break assert!(matches!(error, LaunchError::TooMany { most: 128 })),
            }
        }
        assert_eq!(pids.len(), MOST_PROGRAMS);
        (0..pids.len()).for_each(|effect| launcher.abandon(EffectId(effect as u64)));
        launcher.started.iter_mut().for_each(|started| drop(started.child.wait()));
    }
}
