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

use super::receive_buffer::{LONGEST_LINE, ReceiveBuffer};

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

/// Number of a client, counted from 1.
pub type ClientId = u64;

#[derive(Debug)]
struct Client {
    stream: UnixStream,
    received: ReceiveBuffer,
    outgoing: Vec<u8>,
    /// Number of the last decision that it was sent, if it watches decisions.
    watched_from: Option<u64>,
    /// The device whose bytes it watches.
    watched_device: Option<String>,
    /// The value of [`IpcServer::activity_count`] when it last sent something.
    last_active: u64,
}

/// The control socket with its clients.
#[derive(Debug)]
pub struct IpcServer {
    listener: UnixListener,
    path: PathBuf,
    clients: BTreeMap<ClientId, Client>,
    count: ClientId,
    /// The client whose request was taken last.
    last_served: ClientId,
    activity_count: u64,
    /// Time until which no client is accepted.
    paused_until: Option<Time>,
}

impl IpcServer {
    /// Creates the socket, in the place of one that an ended session left behind.
    pub fn open(path: &Path) -> io::Result<IpcServer> {
        match fs::remove_file(path) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
            _ => {}
        }
        let listener = UnixListener::bind(path)?;
        fs::set_permissions(path, fs::Permissions::from_mode(0o600))?;
        listener.set_nonblocking(true)?;
        Ok(IpcServer {
            listener,
            path: path.to_owned(),
            clients: BTreeMap::new(),
            count: 0,
            last_served: 0,
            activity_count: 0,
            paused_until: None,
        })
    }

    /// Descriptors to poll, each with the events of interest.
    pub fn descriptors(&self) -> impl Iterator<Item = (BorrowedFd<'_>, PollFlags)> {
        let clients = self.clients.values().map(|client| {
            let read = if client.waits() { PollFlags::empty() } else { PollFlags::IN };
            let waits =
                if client.outgoing.is_empty() { PollFlags::empty() } else { PollFlags::OUT };
            (client.stream.as_fd(), read | waits)
        });
        let listener = self.paused_until.is_none().then(|| (self.listener.as_fd(), PollFlags::IN));
        listener.into_iter().chain(clients)
    }

    /// Time at which clients are accepted again, if they are not now.
    pub fn next_deadline(&self) -> Option<Time> {
        self.paused_until
    }

    /// Accepts clients, reads what they sent and writes what waits for them, each up to a limit. A
    /// client is not read while a whole line of it waits.
    pub fn exchange(&mut self, now: Time) {
        if self.paused_until.is_none_or(|until| until <= now) {
            self.paused_until = None;
            self.accept(now);
        }
        let activity_count = &mut self.activity_count;
        self.clients.retain(|_, client| {
            let stays = client.waits() || client.read(activity_count);
            // A request that it sent before it closed its end is still answered.
            (stays || client.received.has_line()) && client.write()
        });
    }

    /// The next request: of each client one in turn.
    pub fn next_line(&mut self) -> Option<(ClientId, Vec<u8>)> {
        let is_next =
            |(_, client): &(&ClientId, &Client)| client.received.has_line() && client.reads();
        let mut in_turn = self
            .clients
            .range(self.last_served + 1..)
            .chain(self.clients.range(..=self.last_served));
        self.last_served = *in_turn.find(is_next)?.0;
        let client = self.clients.get_mut(&self.last_served)?;
        Some((self.last_served, client.received.take_line()))
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
                    self.paused_until = Some(now + AFTER_ERROR);
                    return;
                }
            };
            // The folder's mode keeps other users out already; this holds also if it was changed.
            let own = socket_peercred(&stream).is_ok_and(|peer| peer.uid == getuid());
            if !own || stream.set_nonblocking(true).is_err() {
                continue;
            }
            if self.clients.len() >= MOST_CLIENTS {
                self.disconnect_idle();
            }
            self.count += 1;
            self.activity_count += 1;
            let client = Client {
                stream,
                received: ReceiveBuffer::default(),
                outgoing: Vec::new(),
                watched_from: None,
                watched_device: None,
                last_active: self.activity_count,
            };
            self.clients.insert(self.count, client);
        }
    }

    /// Disconnects the client that has been silent for the longest time and watches nothing.
    fn disconnect_idle(&mut self) {
        let idle = self.clients.iter().filter(|(_, client)| !client.watches());
        let idle = idle.min_by_key(|(_, client)| client.last_active).map(|(id, _)| *id);
        if let Some(id) = idle {
            self.clients.remove(&id);
        }
    }

    /// Whether one more client may watch.
    pub fn has_room_for_watcher(&self) -> bool {
        self.clients.values().filter(|client| client.watches()).count() < MOST_WATCHERS
    }

    /// Sends a line to a client. One that does not read is disconnected.
    pub fn send(&mut self, id: ClientId, line: &str) {
        let Some(client) = self.clients.get_mut(&id) else { return };
        client.outgoing.extend_from_slice(line.as_bytes());
        if client.outgoing.len() > MOST_WAITING || !client.write() {
            self.clients.remove(&id);
        }
    }

    /// Sends a client every decision after that number.
    pub fn watch_from(&mut self, id: ClientId, number: u64) {
        if let Some(client) = self.clients.get_mut(&id) {
            client.watched_from = Some(number);
        }
    }

    /// Sends a client the bytes of a device.
    pub fn watch_device(&mut self, id: ClientId, device: String) {
        if let Some(client) = self.clients.get_mut(&id) {
            client.watched_device = Some(device);
        }
    }

    /// Clients that watch the bytes of a device.
    pub fn device_watchers(&self, device: &str) -> Vec<ClientId> {
        let watched_device = |client: &Client| client.watched_device.as_deref() == Some(device);
        self.clients
            .iter()
            .filter(|(_, client)| watched_device(client))
            .map(|(id, _)| *id)
            .collect()
    }

    /// Clients that watch decisions, each with the number of the last one that it was sent.
    pub fn decision_watchers(&self) -> Vec<(ClientId, u64)> {
        self.clients.iter().filter_map(|(id, client)| Some((*id, client.watched_from?))).collect()
    }
}

impl Client {
    fn watches(&self) -> bool {
        self.watched_from.is_some() || self.watched_device.is_some()
    }

    /// Whether it reads what it is sent.
    fn reads(&self) -> bool {
        self.outgoing.len() <= MOST_UNREAD
    }

    /// Whether nothing more is read of it for now.
    fn waits(&self) -> bool {
        self.received.has_line() || !self.reads()
    }

    /// Reads until a line is whole, nothing more has come, or the limit of one turn is reached; whether
    /// the client is still there.
    fn read(&mut self, activity_count: &mut u64) -> bool {
        let mut buffer = [0; 4096];
        // Empty lines make none that is whole, however many come.
        let mut seen = 0;
        while !self.received.has_line() && seen < LONGEST_LINE {
            match self.stream.read(&mut buffer) {
                Ok(0) => return false,
                Ok(count) => {
                    seen += count;
                    *activity_count += 1;
                    self.last_active = *activity_count;
                    self.received.add(&buffer[..count]);
                    if self.received.is_too_long() {
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

    /// Writes what waits until the socket takes no more; whether the client is still there.
    fn write(&mut self) -> bool {
        while !self.outgoing.is_empty() {
            match self.stream.write(&self.outgoing) {
                Ok(0) => return false,
                Ok(count) => drop(self.outgoing.drain(..count)),
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => return true,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(_) => return false,
            }
        }
        true
    }
}

impl Drop for IpcServer {
    fn drop(&mut self) {
        // A socket that stays behind is removed by the next session.
        let _ = fs::remove_file(&self.path);
    }
}
