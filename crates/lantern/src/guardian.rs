//! The guardian: this program once more, in a process of its own, that outlives a crash.
//!
//! It holds a connection to the display and the reading end of a pipe whose other end only the
//! working process has. When the pipe closes, however that came about, it lets go of every key that
//! is still marked as held.

use std::io::{self, Read};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, ChildStdin, Command, Stdio};

use crate::failure::{Failure, Status};

/// The working process's end of the pipe.
#[derive(Debug)]
pub struct Guarded {
    pipe: Option<ChildStdin>,
    child: Child,
}

impl Guarded {
    /// Starts a guardian for the list of held keys.
    pub fn start(held: &Path) -> Result<Guarded, Failure> {
        let failed =
            |source| Failure::System { what: "cannot start the guardian of held keys", source };
        let program = std::env::current_exe().map_err(failed)?;
        // Its own process group: the Ctrl+C that ends us must not end it.
        let mut child = Command::new(program)
            .arg("guardian")
            .arg(held)
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .process_group(0)
            .spawn()
            .map_err(failed)?;
        let pipe = child.stdin.take();
        Ok(Guarded { pipe, child })
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
    match lantern_desk::release_held(None, held, until_closed) {
        Ok(()) => Ok(Status::Done),
        // A display that is gone holds no keys.
        Err(lantern_desk::DeskError::Lost(_)) => Ok(Status::Done),
        Err(error) => Err(error.into()),
    }
}
