//! Buffers between the program and the X server. Requests are gathered until they are sent, and packets
//! are cut out of what arrives, with few system calls.
//!
//! A socket accepts data until a write fails, and it is empty when a read returned less than was asked
//! for. Neither is queried beforehand.

use std::io::{Error, ErrorKind, IoSlice, Result};
use std::os::fd::OwnedFd;

use rustix::buffer::spare_capacity;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::io::{Errno, retry_on_intr};
use rustix::net::{RecvFlags, SendFlags, recv, send};

/// Maximum number of bytes that are gathered before they are sent.
const GATHERED: usize = 16 * 1024;
/// Number of bytes that are read at once.
const ASKED_FOR: usize = 4096;
/// Minimum length of a packet, in bytes.
const SHORTEST: usize = 32;

/// The socket, with what waits to be sent and what came.
#[derive(Debug)]
pub(super) struct PacketBuffer {
    socket: OwnedFd,
    outgoing: Vec<u8>,
    incoming: Vec<u8>,
    /// How much of what came was cut into packets already.
    cut: usize,
    /// Whether the socket gave less than it was asked for, and was not waited for since.
    drained: bool,
}

impl PacketBuffer {
    /// Over a connected socket that does not block.
    pub(super) fn over(socket: OwnedFd) -> PacketBuffer {
        PacketBuffer { socket, outgoing: Vec::new(), incoming: Vec::new(), cut: 0, drained: false }
    }

    /// The socket is being waited for: it is read again then.
    pub(super) fn note_waiting(&mut self) {
        self.drained = false;
    }

    /// Gathers a request; sends what was gathered if it is much.
    pub(super) fn put(&mut self, pieces: &[IoSlice<'_>]) -> Result<()> {
        pieces.iter().for_each(|piece| self.outgoing.extend_from_slice(piece));
        if self.outgoing.len() < GATHERED { Ok(()) } else { self.flush() }
    }

    /// Sends what was gathered and keeps what arrives meanwhile: a server whose output is not read
    /// may stop reading.
    pub(super) fn flush(&mut self) -> Result<()> {
        let mut sent = 0;
        while sent < self.outgoing.len() {
            let rest = &self.outgoing[sent..];
            match retry_on_intr(|| send(&self.socket, rest, SendFlags::NOSIGNAL)) {
                Ok(count) => sent += count,
                Err(Errno::WOULDBLOCK) => {
                    retry_on_intr(|| self.wait(PollFlags::IN | PollFlags::OUT, None))?;
                    self.read()?;
                }
                Err(error) => return Err(error.into()),
            }
        }
        self.outgoing.clear();
        self.outgoing.shrink_to(GATHERED);
        Ok(())
    }

    /// Waits until more has come.
    pub(super) fn wait_for_more(&mut self) -> Result<()> {
        retry_on_intr(|| self.wait(PollFlags::IN, None))?;
        self.read()
    }

    /// Waits until more has arrived, at most for `span`.
    pub(super) fn wait_at_most(&mut self, span: &Timespec) -> Result<()> {
        match self.wait(PollFlags::IN, Some(span)) {
            // A signal only ends the wait sooner.
            Ok(()) | Err(Errno::INTR) => Ok(()),
            Err(error) => Err(error.into()),
        }
    }

    fn wait(&mut self, flags: PollFlags, span: Option<&Timespec>) -> rustix::io::Result<()> {
        let ready = poll(&mut [PollFd::new(&self.socket, flags)], span)?;
        self.drained &= ready == 0;
        Ok(())
    }

    /// Fills a buffer with what comes next that is no packet, and waits as long as that takes.
    pub(super) fn fill(&mut self, buffer: &mut [u8]) -> Result<()> {
        while self.uncut().len() < buffer.len() {
            self.wait_for_more()?;
        }
        buffer.copy_from_slice(&self.uncut()[..buffer.len()]);
        self.cut += buffer.len();
        Ok(())
    }

    /// The next packet, if a whole one came.
    pub(super) fn next_packet(&mut self) -> Result<Option<Vec<u8>>> {
        loop {
            let there = self.uncut();
            if let Some(packet) = there.get(..length(there)) {
                let packet = packet.to_vec();
                self.cut += packet.len();
                return Ok(Some(packet));
            }
            if self.drained {
                return Ok(None);
            }
            self.read()?;
        }
    }

    fn uncut(&self) -> &[u8] {
        &self.incoming[self.cut..]
    }

    /// Reads once what is there.
    fn read(&mut self) -> Result<()> {
        self.incoming.drain(..std::mem::take(&mut self.cut));
        if self.incoming.is_empty() {
            self.incoming.shrink_to(ASKED_FOR);
        }
        self.incoming.reserve(length(&self.incoming).max(ASKED_FOR));
        let wanted = self.incoming.capacity() - self.incoming.len();
        let (socket, incoming) = (&self.socket, &mut self.incoming);
        match retry_on_intr(|| recv(socket, spare_capacity(incoming), RecvFlags::empty())) {
            Ok((_, 0)) => Err(Error::from(ErrorKind::UnexpectedEof)),
            Ok((_, count)) => {
                self.drained = count < wanted;
                Ok(())
            }
            Err(Errno::WOULDBLOCK) => {
                self.drained = true;
                Ok(())
            }
            Err(error) => Err(error.into()),
        }
    }
}

/// How long the packet is that begins so; with too little of it there, how much tells.
fn length(packet: &[u8]) -> usize {
    const REPLY: u8 = 1;
    const GENERIC_EVENT: u8 = 35;
    /// Set for what another program sent.
    const SENT: u8 = 0x80;
    match packet {
        [kind, _, _, _, a, b, c, d, ..] if matches!(kind & !SENT, REPLY | GENERIC_EVENT) => {
            SHORTEST + 4 * u32::from_ne_bytes([*a, *b, *c, *d]) as usize
        }
        _ => SHORTEST,
    }
}

#[cfg(test)]
mod tests {
    use std::io::{Read as _, Write as _};
    use std::os::unix::net::UnixStream;

