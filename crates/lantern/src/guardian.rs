//! The guardian: a second process of this program that survives a crash of the first.
//!
//! It has one end of a socket pair; only the main process has the other. When that end closes, the main
//! process has ended. On a display, the guardian then releases every key that is still marked as held,
//! through an X connection of its own. It also starts a process that keeps what others copied before a
//! paste.
//!
//! The main process can hang while it has the keyboard to itself, or leave a press on a display
//! unanswered. The guardian ends it then, which frees the keyboard.

use std::io::{self, IoSlice, IoSliceMut, Read as _, Write};
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::net::UnixStream;
use std::os::unix::process::CommandExt;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

use lantern_backend::{BackendError, CopiedContents, Heartbeat, HeldKeyReader};
use lantern_x11::{Progress, Watched};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::net::{
    RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags, SendAncillaryBuffer,
    SendAncillaryMessage, SendFlags, recvmsg, sendmsg,
};
use rustix::process::{Pid, PidfdFlags, Signal, kill_process, pidfd_open};

use crate::arguments::GuardianArguments;
use crate::failure::{Failure, Status};
use crate::output::complain;

/// This very program, also when another version has been put in its place meanwhile.
pub const OWN_PROGRAM: &str = "/proc/self/exe";

const CANNOT_START: &str = "cannot start the guardian";

/// From one look at the working process to the next.
const LOOKS: Duration = Duration::from_millis(200);
/// Maximum time between two heartbeats while the process is awake.
const BEATS: Duration = Duration::from_millis(100);
/// Time without a heartbeat after which a process that is awake counts as stuck.
const HANGS: Duration = Duration::from_millis(700);
/// Maximum time for which the end of the program waits for the guardian to release keys.
const LAST_WORK: Duration = Duration::from_secs(3);
/// Maximum time of one turn of the event loop on a display.
const WORKS_AT_MOST: Duration = Duration::from_secs(5);
/// Looks at which one must have been seen stopped.
const STOPPED: u32 = 2;

/// What is guarded.
#[derive(Debug, Clone)]
pub enum GuardTarget {
    /// Keys held on a display, marked in this list beside the sign of life of the process that holds
    /// them, and what others copied before a paste.
    Held(Arc<HeldKeyReader>, Heartbeat, Arc<CopiedContents>),
    /// The keyboard itself, which the working process has taken.
    Keyboard,
}

/// The working process's end of the socket pair.
#[derive(Debug)]
pub struct GuardianHandle {
    charge: GuardTarget,
    pipe: Option<UnixStream>,
    child: Child,
    ended: OwnedFd,
    /// When it was last said that we are awake; nothing while we sleep.
    beat: Option<Instant>,
    /// Whether the guardian has been told that keys are held.
    has_told_of_held_keys: bool,
}

impl GuardianHandle {
    /// Starts a guardian.
    pub fn start(charge: GuardTarget) -> Result<GuardianHandle, Failure> {
        let failed = |source| Failure::System { what: CANNOT_START, source };
        let (pipe, its_end) = UnixStream::pair().map_err(failed)?;
        // A guardian that is stopped reads nothing, and must not stop the event loop with it.
        pipe.set_nonblocking(true).map_err(failed)?;
        let mut command = Command::new(OWN_PROGRAM);
        command.arg("internal-guardian");
        match &charge {
            GuardTarget::Held(held, _, copied) => {
                send_file(&pipe, copied.as_fd()).map_err(failed)?;
                // It inherits the list, so that nothing depends on the file's staying where it is.
                let held = held.as_fd().try_clone_to_owned().map_err(failed)?;
                command.arg("--held").stdout(held)
            }
            GuardTarget::Keyboard => command.arg("--keyboard").stdout(Stdio::null()),
        };
        // Its own process group: the Ctrl+C that ends us must not end it.
        let child = command.stdin(OwnedFd::from(its_end)).process_group(0).spawn();
        let child = child.map_err(failed)?;
        let pipe = Some(pipe);
        let ended = pidfd_open(Pid::from_child(&child), PidfdFlags::empty());
        let ended = ended.map_err(|error| failed(error.into()))?;
        Ok(GuardianHandle { charge, pipe, child, ended, beat: None, has_told_of_held_keys: false })
    }

