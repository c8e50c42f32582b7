//! The bytes between us and the X server, with as few system calls as can be: what a key costs on
//! its way through us is mostly the kernel's time.
//!
//! The connection asks before each request whether the socket can take more, and after each reading
//! whether there is more. Here the answer is known: a socket takes more until it says that it does
//! not, and has no more to give when it gave less than was asked for, until it was waited for.

use std::io::{Error, ErrorKind, Result};
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd, RawFd};
use std::sync::atomic::{AtomicBool, Ordering};

use rustix::event::{PollFd, PollFlags, poll};
use rustix::io::{Errno, retry_on_intr};
use rustix::net::{RecvFlags, SendFlags, recv, send};
use x11rb::errors::{ConnectError, DisplayParsingError};
use x11rb::reexports::x11rb_protocol::parse_display::{ConnectAddress, parse_display};
use x11rb::reexports::x11rb_protocol::xauth::{Family, get_auth};
use x11rb::rust_connection::{DefaultStream, PollMode, RustConnection, Stream};
use x11rb::utils::RawFdContainer;

/// A connection over such a wire.
pub(super) type ServerConnection = RustConnection<Wire>;

/// The socket.
#[derive(Debug)]
pub(super) struct Wire {
    socket: OwnedFd,
    /// Whether it took less than it was given.
    full: AtomicBool,
    /// Whether it gave less than it was asked for, and was not waited for since.
    drained: AtomicBool,
    /// Whether it gave anything that may not have been taken in yet.
    fresh: AtomicBool,
}

/// Connects to a display, and gives the number of its screen.
pub(super) fn connect(
    display: &str,
) -> std::result::Result<(ServerConnection, usize), ConnectError> {
    let parsed = parse_display(Some(display))?;
    let screen = parsed.screen.into();
    let mut failure = ConnectError::DisplayParsingError(DisplayParsingError::Unknown);
    for address in parsed.connect_instruction() {
        match Wire::to(&address) {
            Ok((wire, family, host)) => {
                // One without a key may still be let in.
                let key = get_auth(family, &host, parsed.display).ok().flatten();
                let (name, data) = key.unwrap_or_default();
                let conn =
                    ServerConnection::connect_to_stream_with_auth_info(wire, screen, name, data)?;
                return Ok((conn, screen));
            }
            Err(error) => failure = ConnectError::IoError(error),
        }
    }
    Err(failure)
}

impl Wire {
    fn to(address: &ConnectAddress<'_>) -> Result<(Wire, Family, Vec<u8>)> {
        let (stream, (family, host)) = DefaultStream::connect(address)?;
        let no = || AtomicBool::new(false);
        let (full, drained, fresh) = (no(), no(), no());
        Ok((Wire { socket: stream.into(), full, drained, fresh }, family, host))
    }

    /// What becomes readable when there is more to read. Who asks for it waits, and reads again then.
    pub(super) fn waitable(&self) -> BorrowedFd<'_> {
        self.drained.store(false, Ordering::Relaxed);
        self.socket.as_fd()
    }

    /// Whether anything may have come since [`Wire::note_all_taken`].
    pub(super) fn may_have_more(&self) -> bool {
        !self.drained.load(Ordering::Relaxed) || self.fresh.load(Ordering::Relaxed)
    }

    /// Everything that came was taken in.
    pub(super) fn note_all_taken(&self) {
        self.fresh.store(false, Ordering::Relaxed);
    }
}

impl AsRawFd for Wire {
    fn as_raw_fd(&self) -> RawFd {
        self.socket.as_raw_fd()
    }
}

impl Stream for Wire {
    fn poll(&self, mode: PollMode) -> Result<()> {
        if mode.writable() && !self.full.load(Ordering::Relaxed) {
            return Ok(());
        }
        let mut flags = PollFlags::empty();
        flags.set(PollFlags::IN, mode.readable());
        flags.set(PollFlags::OUT, mode.writable());
        retry_on_intr(|| poll(&mut [PollFd::new(&self.socket, flags)], None))?;
        self.full.store(false, Ordering::Relaxed);
        if mode.readable() {
            self.drained.store(false, Ordering::Relaxed);
        }
        Ok(())
    }

    /// Reads; the server hands no files over to us.
    fn read(&self, buffer: &mut [u8], _: &mut Vec<RawFdContainer>) -> Result<usize> {
        if self.drained.load(Ordering::Relaxed) {
            return Err(Error::from(ErrorKind::WouldBlock));
        }
        let wanted = buffer.len();
        let read = retry_on_intr(|| recv(&self.socket, &mut *buffer, RecvFlags::empty()));
        let drained = match read {
            Ok((_, count)) => count > 0 && count < wanted,
            Err(error) => error == Errno::WOULDBLOCK,
        };
        self.drained.store(drained, Ordering::Relaxed);
        self.fresh.fetch_or(read.is_ok(), Ordering::Relaxed);
        Ok(read?.1)
    }

    fn write(&self, buffer: &[u8], _: &mut Vec<RawFdContainer>) -> Result<usize> {
        let sent = retry_on_intr(|| send(&self.socket, buffer, SendFlags::NOSIGNAL));
        if sent.as_ref().map_or(true, |count| *count < buffer.len()) {
            self.full.store(true, Ordering::Relaxed);
        }
        Ok(sent?)
    }
}
