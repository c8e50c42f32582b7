//! The output of a started program, up to a limit. The rest is read and dropped, so that neither
//! memory grows nor the program blocks.

use std::io::{ErrorKind, PipeReader, Read};
use std::os::fd::{AsFd, BorrowedFd};
use std::process::Stdio;

/// Maximum number of bytes of a program's output that are kept.
const MOST_PRINTED: usize = 1 << 20;
/// Maximum number of bytes that are read before the event loop looks for other things.
const READ_AT_ONCE: usize = 64 << 10;

/// The output of a program.
#[derive(Debug)]
pub(super) struct Printed {
    pipe: PipeReader,
    kept: Vec<u8>,
    is_open: bool,
}

impl Printed {
    /// The output of a program that is about to be started, and what the program writes to.
    pub(super) fn new() -> std::io::Result<(Printed, Stdio)> {
        let (pipe, writer) = std::io::pipe()?;
        rustix::io::ioctl_fionbio(&pipe, true)?;
        Ok((Printed { pipe, kept: Vec::new(), is_open: true }, Stdio::from(writer)))
    }

    /// Becomes readable when the program has printed something; nothing once its output was closed.
    pub(super) fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        self.is_open.then(|| self.pipe.as_fd())
    }

    /// Reads what has been printed, up to what one turn of the event loop may take.
    pub(super) fn read(&mut self) {
        let mut piece = [0; 4096];
        let mut seen = 0;
        while self.is_open && seen < READ_AT_ONCE {
            match self.pipe.read(&mut piece) {
                Ok(0) => self.is_open = false,
                Ok(count) => {
                    seen += count;
                    let room = MOST_PRINTED - self.kept.len();
                    self.kept.extend_from_slice(&piece[..count.min(room)]);
                }
                Err(error) if error.kind() == ErrorKind::WouldBlock => return,
                Err(error) if error.kind() == ErrorKind::Interrupted => {}
                Err(_) => self.is_open = false,
            }
        }
    }

    /// The output of a program that has ended, without its last line end. What others write to it
    /// later is not awaited.
    pub(super) fn finish(mut self) -> String {
        // No pipe holds more than this.
        for _ in 0..MOST_PRINTED / READ_AT_ONCE {
            self.read();
        }
        let text = String::from_utf8_lossy(&self.kept);
        text.strip_suffix('\n').unwrap_or(&text).to_owned()
    }
}