    /// What becomes readable when the guardian has died.
    pub fn descriptor(&self) -> BorrowedFd<'_> {
        self.ended.as_fd()
    }

    /// Starts another guardian in the place of one that died.
    pub fn renew(&mut self) -> Result<(), Failure> {
        let fresh = GuardianHandle::start(self.charge.clone())?;
        // It has been waited for by its going.
        drop(std::mem::replace(self, fresh));
        Ok(())
    }

    /// We are at work.
    pub fn wake(&mut self) {
        if let GuardTarget::Held(_, pulse, _) = &self.charge {
            return pulse.wake();
        }
        if self.beat.is_none_or(|beat| beat.elapsed() > BEATS) {
            self.say(AWAKE);
            self.beat = Some(Instant::now());
        }
    }

    /// We wait for something to happen.
    pub fn sleep(&mut self) {
        if let GuardTarget::Held(_, pulse, _) = &self.charge {
            pulse.sleep();
            let holds = pulse.holds();
            if holds && !self.has_told_of_held_keys {
                self.say(HOLDS);
            }
            self.has_told_of_held_keys = holds;
            return;
        }
        if self.beat.take().is_some() {
            self.say(ASLEEP);
        }
    }

    fn say(&mut self, word: u8) {
        if let Some(pipe) = &mut self.pipe {
            // One that died is followed by another.
            let _ = pipe.write_all(&[word]);
        }
    }
}

const AWAKE: u8 = b'a';
const ASLEEP: u8 = b's';
/// The byte that says that keys are held.
const HOLDS: u8 = b'h';
/// The byte with which a file comes.
const FILE: u8 = b'f';

impl Drop for GuardianHandle {
    fn drop(&mut self) {
        drop(self.pipe.take());
        let last_work = Timespec::try_from(LAST_WORK).expect("it is short");
        let mut fds = [PollFd::new(&self.ended, PollFlags::IN)];
        // One that is stopped does not end.
        if !poll(&mut fds, Some(&last_work)).is_ok_and(|ended| ended > 0) {
            let _ = self.child.kill();
        }
        let _ = self.child.wait();
    }
}

/// `lantern guardian`: what the working process starts.
pub fn watch(arguments: &GuardianArguments) -> Result<Status, Failure> {
    if arguments.held {
        watch_keys()
    } else if arguments.keep {
        keep_copied()
    } else {
        watch_keyboard()
    }
}

/// Watches the working process on a display until the socket on standard input closes, then releases keys
/// and has what others copied kept.
fn watch_keys() -> Result<Status, Failure> {
    let process = watched();
    let number = process.and_then(|process| u32::try_from(process).ok());
    let kept = receive_file(io::stdin().as_fd()).map(CopiedContents::from);
    // The list came as standard output.
    let held = io::stdout().as_fd().try_clone_to_owned().map(HeldKeyReader::from);
    let held = held.map_err(|source| Failure::System { what: "cannot watch held keys", source })?;
    let mut worker = WatchedProcess {
        process: process.and_then(Pid::from_raw),
        pipe: io::stdin(),
        held: &held,
        hang: None,
    };
    let released = lantern_x11::guard_held(None, &held, number, &mut worker);
    if let Some(copied) = kept.filter(|copied| !copied.is_empty()) {
        start_keeper(copied)?;
    }
    done_unless_failed(released)
}

