//! A program that hears instead of us: any recogniser that can print what it heard.
//!
//! It prints one JSON object a line for each utterance: `text`, and if known `confidence` from 0 to
//! 1 and `from` and `until` in seconds. When the active phrases change, a line on its standard
//! input lists them. It may leave that unread: a thread writes the line, and only the newest one.

use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::os::unix::process::CommandExt as _;
use std::process::{Child, Stdio};
use std::sync::mpsc::Sender;
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::thread;

use lantern_model::Listening;
use rustix::process::{Pid, Signal, kill_process_group};
use serde::Serialize;

use super::speech_command::SpeechCommand;
use crate::AudioError;
use lantern_system::ChildEnvironment;

/// A line is read no further than this.
const LONGEST_LINE: u64 = 65_536;

/// A line for its standard input.
#[derive(Serialize)]
struct ExternalRequest<'l> {
    attention: &'l str,
    phrases: Vec<&'l str>,
}

/// The running program; it ends with this.
#[derive(Debug)]
pub(super) struct ExternalRecognizer {
    line: String,
    child: Child,
    told: Arc<LatestLine>,
}

/// The newest line that is to be written, for the thread that writes.
#[derive(Debug, Default)]
struct LatestLine {
    state: Mutex<LatestLineState>,
    changed: Condvar,
}

#[derive(Debug, Default)]
struct LatestLineState {
    line: Option<String>,
    is_over: bool,
}

impl LatestLine {
    /// Replaces the line that waits, or says that none follows.
    fn set(&self, line: Option<String>) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.is_over |= line.is_none();
        state.line = line;
        self.changed.notify_one();
    }

    /// Waits for a line; nothing when none follows.
    fn wait(&self) -> Option<String> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        while state.line.is_none() && !state.is_over {
            state = self.changed.wait(state).unwrap_or_else(PoisonError::into_inner);
        }
        state.line.take()
    }
}

impl ExternalRecognizer {
    /// Starts it in a process group of its own; its lines come as calls.
    pub(super) fn start(
        line: &str,
        number: u32,
        calls: Sender<SpeechCommand>,
        environment: &ChildEnvironment,
    ) -> Result<ExternalRecognizer, AudioError> {
        let failed = |why: String| AudioError::Recogniser { line: line.to_owned(), why };
        let words = shlex::split(line).filter(|words| !words.is_empty());
        let words = words.ok_or_else(|| failed("a quotation mark is not closed".to_owned()))?;
        let mut command = environment.command(&words[0]);
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
                if calls.send(SpeechCommand::Line(number, line)).is_err() {
                    return;
                }
            }
            let _ = calls.send(SpeechCommand::Silent(number));
        });
        let told = Arc::new(LatestLine::default());
        let newest = Arc::clone(&told);
        thread::spawn(move || {
            let mut stdin = stdin.expect("it is a pipe");
            // One that reads nothing blocks this thread alone, until it ends.
            while let Some(line) = newest.wait()
                && writeln!(stdin, "{line}").is_ok()
            {}
        });
        Ok(ExternalRecognizer { line: line.to_owned(), child, told })
    }

    /// Tells it what counts now. While it does not read, the newest waits for it.
    pub(super) fn tell_phrases(&self, listening: &Listening) {
        let phrases = listening.phrases.iter().map(|phrase| phrase.text.as_str()).collect();
        let wanted = ExternalRequest { attention: &listening.attention_words, phrases };
        if let Ok(line) = serde_json::to_string(&wanted) {
            self.told.set(Some(line));
        }
    }

    /// Why nothing comes from it any more.
    pub(super) fn ended(&mut self) -> AudioError {
        let why = match self.child.try_wait() {
            Ok(Some(status)) => status.to_string(),
            _ => "it closed its output".to_owned(),
        };
        AudioError::Recogniser { line: self.line.clone(), why }
    }
}

impl Drop for ExternalRecognizer {
    fn drop(&mut self) {
        self.told.set(None);
        // All that it started as well.
        let _ = kill_process_group(Pid::from_child(&self.child), Signal::TERM);
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
