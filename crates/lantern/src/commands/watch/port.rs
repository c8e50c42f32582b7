//! `lantern watch --raw --port`: what a serial port sends, byte for byte. If a running session has
//! the port open, its data comes from there.

use std::io::BufRead;
use std::sync::mpsc::{RecvTimeoutError, Sender, channel};
use std::thread;
use std::time::{Duration, Instant};

use lantern_net::{LinkError, read_port};
use serde_json::{Value, json};

use crate::failure::{Failure, Status};
use crate::ipc::client::IpcClient;
use crate::output::{complain, say};
use crate::style;

/// Time after which a line without an end is shown.
const RESTS: Duration = Duration::from_millis(200);

/// What came, or why nothing comes any more.
type Piece = Result<Vec<u8>, Failure>;

pub fn watch(port: String, speed: u32, json: bool) -> Result<Status, Failure> {
    let (sender, pieces) = channel();
    thread::spawn(move || {
        let end = match read_here(&port, speed, &sender) {
            Err(LinkError::InUse { .. }) => read_there(&port, &sender),
            Err(error) => Err(Failure::Device(error)),
            Ok(()) => Ok(()),
        };
        if let Err(failure) = end {
            // At the end of the program the receiver is gone.
            let _ = sender.send(Err(failure));
        }
    });
    let began = Instant::now();
    let mut half = Vec::new();
    loop {
        let piece = if half.is_empty() {
            pieces.recv().map_err(|_| RecvTimeoutError::Disconnected)
        } else {
            pieces.recv_timeout(RESTS)
        };
        match piece {
            Ok(piece) => half.extend(piece?),
            Err(RecvTimeoutError::Timeout) => show(&std::mem::take(&mut half), began, json),
            Err(RecvTimeoutError::Disconnected) => return Ok(Status::Done),
        }
        while let Some(end) = half.iter().position(|byte| *byte == b'\n') {
            let line: Vec<u8> = half.drain(..=end).collect();
            show(&line, began, json);
        }
    }
}

fn read_here(port: &str, speed: u32, pieces: &Sender<Piece>) -> Result<(), LinkError> {
    let ready = || {
        complain!("{}{port} is open at {speed}; Ctrl+C here ends it{0:#}", style::FAINT);
    };
    read_port(port, speed, ready, |piece| {
        let _ = pieces.send(Ok(piece.to_vec()));
    })
}

fn read_there(port: &str, pieces: &Sender<Piece>) -> Result<(), Failure> {
    let in_use = || Failure::Device(LinkError::InUse { port: port.to_owned() });
    let mut client = IpcClient::reach().map_err(|_| in_use())?;
    client.ask("listen", &json!({ "port": port })).map_err(|_| in_use())?;
    complain!(
        "{}{port} is what the running lantern listens to; Ctrl+C here ends it{0:#}",
        style::FAINT
    );
    for line in client.into_listening()?.lines().map_while(Result::ok) {
        let Ok(told) = serde_json::from_str::<Value>(&line) else { continue };
        let bytes = told["params"]["bytes"].as_array();
        let bytes = bytes.into_iter().flatten().filter_map(Value::as_u64);
        let _ = pieces.send(Ok(bytes.filter_map(|byte| byte.try_into().ok()).collect()));
    }
    Ok(())
}

fn show(bytes: &[u8], began: Instant, json: bool) {
    let seconds = began.elapsed().as_secs_f64();
    if json {
        say!(
            "{}",
            json!({ "version": 1, "seconds": seconds, "text": escaped(bytes), "bytes": bytes })
        );
    } else {
        let text = escaped(bytes);
        say!("{seconds:>9.3} s  {}{text}{0:#}", style::CAME_IN);
    }
}

/// Bytes as a text in which everything can be seen.
fn escaped(bytes: &[u8]) -> String {
    let mut text = String::new();
    for chunk in bytes.utf8_chunks() {
        for character in chunk.valid().chars() {
            match character {
                '\r' => text.push_str("\\r"),
                '\n' => text.push_str("\\n"),
                '\t' => text.push_str("\\t"),
                '\\' => text.push_str("\\\\"),
                control if control.is_ascii_control() => {
                    text.push_str(&format!("\\x{:02x}", u32::from(control)));
                }
                character => text.push(character),
            }
        }
        for byte in chunk.invalid() {
            text.push_str(&format!("\\x{byte:02x}"));
        }
    }
    text
}
