//! The control socket: its clients, the requests that they send line by line, and what they are sent.
//!
//! No client holds the session up: reading and writing never block, requests are taken one by one in
//! turn, and every buffer has a limit. Called by the event loop.

use std::collections::BTreeMap;
use std::fs;
use std::io::{self, Read, Write};
use std::os::fd::{AsFd, BorrowedFd};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::time::Duration;

use lantern_model::Time;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::net::sockopt::socket_peercred;
use rustix::process::getuid;

/// Maximum length of a request in bytes; a client that sends a longer line is disconnected.
const LONGEST_LINE: usize = 64 * 1024;
/// Maximum number of clients.
const MOST_CLIENTS: usize = 256;
/// Maximum number of clients that watch decisions or a device. The other places stay free for requests.
const MOST_WATCHERS: usize = 192;
/// Maximum number of bytes that wait for a client to read them; then it is disconnected.
const MOST_WAITING: usize = 1024 * 1024;
/// Number of bytes that wait for a client above which its requests wait too.
const MOST_UNREAD: usize = 64 * 1024;
/// Maximum number of clients that are accepted before the event loop looks for other things.
const ACCEPTED_AT_ONCE: usize = 16;
/// Time without accepting after an error, such as a lack of descriptors.
const AFTER_ERROR: Duration = Duration::from_millis(100);

/// One who came in.
pub type ClientId = u64;

#[derive(Debug)]
struct Client {
    stream: UnixStream,
    said: Received,
    to_say: Vec<u8>,
    /// The last decision it was told of, if it wants to be told.
    told: Option<u64>,
    /// The device whose bytes it wants to see.
    listens: Option<String>,
    /// When it last sent something, as a count of all such moments.
    active: u64,
}

/// The socket with everybody who came in by it.
#[derive(Debug)]
pub struct Door {
    listener: UnixListener,
    path: PathBuf,
    clients: BTreeMap<ClientId, Client>,
    count: ClientId,
    /// The client whose line was taken last.
    turn: ClientId,
    moments: u64,
    /// Until when nobody is accepted.
    closed_until: Option<Time>,
}

