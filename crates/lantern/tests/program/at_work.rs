//! The program at work in a home of its own, on no desk, with real devices: what it prints, line by line.

use std::io::{BufRead, BufReader, Read, Write};
use std::process::{Child, ChildStdin, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::thread;
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};

use crate::home::Home;

/// The longest that anything is waited for.
const PATIENCE: Duration = Duration::from_secs(20);

/// A program of ours that prints lines until it is dropped.
pub struct AtWork {
    child: Child,
    lines: Receiver<String>,
    seen: Vec<String>,
    /// Of these, those that no expectation has met yet: its two streams keep no order between them.
    unmet: Vec<String>,
}

impl AtWork {
    /// Rules at work on no desk, once they are.
    pub fn run(home: &Home, rules: &str) -> AtWork {
        AtWork::run_with(home, rules, &[])
    }

    /// The same with more words on the command line.
    pub fn run_with(home: &Home, rules: &str, more: &[&str]) -> AtWork {
        home.write("bench.lantern", rules);
        let words = [&["run", "--desk", "simulated", "bench.lantern"], more].concat();
        let mut at_work = AtWork::start(home, &words);
        at_work.expect("rules at work");
        at_work
    }

    /// Any command that goes on until it is stopped.
    pub fn start(home: &Home, words: &[&str]) -> AtWork {
        let mut child = home
            .command()
            .args(words)
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
        AtWork { child, lines, seen: Vec::new(), unmet: Vec::new() }
    }

    /// Waits for a line that has this in it, and gives it.
    pub fn expect(&mut self, part: &str) -> String {
        let until = Instant::now() + PATIENCE;
        if let Some(at) = self.unmet.iter().position(|line| line.contains(part)) {
            return self.unmet.remove(at);
        }
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

    /// Every line so far, those that are on their way within that time among them.
    pub fn lines_within(&mut self, span: Duration) -> Vec<String> {
        let until = Instant::now() + span;
        while let Ok(line) =
            self.lines.recv_timeout(until.saturating_duration_since(Instant::now()))
        {
            self.seen.push(line);
        }
        self.seen.clone()
    }

    /// Writes a line to its standard input.
    pub fn say(&mut self, line: &str) {
        let input: &mut ChildStdin = self.child.stdin.as_mut().expect("it is piped");
        writeln!(input, "{line}").expect("it listens");
    }

    /// Its process.
    pub fn pid(&self) -> Pid {
        Pid::from_child(&self.child)
    }

    /// Stops it as a person does, and gives everything it printed.
    pub fn stop(mut self) -> Vec<String> {
        let _ = kill_process(self.pid(), Signal::TERM);
        let _ = self.child.wait();
        while let Ok(line) = self.lines.recv_timeout(Duration::from_secs(1)) {
            self.seen.push(line);
        }
        std::mem::take(&mut self.seen)
    }
}

impl Drop for AtWork {
    fn drop(&mut self) {
        let _ = kill_process(self.pid(), Signal::TERM);
        let _ = self.child.wait();
    }
}
