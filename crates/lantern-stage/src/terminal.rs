//! A real terminal that tells byte by byte what it received.

use std::fs::File;
use std::io::Read;
use std::os::fd::AsFd;
use std::process::Stdio;
use std::time::Duration;

use crate::{Display, PATIENCE_MS};
use rustix::event::{PollFd, PollFlags, Timespec, poll};

/// The terminal. It ends with its display.
#[derive(Debug)]
pub struct Terminal {
    received: File,
}

impl Terminal {
    /// Opens a terminal and waits until it has the keyboard and listens.
    ///
    /// # Panics
    /// When xterm is not installed or does not come up.
    pub fn open(display: &mut Display) -> Terminal {
        let pipe = display.folder().join("received");
        rustix::fs::mkfifoat(rustix::fs::CWD, &pipe, rustix::fs::Mode::from_raw_mode(0o600))
            .expect("a pipe can be made");
        let (before, _) = display.front();
        let script =
            format!("stty raw -echo; printf '\\001' > '{0}'; exec cat > '{0}'", pipe.display());
        // Its toolkit waits so many milliseconds for a window manager to confirm its size, by default
        // five seconds, and some do not.
        let child = display
            .command("xterm")
            .args([
                "-xrm",
                "*wmTimeout: 100",
                "-class",
                "corelog",
                "-geometry",
                "100x30+40+40",
                "-e",
                "sh",
                "-c",
                &script,
            ])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("xterm is installed");
        display.keep(child);
        let received = File::options().read(true).write(true).open(&pipe).expect("the pipe opens");
        let mut terminal = Terminal { received };
        assert_eq!(terminal.read(1), "\u{1}", "the terminal's shell listens");
        display.wait_until("the terminal to come to the front", |display| {
            let (front, _) = display.front();
            front != 0 && front != before
        });
        terminal
    }

    /// Waits until so many bytes came, and gives them as text.
    ///
    /// # Panics
    /// When they do not come in time; the message holds what did.
    pub fn read(&mut self, bytes: usize) -> String {
        let mut read = Vec::new();
        // As long as something comes it is waited for.
        while read.len() < bytes {
            assert!(
                self.is_ready(Duration::from_millis(PATIENCE_MS)),
                "waited for {bytes} bytes, got {:?}",
                String::from_utf8_lossy(&read)
            );
            self.read_some(&mut read, bytes);
        }
        String::from_utf8_lossy(&read).into_owned()
    }

    /// Text up to the next return, without the return.
    ///
    /// # Panics
    /// When no return comes in time.
    pub fn read_line(&mut self) -> String {
        let mut read = Vec::new();
        while read.last() != Some(&b'\r') {
            let came = self.is_ready(Duration::from_millis(PATIENCE_MS));
            assert!(came, "waited for a return, got {:?}", String::from_utf8_lossy(&read));
            let one_more = read.len() + 1;
            self.read_some(&mut read, one_more);
        }
        read.pop();
        String::from_utf8_lossy(&read).into_owned()
    }

    fn read_some(&mut self, read: &mut Vec<u8>, up_to: usize) {
        let mut buffer = vec![0; up_to - read.len()];
        let count = self.received.read(&mut buffer).expect("the pipe is open");
        read.extend_from_slice(&buffer[..count]);
    }

    fn is_ready(&self, limit: Duration) -> bool {
        let limit =
            Timespec { tv_sec: limit.as_secs() as i64, tv_nsec: limit.subsec_nanos().into() };
        let mut fds = [PollFd::from_borrowed_fd(self.received.as_fd(), PollFlags::IN)];
        poll(&mut fds, Some(&limit)).expect("waiting works") > 0
    }
}