impl Door {
    /// Opens it. What lies at the path is a socket of one that is gone.
    pub fn open(path: &Path) -> io::Result<Door> {
        match fs::remove_file(path) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
            _ => {}
        }
        let listener = UnixListener::bind(path)?;
        fs::set_permissions(path, fs::Permissions::from_mode(0o600))?;
        listener.set_nonblocking(true)?;
        Ok(Door {
            listener,
            path: path.to_owned(),
            clients: BTreeMap::new(),
            count: 0,
            turn: 0,
            moments: 0,
            closed_until: None,
        })
    }

    /// What to wait for.
    pub fn descriptors(&self) -> impl Iterator<Item = (BorrowedFd<'_>, PollFlags)> {
        let clients = self.clients.values().map(|client| {
            let read = if client.waits() { PollFlags::empty() } else { PollFlags::IN };
            let waits = if client.to_say.is_empty() { PollFlags::empty() } else { PollFlags::OUT };
            (client.stream.as_fd(), read | waits)
        });
        let listener = self.closed_until.is_none().then(|| (self.listener.as_fd(), PollFlags::IN));
        listener.into_iter().chain(clients)
    }

    /// When it accepts clients again, if it does not now.
    pub fn next_deadline(&self) -> Option<Time> {
        self.closed_until
    }

    /// Accepts clients, reads what they sent and writes what waits for them, each up to a limit. A
    /// client is not read while a whole line of it waits.
    pub fn exchange(&mut self, now: Time) {
        if self.closed_until.is_none_or(|until| until <= now) {
            self.closed_until = None;
            self.accept(now);
        }
        let moments = &mut self.moments;
        self.clients.retain(|_, client| {
            let stays = client.waits() || client.read(moments);
            // What it asked before it left is done.
            (stays || client.said.has_line()) && client.write()
        });
    }

    /// The next request: of each client one in turn.
    pub fn next_line(&mut self) -> Option<(ClientId, Vec<u8>)> {
        let is_next = |(_, client): &(&ClientId, &Client)| client.said.has_line() && client.reads();
        let mut in_turn =
            self.clients.range(self.turn + 1..).chain(self.clients.range(..=self.turn));
        self.turn = *in_turn.find(is_next)?.0;
        let client = self.clients.get_mut(&self.turn)?;
        Some((self.turn, client.said.take_line()))
    }

    fn accept(&mut self, now: Time) {
        for _ in 0..ACCEPTED_AT_ONCE {
            // Without a descriptor left, accept(2) fails also where no client waits.
            let mut waits = [PollFd::new(&self.listener, PollFlags::IN)];
            if !poll(&mut waits, Some(&Timespec::default())).is_ok_and(|ready| ready > 0) {
                return;
            }
            let stream = match self.listener.accept() {
                Ok((stream, _)) => stream,
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => return,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(_) => {
                    // The listener stays readable. A place and its descriptor are freed meanwhile.
                    self.disconnect_idle();
                    self.closed_until = Some(now + AFTER_ERROR);
                    return;
                }
            };
            // The folder keeps others out already; this holds even if it was opened up.
            let own = socket_peercred(&stream).is_ok_and(|peer| peer.uid == getuid());
            if !own || stream.set_nonblocking(true).is_err() {
                continue;
            }
            if self.clients.len() >= MOST_CLIENTS {
                self.disconnect_idle();
            }
            self.count += 1;
            self.moments += 1;
            let client = Client {
                stream,
                said: Received::default(),
                to_say: Vec::new(),
                told: None,
                listens: None,
                active: self.moments,
            };
            self.clients.insert(self.count, client);
        }
    }

    /// Disconnects the client that has been silent for the longest time and watches nothing.
    fn disconnect_idle(&mut self) {
        let idle = self.clients.iter().filter(|(_, client)| !client.watches());
        let idle = idle.min_by_key(|(_, client)| client.active).map(|(id, _)| *id);
        if let Some(id) = idle {
            self.clients.remove(&id);
        }
    }

    /// Whether one more client may watch.
    pub fn takes_watchers(&self) -> bool {
        self.clients.values().filter(|client| client.watches()).count() < MOST_WATCHERS
    }

    /// Says a line to one; who does not listen is shown out.
    pub fn say(&mut self, id: ClientId, line: &str) {
        let Some(client) = self.clients.get_mut(&id) else { return };
        client.to_say.extend_from_slice(line.as_bytes());
        if client.to_say.len() > MOST_WAITING || !client.write() {
            self.clients.remove(&id);
        }
    }

    /// One wants to be told of every decision after that one.
    pub fn tell_from(&mut self, id: ClientId, number: u64) {
        if let Some(client) = self.clients.get_mut(&id) {
            client.told = Some(number);
        }
    }

    /// One wants to see what a device sends.
    pub fn listen_to(&mut self, id: ClientId, device: String) {
        if let Some(client) = self.clients.get_mut(&id) {
            client.listens = Some(device);
        }
    }

    /// Who wants to see what a device sends.
    pub fn listeners_of(&self, device: &str) -> Vec<ClientId> {
        let listens = |client: &Client| client.listens.as_deref() == Some(device);
        self.clients.iter().filter(|(_, client)| listens(client)).map(|(id, _)| *id).collect()
    }

    /// Who wants to be told, each with the last decision it was told of.
    pub fn listeners(&self) -> Vec<(ClientId, u64)> {
        self.clients.iter().filter_map(|(id, client)| Some((*id, client.told?))).collect()
    }
}

impl Client {
    fn watches(&self) -> bool {
        self.told.is_some() || self.listens.is_some()
    }

    /// Whether it reads what it is sent.
    fn reads(&self) -> bool {
        self.to_say.len() <= MOST_UNREAD
    }

    /// Whether nothing more is read of it for now.
    fn waits(&self) -> bool {
        self.said.has_line() || !self.reads()
    }