    use super::*;

    fn wire() -> (PacketBuffer, UnixStream) {
        let (ours, theirs) = UnixStream::pair().expect("there are sockets");
        ours.set_nonblocking(true).expect("it can");
        (PacketBuffer::over(ours.into()), theirs)
    }

    fn packet(kind: u8, further: u32) -> Vec<u8> {
        let mut packet = vec![0; SHORTEST + 4 * further as usize];
        packet[0] = kind;
        packet[4..8].copy_from_slice(&further.to_ne_bytes());
        packet
    }

    #[test]
    fn packets_are_cut_wherever_the_bytes_break() {
        let (mut wire, mut server) = wire();
        let sent = [packet(1, 3), packet(2, 0), packet(35 | 0x80, 5000), packet(0, 0)];
        let bytes = sent.concat();
        for size in [1, 31, 33, 4096] {
            let mut came = Vec::new();
            for piece in bytes.chunks(size) {
                server.write_all(piece).expect("it is read");
                wire.note_waiting();
                came.extend(std::iter::from_fn(|| wire.next_packet().expect("it is there")));
            }
            assert!(came == sent, "in pieces of {size}");
        }
    }

    #[test]
    fn a_drained_socket_is_not_read_before_it_was_waited_for() {
        let (mut wire, mut server) = wire();
        server.write_all(&packet(2, 0)).expect("it is read");
        assert!(wire.next_packet().expect("it is there").is_some());
        server.write_all(&packet(3, 0)).expect("it is read");
        assert_eq!(wire.next_packet().expect("it is there"), None);
        wire.wait_for_more().expect("it is there");
        assert_eq!(wire.next_packet().expect("it is there").expect("it came")[0], 3);
    }

    #[test]
    fn a_wait_that_brought_nothing_leaves_a_drained_socket_drained() {
        let (mut wire, mut server) = wire();
        let short = Timespec { tv_sec: 0, tv_nsec: 1 };
        assert_eq!(wire.next_packet().expect("it is there"), None);
        wire.wait_at_most(&short).expect("it is there");
        server.write_all(&packet(2, 0)).expect("it is read");
        assert_eq!(wire.next_packet().expect("it is there"), None);
        wire.wait_at_most(&short).expect("it is there");
        assert!(wire.next_packet().expect("it is there").is_some());
    }

    #[test]
    fn a_server_that_writes_while_it_is_written_to_is_read_meanwhile() {
        const REQUESTS: usize = 4 << 20;
        let (mut wire, mut server) = wire();
        // More than sockets hold, both ways; the server writes first.
        let server = std::thread::spawn(move || {
            (0..REQUESTS / SHORTEST)
                .for_each(|_| server.write_all(&packet(2, 0)).expect("is read"));
            let mut got = vec![0; REQUESTS];
            server.read_exact(&mut got).expect("it is sent");
            got.iter().all(|byte| *byte == 7)
        });
        wire.put(&[IoSlice::new(&vec![7; REQUESTS])]).expect("it is taken");
        assert!(server.join().expect("it ends"), "what came is what was sent");
        let came = std::iter::from_fn(|| wire.next_packet().expect("it is there")).count();
        assert_eq!(came, REQUESTS / SHORTEST);
    }

    #[test]
    fn a_server_that_is_gone_is_an_error() {
        let (mut wire, server) = wire();
        drop(server);
        assert!(wire.next_packet().is_err());
        assert!(wire.put(&[IoSlice::new(&[0; GATHERED])]).is_err());
    }
}
