//! A pedal board: a pseudo-terminal whose other end is opened as a serial port.

use std::fs::File;
use std::io::{self, Read, Write};
use std::os::fd::{AsFd, BorrowedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::{ffi::OsStr, fs};

use rustix::fs::{Mode, OFlags, open};
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{OptionalActions, tcgetattr, tcsetattr};

/// A board that is plugged in; it is pulled out when this is dropped.
#[derive(Debug)]
pub struct Pedals {
    pedals: File,
    path: PathBuf,
    link: Option<PathBuf>,
    /// The other end, kept open: a board without one reads errors.
    _port: File,
}

impl Pedals {
    /// Plugs one in, under a name of its own if there is to be one.
    ///
    /// # Errors
    /// When there is no pseudo-terminal left, or something else has the name.
    pub fn plug_in(link: Option<&Path>) -> io::Result<Pedals> {
        let pedals = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC)?;
        grantpt(&pedals)?;
        unlockpt(&pedals)?;
        let name = ptsname(&pedals, Vec::new())?;
        let path = PathBuf::from(OsStr::from_bytes(name.to_bytes()));
        let port = open(&path, OFlags::RDWR | OFlags::NOCTTY | OFlags::CLOEXEC, Mode::empty())?;
        let mut termios = tcgetattr(&port)?;
        termios.make_raw();
        tcsetattr(&port, OptionalActions::Now, &termios)?;
        if let Some(link) = link {
            // A board that was ended the hard way left its name behind.
            if fs::read_link(link).is_ok() {
                fs::remove_file(link)?;
            }
            std::os::unix::fs::symlink(&path, link)?;
        }
        rustix::io::ioctl_fionbio(&pedals, true)?;
        let link = link.map(Path::to_owned);
        Ok(Pedals { pedals: pedals.into(), path, link, _port: port.into() })
    }

    /// The port's path.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// What becomes readable when something was sent to it.
    pub fn descriptor(&self) -> BorrowedFd<'_> {
        self.pedals.as_fd()
    }

    /// Sends as many bytes as there is room for: how many.
    ///
    /// # Errors
    /// When there is no room.
    pub fn send_some(&self, bytes: &[u8]) -> io::Result<usize> {
        (&self.pedals).write(bytes)
    }

    /// Sends bytes.
    ///
    /// # Errors
    /// When the buffer is full because no program reads.
    pub fn send(&self, bytes: &[u8]) -> io::Result<()> {
        (&self.pedals).write_all(bytes)
    }

    /// The lines that it was sent since the last time.
    pub fn take_sent(&self) -> Vec<String> {
        let mut bytes = Vec::new();
        // What there is so far; the end of it is an error.
        let _ = (&self.pedals).read_to_end(&mut bytes);
        String::from_utf8_lossy(&bytes).lines().map(str::to_owned).collect()
    }
}

impl Drop for Pedals {
    fn drop(&mut self) {
        if let Some(link) = &self.link {
            // Another process may have removed it already.
            let _ = fs::remove_file(link);
        }
    }
}