/// Sends an open file over a socket, with one byte. The other end need not have been handed over yet.
fn send_file(socket: &UnixStream, file: BorrowedFd<'_>) -> io::Result<()> {
    let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(1))];
    let mut ancillary = SendAncillaryBuffer::new(&mut space);
    let files = [file];
    if !ancillary.push(SendAncillaryMessage::ScmRights(&files)) {
        return Err(io::ErrorKind::OutOfMemory.into());
    }
    sendmsg(socket, &[IoSlice::new(&[FILE])], &mut ancillary, SendFlags::empty())?;
    Ok(())
}

/// Receives an open file that came with the next byte.
fn receive_file(socket: BorrowedFd<'_>) -> Option<OwnedFd> {
    let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(1))];
    let mut ancillary = RecvAncillaryBuffer::new(&mut space);
    let mut byte = [0];
    let flags = RecvFlags::CMSG_CLOEXEC;
    recvmsg(socket, &mut [IoSliceMut::new(&mut byte)], &mut ancillary, flags).ok()?;
    let mut files = ancillary.drain().flat_map(|message| match message {
        RecvAncillaryMessage::ScmRights(files) => files.collect(),
        _ => Vec::new(),
    });
    files.next()
}

/// The process that works on a display.
struct WatchedProcess<'h> {
    process: Option<Pid>,
    /// The socket that it writes to; its end closes it.
    pipe: io::Stdin,
    held: &'h HeldKeyReader,
    /// What was seen when it was found to hang first.
    hang: Option<SuspectedHang>,
}

/// A process that may hang.
struct SuspectedHang {
    since: Instant,
    is_stopped: bool,
    pulse: Option<u32>,
    /// How long its main thread had waited for a processor by then.
    queued: Duration,
}

impl Watched for WatchedProcess<'_> {
    fn pipe(&self) -> BorrowedFd<'_> {
        self.pipe.as_fd()
    }

    fn is_alive(&mut self) -> bool {
        let read = rustix::io::retry_on_intr(|| rustix::io::read(&self.pipe, &mut [0; 64]));
        read.is_ok_and(|length| length > 0)
    }

    fn look(&mut self) -> Progress {
        let Some(process) = self.process else { return Progress::Works };
        let (is_stopped, pulse) = (is_stopped(process), self.held.pulse());
        let is_awake = pulse.is_some_and(|pulse| pulse % 2 == 1);
        if !is_stopped && !is_awake {
            self.hang = None;
            return Progress::Works;
        }
        let as_before =
            |hang: &&SuspectedHang| hang.is_stopped == is_stopped && hang.pulse == pulse;
        let Some(hang) = self.hang.as_ref().filter(as_before) else {
            let (since, queued) = (Instant::now(), time_in_queue(process));
            self.hang = Some(SuspectedHang { since, is_stopped, pulse, queued });
            return Progress::Hangs;
        };
        // One that waits for a processor on a busy machine does not hang.
        let waited = time_in_queue(process).saturating_sub(hang.queued);
        let is_stuck = hang.since.elapsed().saturating_sub(waited) > hang.limit();
        if is_stuck { Progress::IsStuck } else { Progress::Hangs }
    }

    fn end(&mut self) {
        let (Some(process), Some(hang)) = (self.process, &self.hang) else { return };
        complain!(
            "lantern left a key or button unanswered for {} s; it was ended, and the keyboard is free",
            hang.limit().as_secs_f32()
        );
        // It may have ended meanwhile.
        let _ = kill_process(process, Signal::KILL);
    }
}

impl SuspectedHang {
    /// Longer than that nothing takes that is well.
    fn limit(&self) -> Duration {
        if self.is_stopped { HANGS } else { WORKS_AT_MOST }
    }
}

/// A display that is gone holds no keys, and no clipboard.
fn done_unless_failed(result: Result<(), BackendError>) -> Result<Status, Failure> {
    match result {
        Ok(()) | Err(BackendError::Lost(_)) => Ok(Status::Done),
        Err(error) => Err(error.into()),
    }
}

