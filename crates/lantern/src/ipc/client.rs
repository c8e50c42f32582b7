//! The asking side: a command that speaks to the one that runs on this display.

use std::io::{self, BufRead, BufReader, Write};
use std::os::unix::net::UnixStream;
use std::time::Duration;

use rustix::net::sockopt::socket_peercred;
use rustix::process::getuid;
use serde_json::{Value, json};

use super::protocol::{VERSION, request};
use crate::failure::Failure;
use crate::runtime::RuntimeFiles;

/// Time without an answer after which a session counts as stuck.
const PATIENCE: Duration = Duration::from_secs(5);
/// The same while it reads rules, for which it takes a limited time itself.
const LONG_PATIENCE: Duration = Duration::from_secs(60);

/// A line to the one that runs.
pub struct IpcClient {
    reader: BufReader<UnixStream>,
    asked: u64,
}

/// That nothing runs here, with the name of the session.
fn nobody_runs() -> Failure {
    let named = |variable| std::env::var(variable).ok().filter(|name| !name.is_empty());
    let display = named("WAYLAND_DISPLAY").or_else(|| named("DISPLAY")).unwrap_or_default();
    Failure::NobodyRuns { display }
}

impl IpcClient {
    /// Reaches the one that runs in this session.
    pub fn reach() -> Result<IpcClient, Failure> {
        let candidates = RuntimeFiles::candidates()?;
        let mut reached =
            candidates.iter().filter_map(|files| UnixStream::connect(files.socket()).ok());
        let stream = reached.next().ok_or_else(nobody_runs)?;
        // A socket of another user is not ours, and gets no request.
        let server = socket_peercred(&stream).map_err(|error| broken(error.into()))?;
        if server.uid != getuid() {
            return Err(broken(io::Error::other("the socket belongs to another user")));
        }
        stream.set_read_timeout(Some(PATIENCE)).map_err(broken)?;
        stream.set_write_timeout(Some(PATIENCE)).map_err(broken)?;
        let mut client = IpcClient { reader: BufReader::new(stream), asked: 0 };
        let spoken = client.ask("version", &json!({}))?;
        if spoken["protocol"] != json!(VERSION) {
            let theirs = spoken["version"].as_str().unwrap_or("an unknown version").to_owned();
            return Err(Failure::OtherVersion { theirs });
        }
        Ok(client)
    }

    /// Asks, and waits for the answer.
    pub fn ask(&mut self, method: &str, params: &Value) -> Result<Value, Failure> {
        self.asked += 1;
        let line = request(Some(self.asked), method, params);
        self.reader.get_mut().write_all(line.as_bytes()).map_err(broken)?;
        loop {
            let message = self.next_message()?;
            if message["id"] != json!(self.asked) {
                continue;
            }
            if let Some(error) = message["error"]["message"].as_str() {
                return Err(Failure::Refused { message: error.to_owned() });
            }
            return Ok(message["result"].clone());
        }
    }

    /// The same for what may take long: to read rules anew.
    pub fn ask_patiently(&mut self, method: &str, params: &Value) -> Result<Value, Failure> {
        self.reader.get_ref().set_read_timeout(Some(LONG_PATIENCE)).map_err(broken)?;
        self.ask(method, params)
    }

    /// Waits until the one that runs has closed the connection, at its end.
    pub fn wait_for_end(mut self) -> Result<(), Failure> {
        self.reader.get_ref().set_read_timeout(Some(LONG_PATIENCE)).map_err(broken)?;
        let mut line = String::new();
        loop {
            line.clear();
            match self.reader.read_line(&mut line) {
                Ok(0) => return Ok(()),
                Ok(_) => {}
                Err(error) if error.kind() == io::ErrorKind::ConnectionReset => return Ok(()),
                Err(error) => return Err(broken(error)),
            }
        }
    }

    /// The next thing it says.
    pub fn next_message(&mut self) -> Result<Value, Failure> {
        let mut line = String::new();
        let count = self.reader.read_line(&mut line).map_err(broken)?;
        if count == 0 {
            return Err(broken(io::ErrorKind::UnexpectedEof.into()));
        }
        serde_json::from_str(&line).map_err(|error| broken(error.into()))
    }

    /// The connection, to wait for what it tells; no answer is awaited in a hurry any more.
    pub fn into_listening(self) -> Result<BufReader<UnixStream>, Failure> {
        self.reader.get_ref().set_read_timeout(None).map_err(broken)?;
        Ok(self.reader)
    }
}

fn broken(source: io::Error) -> Failure {
    Failure::System { what: "the one that runs does not answer", source }
}
