//! The socket: who may come in, what they say line by line, and what is said to them. Nobody who
//! comes can hold the session up: reading and writing never wait, and every measure has an end.

use std::collections::BTreeMap;
use std::fs;
use std::io::{self, Read, Write};
use std::os::fd::{AsFd, BorrowedFd};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};

use rustix::event::PollFlags;
use rustix::net::sockopt::socket_peercred;
use rustix::process::getuid;

/// A longer line is no request; who sends one is shown out.
const LONGEST_LINE: usize = 64 * 1024;
/// More do not come in at a time.
const MOST_CLIENTS: usize = 256;
/// So much waits for one that does not read; then it is shown out.
const MOST_WAITING: usize = 1024 * 1024;

/// One who came in.
pub type ClientId = u64;

#[derive(Debug)]
struct Client {
    stream: UnixStream,
    said: Vec<u8>,
    to_say: Vec<u8>,
    /// The last decision it was told of, if it wants to be told.
    told: Option<u64>,
    /// The device whose bytes it wants to see.
    listens: Option<String>,
}

/// The socket with everybody who came in by it.
#[derive(Debug)]
pub struct Door {
    listener: UnixListener,
    path: PathBuf,
    clients: BTreeMap<ClientId, Client>,
    count: ClientId,
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
        Ok(Door { listener, path: path.to_owned(), clients: BTreeMap::new(), count: 0 })
    }

    /// What to wait for.
    pub fn descriptors(&self) -> impl Iterator<Item = (BorrowedFd<'_>, PollFlags)> {
        let clients = self.clients.values().map(|client| {
            let waits = if client.to_say.is_empty() { PollFlags::empty() } else { PollFlags::OUT };
            (client.stream.as_fd(), PollFlags::IN | waits)
        });
        [(self.listener.as_fd(), PollFlags::IN)].into_iter().chain(clients)
    }

    /// Lets in who waits, and takes every whole line that came.
    pub fn take_lines(&mut self) -> Vec<(ClientId, Vec<u8>)> {
        self.let_in();
        let mut lines = Vec::new();
        self.clients.retain(|id, client| {
            let stays = client.read();
            while let Some(end) = client.said.iter().position(|byte| *byte == b'\n') {
                let mut line: Vec<u8> = client.said.drain(..=end).collect();
                line.pop();
                if !line.trim_ascii().is_empty() {
                    lines.push((*id, line));
                }
            }
            stays && client.said.len() <= LONGEST_LINE && client.write()
        });
        lines
    }

    fn let_in(&mut self) {
        while let Ok((stream, _)) = self.listener.accept() {
            // The folder keeps others out already; this holds even if it was opened up.
            let own = socket_peercred(&stream).is_ok_and(|peer| peer.uid == getuid());
            if !own || self.clients.len() >= MOST_CLIENTS || stream.set_nonblocking(true).is_err() {
                continue;
            }
            self.count += 1;
            let client =
                Client { stream, said: Vec::new(), to_say: Vec::new(), told: None, listens: None };
            self.clients.insert(self.count, client);
        }
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
    /// Takes in what has come; whether it is still there.
    fn read(&mut self) -> bool {
        let mut buffer = [0; 4096];
        while self.said.len() <= LONGEST_LINE {
            match self.stream.read(&mut buffer) {
                Ok(0) => return false,
                Ok(count) => self.said.extend_from_slice(&buffer[..count]),
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
