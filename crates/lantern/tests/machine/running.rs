//! `lantern run` on the kernel desk.

use std::io::{BufRead, BufReader};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

use rustix::process::{Pid, Signal, kill_process};

/// The longest that anything is waited for.
const PATIENCE: Duration = Duration::from_secs(20);

/// The program at work.
pub struct Running {
    child: Child,
    lines: Receiver<String>,
    seen: Vec<String>,
    _folder: tempfile::TempDir,
    home: PathBuf,
}

/// Who runs it.
#[derive(Default)]
pub struct Who {
    pub user: Option<u32>,
    pub group: Option<u32>,
}

impl Running {
    /// Rules at work with all boards whose name has `board` in it.
    pub fn start(rules: &str, board: &str) -> Running {
        let mut running = Running::begin(rules, &["--board", board], &Who::default());
        running.expect("at work on");
        running
    }

    /// The same with other words, not yet at work.
    pub fn begin(rules: &str, words: &[&str], who: &Who) -> Running {
        let folder = tempfile::tempdir().expect("it can be made");
        let home = folder.path().to_owned();
        std::fs::write(home.join("rules.lantern"), rules).expect("it can be written");
        let mut command = Command::new(crate::LANTERN);
        command
            .args(["run", "--desk", "evdev", "--screen", "1280x800", "--log-level", "info"])
            .args(words)
            .arg("rules.lantern")
            .current_dir(&home)
            .env("HOME", &home)
            .env("XDG_RUNTIME_DIR", &home)
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped());
        if let Some(user) = who.user {
            std::os::unix::fs::chown(&home, Some(user), None).expect("we are root");
            command.uid(user);
        }
        if let Some(group) = who.group {
            command.gid(group);
        }
        let mut child = command.spawn().expect("the program starts");
        let (sender, lines) = channel();
        let out: [Box<dyn std::io::Read + Send>; 2] = [
            Box::new(child.stdout.take().expect("it is piped")),
            Box::new(child.stderr.take().expect("it is piped")),
        ];
        for stream in out {
            let sender = sender.clone();
            std::thread::spawn(move || {
                for line in BufReader::new(stream).lines().map_while(Result::ok) {
                    let _ = sender.send(line);
                }
            });
        }
        Running { child, lines, seen: Vec::new(), _folder: folder, home }
    }

    /// Waits for a line that has this in it.
    pub fn expect(&mut self, part: &str) -> String {
        loop {
            match self.lines.recv_timeout(PATIENCE) {
                Ok(line) => {
                    self.seen.push(line.clone());
                    if line.contains(part) {
                        return line;
                    }
                }
                Err(_) => panic!("no {part:?} came, but:\n{}", self.seen.join("\n")),
            }
        }
    }

    /// Its folder.
    pub fn home(&self) -> &Path {
        &self.home
    }

    /// Sends it a signal.
    pub fn send(&self, signal: Signal) {
        let pid = Pid::from_child(&self.child);
        kill_process(pid, signal).expect("it runs");
    }

    /// Waits for its end.
    pub fn wait(&mut self) -> std::process::ExitStatus {
        self.child.wait().expect("it ran")
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = kill_process(Pid::from_child(&self.child), Signal::TERM);
        let _ = self.child.wait();
    }
}
