//! A program that hears instead of us: any recogniser that can print what it heard.
//!
//! It prints one JSON object a line for each thing that was said: `text`, and if it knows them
//! `confidence` from 0 to 1 and `from` and `until` in seconds. Whenever other phrases count it is told
//! of them by a line on its standard input, which it may leave unread.

use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::os::unix::process::CommandExt as _;
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::mpsc::Sender;
use std::thread;
use std::time::Duration;

use lantern_model::{Event, Listening};
use rustix::process::{Pid, Signal, kill_process_group};
use serde::{Deserialize, Serialize};

use super::thread::Call;
use crate::ServiceError;

/// A line is read no further than this.
const LONGEST_LINE: u64 = 65_536;

/// What such a program prints.
#[derive(Deserialize)]
struct Said {
    text: String,
    #[serde(default = "certain")]
    confidence: f64,
    from: Option<f64>,
    until: Option<f64>,
}

fn certain() -> f64 {
    1.0
}

/// What it is told.
#[derive(Serialize)]
struct Wanted<'l> {
    attention: &'l str,
    phrases: Vec<&'l str>,
}

/// The running program; it ends with this.
#[derive(Debug)]
pub(super) struct Outside {
    line: String,
    child: Child,
    stdin: Option<ChildStdin>,
}

impl Outside {
    /// Starts it in a process group of its own; its lines come as calls.
    pub(super) fn start(
        line: &str,
        number: u32,
        calls: Sender<Call>,
    ) -> Result<Outside, ServiceError> {
        let failed = |why: String| ServiceError::Recogniser { line: line.to_owned(), why };
        let words = shlex::split(line).filter(|words| !words.is_empty());
        let words = words.ok_or_else(|| failed("a quotation mark is not closed".to_owned()))?;
        let mut command = Command::new(&words[0]);
        command.args(&words[1..]).process_group(0);
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
        let mut child = command.spawn().map_err(|error| failed(error.to_string()))?;
        let (stdin, stdout) = (child.stdin.take(), child.stdout.take());
        thread::spawn(move || {
            let mut reader = BufReader::new(stdout.expect("it is a pipe"));
            let mut bytes = Vec::new();
            loop {
                bytes.clear();
                let read = reader.by_ref().take(LONGEST_LINE).read_until(b'\n', &mut bytes);
                if !read.is_ok_and(|count| count > 0) {
                    break;
                }
                let line = String::from_utf8_lossy(&bytes).into_owned();
                if calls.send(Call::Line(number, line)).is_err() {
                    return;
                }
            }
            let _ = calls.send(Call::Silent(number));
        });
        Ok(Outside { line: line.to_owned(), child, stdin })
    }

    /// Tells it what counts now. One that does not listen is not told again.
    pub(super) fn tell_phrases(&mut self, listening: &Listening) {
        let phrases = listening.phrases.iter().map(|phrase| phrase.text.as_str()).collect();
        let wanted = Wanted { attention: &listening.attention, phrases };
        let told = serde_json::to_string(&wanted).ok().zip(self.stdin.as_mut());
        if let Some((line, stdin)) = told
            && writeln!(stdin, "{line}").is_err()
        {
            self.stdin = None;
        }
    }

    /// What a line tells; nothing if it is no such line.
    pub(super) fn event_of(&self, line: &str) -> Option<Event> {
        let said: Said = serde_json::from_str(line.trim()).ok()?;
        let score = said.confidence.clamp(0.0, 1.0);
        let words = said.text;
        if words.trim().is_empty() {
            return None;
        }
        if score < 0.5 {
            return Some(Event::Misheard { words, score, why: "it is not sure enough".to_owned() });
        }
        let seconds = said.until.zip(said.from).map_or(0.0, |(until, from)| until - from);
        let began = Duration::try_from_secs_f64(seconds).unwrap_or_default();
        Some(Event::Heard { words, score, began })
    }

    /// Why nothing comes from it any more.
    pub(super) fn ended(&mut self) -> ServiceError {
        let why = match self.child.try_wait() {
            Ok(Some(status)) => status.to_string(),
            _ => "it closed its output".to_owned(),
        };
        ServiceError::Recogniser { line: self.line.clone(), why }
    }
}

impl Drop for Outside {
    fn drop(&mut self) {
        // All that it started as well.
        let _ = kill_process_group(Pid::from_child(&self.child), Signal::TERM);
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
