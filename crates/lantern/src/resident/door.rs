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

use super::received::{LONGEST_LINE, Received};

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

impl Drop for Door {
    fn drop(&mut self) {
        // What stays behind is removed by the next one.
        let _ = fs::remove_file(&self.path);
    }
}
