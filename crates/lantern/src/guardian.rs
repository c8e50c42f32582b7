//! The guardian: this program once more, in a process of its own, that outlives a crash.
//!
//! It holds a connection to the display and the reading end of a pipe whose other end only the
//! working process has. When the pipe closes, however that came about, it lets go of every key that
//! is still marked as held.

use std::io::{self, Read};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, Command, Stdio};

use rustix::process::{Pid, PidfdFlags, pidfd_open};

use crate::failure::{Failure, Status};

/// This very program, also when another version has been put in its place meanwhile.
pub const OWN_PROGRAM: &str = "/proc/self/exe";

const CANNOT_START: &str = "cannot start the guardian of held keys";

/// The working process's end of the pipe.
#[derive(Debug)]
pub struct Guarded {
    held: PathBuf,
    pipe: Option<ChildStdin>,
    child: Child,
    ended: OwnedFd,
}

impl Guarded {
    /// Starts a guardian for the list of held keys.
    pub fn start(held: &Path) -> Result<Guarded, Failure> {
        let failed = |source| Failure::System { what: CANNOT_START, source };
        // Its own process group: the Ctrl+C that ends us must not end it.
        let mut child = Command::new(OWN_PROGRAM)
            .arg("guardian")
            .arg(held)
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .process_group(0)
            .spawn()
            .map_err(failed)?;
        let pipe = child.stdin.take();
        let ended = pidfd_open(Pid::from_child(&child), PidfdFlags::empty());
        let ended = ended.map_err(|error| failed(error.into()))?;
        Ok(Guarded { held: held.to_owned(), pipe, child, ended })
    }

    /// What becomes readable when the guardian has died.
    pub fn descriptor(&self) -> BorrowedFd<'_> {
        self.ended.as_fd()
    }

    /// Starts another guardian in the place of one that died.
    pub fn renew(&mut self) -> Result<(), Failure> {
        let fresh = Guarded::start(&self.held)?;
        // It has been waited for by its going.
        drop(std::mem::replace(self, fresh));
        Ok(())
    }
}

impl Drop for Guarded {
    fn drop(&mut self) {
        drop(self.pipe.take());
        let _ = self.child.wait();
    }
}

/// `lantern guardian`: waits for the pipe on standard input to close, then lets keys go.
pub fn watch(held: &Path) -> Result<Status, Failure> {
    let until_closed = || {
        // Whatever ends the reading ends the watch.
        let _ = io::copy(&mut io::stdin().lock().by_ref(), &mut io::sink());
        true
    };
    let watched = rustix::process::getppid().map(|process| process.as_raw_nonzero().get());
    let watched = watched.and_then(|process| u32::try_from(process).ok());
    match lantern_desk::release_held(None, held, watched, until_closed) {
        Ok(()) => Ok(Status::Done),
        // A display that is gone holds no keys.
        Err(lantern_desk::DeskError::Lost(_)) => Ok(Status::Done),
        Err(error) => Err(error.into()),
    }
}
