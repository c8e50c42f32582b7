//! A program that runs until it is stopped, and its output.

use std::io::{BufRead, BufReader, Read, Write};
use std::process::{Child, ChildStdin, Command, ExitStatus, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::thread;
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};

use crate::PATIENCE_MS;

/// The program, ended with this.
#[derive(Debug)]
pub struct Talking {
    child: Child,
    lines: Receiver<String>,
    seen: Vec<String>,
    /// Of these, those that no expectation has met yet: its two streams keep no order between them.
    unmet: Vec<String>,
}

impl Talking {
    /// Starts it.
    ///
    /// # Panics
    /// When it cannot be started.
    pub fn start(command: &mut Command) -> Talking {
        let mut child = command
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .expect("the program starts");
        let (sender, lines) = channel();
        let out: [Box<dyn Read + Send>; 2] = [
            Box::new(child.stdout.take().expect("it is piped")),
            Box::new(child.stderr.take().expect("it is piped")),
        ];
        for stream in out {
            let sender = sender.clone();
            thread::spawn(move || {
                for line in BufReader::new(stream).lines().map_while(Result::ok) {
                    if sender.send(line).is_err() {
                        return;
                    }
                }
            });
        }
        Talking { child, lines, seen: Vec::new(), unmet: Vec::new() }
    }

    /// Waits for a line that has this in it, and gives it. Each line meets one expectation.
    ///
    /// # Panics
    /// If none comes.
    pub fn expect(&mut self, part: &str) -> String {
        if let Some(at) = self.unmet.iter().position(|line| line.contains(part)) {
            return self.unmet.remove(at);
        }
        let until = Instant::now() + Duration::from_millis(PATIENCE_MS);
        loop {
            let left = until.saturating_duration_since(Instant::now());
            match self.lines.recv_timeout(left) {
                Ok(line) => {
                    self.seen.push(line.clone());
                    if line.contains(part) {
                        return line;
                    }
                    self.unmet.push(line);
                }
                Err(RecvTimeoutError::Timeout | RecvTimeoutError::Disconnected) => {
                    panic!("no line with {part:?} came; these did:\n{}", self.seen.join("\n"));
                }
            }
        }
    }

    /// Every line that was read so far.
    pub fn lines_so_far(&mut self) -> &[String] {
        self.seen.extend(self.lines.try_iter());
        &self.seen
    }

    /// Every line so far, those that are on their way within that time among them.
    fn lines_within(&mut self, span: Duration) -> Vec<String> {
        let until = Instant::now() + span;
        let left = || until.saturating_duration_since(Instant::now());
        while let Ok(line) = self.lines.recv_timeout(left()) {
            self.seen.push(line);
        }
        self.seen.clone()
    }

    /// Writes a line to its standard input.
    ///
    /// # Panics
    /// When it does not listen.
    pub fn say(&mut self, line: &str) {
        let input: &mut ChildStdin = self.child.stdin.as_mut().expect("it is piped");
        writeln!(input, "{line}").expect("it listens");
    }

    /// Its process.
    pub fn pid(&self) -> Pid {
        Pid::from_child(&self.child)
    }

    /// Sends it a signal.
    ///
    /// # Panics
    /// When it has ended.
    pub fn send(&self, signal: Signal) {
        kill_process(self.pid(), signal).expect("it runs");
    }

    /// Waits for its end.
    ///
    /// # Panics
    /// When it was waited for already.
    pub fn wait(&mut self) -> ExitStatus {
        self.child.wait().expect("it ran")
    }

    /// Stops it as a person does, and gives everything it printed.
    pub fn stop(mut self) -> Vec<String> {
        self.end();
        self.lines_within(Duration::from_secs(1))
    }

    fn end(&mut self) {
        // It may have ended already.
        let _ = kill_process(self.pid(), Signal::TERM);
        let _ = self.child.wait();
    }
}

impl Drop for Talking {
    fn drop(&mut self) {
        let ended = self.child.try_wait().ok().flatten();
        self.end();
        if thread::panicking() {
            let said = self.lines_within(Duration::from_millis(100)).join("\n");
            println!("the program, whose end had come as {ended:?}, printed:\n{said}");
        }
    }
}