    /// Reads until a line is whole, nothing more has come, or the limit of one turn is reached; whether
    /// the client is still there.
    fn read(&mut self, moments: &mut u64) -> bool {
        let mut buffer = [0; 4096];
        // Empty lines make none that is whole, however many come.
        let mut seen = 0;
        while !self.said.has_line() && seen < LONGEST_LINE {
            match self.stream.read(&mut buffer) {
                Ok(0) => return false,
                Ok(count) => {
                    seen += count;
                    *moments += 1;
                    self.active = *moments;
                    self.said.add(&buffer[..count]);
                    if self.said.is_too_long() {
                        return false;
                    }
                }
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => return true,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(_) => return false,
            }
        }
        true
    }

    /// Says what waits, as far as it is taken; whether it is still there.
    fn write(&mut self) -> bool {
        while !self.to_say.is_empty() {
            match self.stream.write(&self.to_say) {
                Ok(0) => return false,
                Ok(count) => drop(self.to_say.drain(..count)),
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => return true,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(_) => return false,
            }
        }
        true
    }
}

/// Bytes of a client, in lines.
#[derive(Debug, Default)]
struct Received {
    bytes: Vec<u8>,
    /// Up to where lines were taken.
    taken: usize,
    /// Up to where lines are whole.
    whole: usize,
}

impl Received {
    /// Adds bytes. Empty lines at the front are dropped, since they ask for nothing.
    fn add(&mut self, bytes: &[u8]) {
        self.bytes.drain(..self.taken);
        self.whole -= self.taken;
        self.taken = 0;
        let before = self.bytes.len();
        self.bytes.extend_from_slice(bytes);
        if let Some(end) = bytes.iter().rposition(|byte| *byte == b'\n') {
            self.whole = before + end + 1;
        }
        self.skip_empty_lines();
    }

    fn has_line(&self) -> bool {
        self.taken < self.whole
    }

    fn is_too_long(&self) -> bool {
        self.bytes.len() - self.whole > LONGEST_LINE
    }

    /// The next whole line, without its end.
    fn take_line(&mut self) -> Vec<u8> {
        let rest = &self.bytes[self.taken..self.whole];
        let end = rest.iter().position(|byte| *byte == b'\n').unwrap_or(rest.len());
        let line = rest[..end].to_vec();
        self.taken = (self.taken + end + 1).min(self.whole);
        self.skip_empty_lines();
        line
    }

    fn skip_empty_lines(&mut self) {
        let rest = &self.bytes[self.taken..self.whole];
        let first = rest.iter().position(|byte| !byte.is_ascii_whitespace());
        self.taken += first.unwrap_or(rest.len());
    }
}

impl Drop for Door {
    fn drop(&mut self) {
        // What stays behind is removed by the next one.
        let _ = fs::remove_file(&self.path);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lines(received: &mut Received) -> Vec<String> {
        let mut lines = Vec::new();
        while received.has_line() {
            lines.push(String::from_utf8(received.take_line()).expect("it is text"));
        }
        lines
    }

    #[test]
    fn lines_come_out_of_any_pieces_and_empty_ones_do_not() {
        let text = "\n\nstatus\r\n \n\nwhy\nhalf";
        for length in 1..=text.len() {
            let mut received = Received::default();
            let mut taken = Vec::new();
            for piece in text.as_bytes().chunks(length) {
                received.add(piece);
                taken.append(&mut lines(&mut received));
            }
            assert_eq!(taken, ["status\r", "why"], "in pieces of {length}");
            received.add(b" done\n");
            assert_eq!(lines(&mut received), ["half done"]);
        }
    }

    #[test]
    fn many_empty_lines_take_no_room_and_a_line_without_an_end_is_too_long() {
        let mut received = Received::default();
        for _ in 0..100 {
            received.add(&[b'\n'; 4096]);
            assert!(!received.has_line() && received.bytes.len() <= 2 * 4096);
        }
        for _ in 0..=LONGEST_LINE / 4096 {
            received.add(&[b'x'; 4096]);
        }
        assert!(received.is_too_long() && !received.has_line());
    }
}