/// Starts a process that owns the clipboard until another program copies something. It is not
/// waited for.
fn start_keeper(copied: CopiedContents) -> Result<(), Failure> {
    let mut command = Command::new(OWN_PROGRAM);
    command
        .args(["internal-guardian", "--keep"])
        .stdin(OwnedFd::from(copied))
        .stdout(Stdio::null());
    let started = command.stderr(Stdio::null()).process_group(0).spawn();
    started.map(drop).map_err(cannot_keep)
}

/// Owns the clipboard, with what lies in standard input.
fn keep_copied() -> Result<Status, Failure> {
    let copied = io::stdin().as_fd().try_clone_to_owned().map_err(cannot_keep)?;
    done_unless_failed(lantern_x11::keep_copied(CopiedContents::from(copied)))
}

fn cannot_keep(source: io::Error) -> Failure {
    Failure::System { what: "cannot keep the clipboard", source }
}

/// The working process.
fn watched() -> Option<i32> {
    rustix::process::getppid().map(|process| process.as_raw_nonzero().get())
}

/// Ends the working process if it hangs or is stopped: its end gives the keyboard back.
fn watch_keyboard() -> Result<Status, Failure> {
    let failed = |source| Failure::System { what: "cannot watch", source };
    let Some(process) = watched().and_then(Pid::from_raw) else { return Ok(Status::Done) };
    let looks = Timespec::try_from(LOOKS).expect("it is short");
    let (mut awake, mut stopped) = (false, 0);
    // How long nothing was said, and when we looked last.
    let (mut silent, mut looked) = (Duration::ZERO, Instant::now());
    let mut queued = time_in_queue(process);
    loop {
        let input = io::stdin();
        let mut fds = [PollFd::new(&input, PollFlags::IN)];
        match poll(&mut fds, Some(&looks)) {
            Ok(_) | Err(rustix::io::Errno::INTR) => {}
            Err(error) => return Err(failed(error.into())),
        }
        // When we come late ourselves the machine stood still, as a virtual one may, and whom we watch as well.
        silent += looked.elapsed().min(LOOKS + LOOKS / 2);
        looked = Instant::now();
        if !fds[0].revents().is_empty() {
            let mut words = [0; 256];
            match input.lock().read(&mut words).map_err(failed)? {
                0 => return Ok(Status::Done),
                length => awake = words[length - 1] == AWAKE,
            }
            (silent, queued) = (Duration::ZERO, time_in_queue(process));
        }
        stopped = if is_stopped(process) { stopped + 1 } else { 0 };
        // Time in which the process waited for a processor does not count.
        let waited = || time_in_queue(process).saturating_sub(queued);
        if stopped >= STOPPED || awake && silent.saturating_sub(waited()) > HANGS {
            complain!(
                "lantern was stuck while it had the keyboard; it was ended, and the keyboard is free"
            );
            // It may have ended meanwhile.
            let _ = kill_process(process, Signal::KILL);
            return Ok(Status::Done);
        }
    }
}

/// Time in which its main thread was runnable without a processor; zero where the kernel does not
/// count it.
fn time_in_queue(process: Pid) -> Duration {
    let path = format!("/proc/{}/schedstat", process.as_raw_nonzero());
    let counted = std::fs::read_to_string(path).unwrap_or_default();
    let nanoseconds = counted.split(' ').nth(1).and_then(|number| number.parse().ok());
    nanoseconds.map_or(Duration::ZERO, Duration::from_nanos)
}

/// Whether it is stopped by a signal, by its state in `/proc`.
fn is_stopped(process: Pid) -> bool {
    let path = format!("/proc/{}/stat", process.as_raw_nonzero());
    let state = std::fs::read_to_string(path).unwrap_or_default();
    // The name before it may hold anything, brackets among it.
    let state = state.rsplit_once(") ").and_then(|(_, rest)| rest.chars().next());
    matches!(state, Some('T' | 't'))
}
