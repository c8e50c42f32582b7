//! `lantern run` at work on a stage.

use std::io::{BufRead, BufReader};
use std::path::PathBuf;
use std::process::{Child, ChildStderr, Command, ExitStatus, Output, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use lantern_stage::{
    Display, PATIENCE_MS, Person, ReceivedKey, Stage, Target, Terminal, wait_until,
};
use rustix::process::{Pid, Signal, kill_process};
use serde_json::Value;

/// A running `lantern run`.
pub struct Running {
    pub child: Child,
    pub file: PathBuf,
    lines: Receiver<String>,
    seen: Vec<String>,
}

impl Running {
    /// Starts it with these rules and waits until it is at work.
    pub fn start(display: &Display, rules: &str) -> Running {
        let mut running = Running::start_unready(display, rules);
        running.wait_for("active on");
        running
    }

    /// The same, with its command changed before it starts.
    pub fn start_with(
        display: &Display,
        rules: &str,
        change: impl FnOnce(&mut Command),
    ) -> Running {
        let mut running = Running::launch(display, rules, change);
        running.wait_for("active on");
        running
    }

    /// Starts it without waiting.
    pub fn start_unready(display: &Display, rules: &str) -> Running {
        Running::launch(display, rules, |_| {})
    }

    fn launch(display: &Display, rules: &str, change: impl FnOnce(&mut Command)) -> Running {
        let file = display.folder().join("bench.lantern");
        std::fs::write(&file, rules).expect("the file can be written");
        let mut command = display.command(env!("CARGO_BIN_EXE_lantern"));
        command.args(["run", "--verbose"]).arg(&file).stdout(Stdio::null()).stderr(Stdio::piped());
        change(&mut command);
        let mut child = command.spawn().expect("the program starts");
        let lines = read_lines(child.stderr.take().expect("it is a pipe"));
        Running { child, file, lines, seen: Vec::new() }
    }

    /// Waits for a line that contains `words`, and gives it.
    pub fn wait_for(&mut self, words: &str) -> String {
        self.wait_at_most(words, Duration::from_millis(PATIENCE_MS))
    }

    /// The same for what takes its time.
    pub fn wait_long_for(&mut self, words: &str) -> String {
        self.wait_at_most(words, 6 * Duration::from_millis(PATIENCE_MS))
    }

    fn wait_at_most(&mut self, words: &str, patience: Duration) -> String {
        loop {
            let line = self.lines.recv_timeout(patience);
            let Ok(line) = line else {
                panic!("waited for {words:?}, read:\n{}", self.seen.join("\n"));
            };
            self.seen.push(line.clone());
            if line.contains(words) {
                return line;
            }
        }
    }

    /// Sends it a signal.
    pub fn signal(&self, signal: Signal) {
        send(self.child.id(), signal);
    }

    /// Time that the program has spent on a processor, to a hundredth of a second.
    pub fn processor_time(&self) -> Duration {
        let stat = std::fs::read_to_string(format!("/proc/{}/stat", self.child.id()));
        let stat = stat.expect("it runs");
        // Fields 14 and 15 of proc_pid_stat(5), in clock ticks; field 2 may hold spaces.
        let fields = stat.rsplit_once(") ").expect("the kernel says").1.split(' ');
        let ticks: u64 = fields.skip(11).take(2).flat_map(|field| field.parse::<u64>()).sum();
        Duration::from_millis(10 * ticks)
    }

    /// The process id of its guardian.
    pub fn guardian(&self) -> u32 {
        let path = format!("/proc/{0}/task/{0}/children", self.child.id());
        let children = std::fs::read_to_string(path).expect("the process lives");
        children.trim().parse().expect("it has one child")
    }

    /// Waits for its end, which must come soon.
    pub fn wait_end(&mut self) -> ExitStatus {
        wait_for_end(&mut self.child)
    }

    /// Ends it as a person does, and expects that to be clean.
    pub fn stop(mut self) {
        self.signal(Signal::TERM);
        assert!(self.wait_end().success(), "read:\n{}", self.seen.join("\n"));
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        if std::thread::panicking() {
            self.seen.extend(self.lines.iter());
            eprintln!("the program had said:\n{}", self.seen.join("\n"));
        }
    }
}

/// Waits until the running program has processed all events sent to it so far, and the X server all
/// requests that the program made because of them.
pub fn take_in(display: &Display, person: &Person) {
    let answer = lantern(display, &["status", "--json"]);
    assert!(answer.status.success(), "it runs and answers");
    person.wait_for_server();
}

/// Waits until every run of a rule sleeps or has ended, and the X server has processed all their input.
fn wait_for_runs(display: &Display, person: &Person) {
    let began = Instant::now();
    loop {
        let answer = lantern(display, &["status", "--json"]);
        let status: Value = serde_json::from_slice(&answer.stdout).expect("it runs and answers");
        let runs = status["runs"].as_array().expect("a list of runs");
        let at_rest = |run: &Value| run["does"] == "waits" || run["does"] == "is paused";
        if runs.iter().all(at_rest) {
            return person.wait_for_server();
        }
        let soon = began.elapsed() < Duration::from_millis(PATIENCE_MS);
        assert!(soon, "runs come to no rest: {status:#}");
    }
}

/// Events that the window received in response to all input made so far. What is missing did not
/// happen: the program answers after it has processed this input, and the X server after it has
/// processed the program's requests.
pub fn arrived(display: &Display, person: &Person, target: &Target) -> Vec<ReceivedKey> {
    wait_for_runs(display, person);
    target.take_all()
}

/// Text that a terminal in front received in response to all input made so far. A return, typed last,
/// marks its end.
pub fn read_arrived(display: &Display, person: &mut Person, terminal: &mut Terminal) -> String {
    wait_for_runs(display, person);
    person.tap("enter");
    terminal.read_line()
}

/// Text that the terminal of the stage received, as for [`read_arrived`].
pub fn typed_rest(stage: &mut Stage) -> String {
    read_arrived(&stage.display, &mut stage.person, &mut stage.terminal)
}

/// Calls the program once on a display.
pub fn lantern(display: &Display, words: &[&str]) -> Output {
    let mut command = display.command(env!("CARGO_BIN_EXE_lantern"));
    command.args(words).output().expect("the program starts")
}

/// Waits for the end of a program that the test started.
pub fn wait_for_end(child: &mut Child) -> ExitStatus {
    let mut status = None;
    wait_until("the program to end", || {
        status = child.try_wait().expect("it can be waited for");
        status.is_some()
    });
    status.expect("it has ended")
}

/// Sends a signal to a process that the test started.
pub fn send(pid: u32, signal: Signal) {
    let pid = Pid::from_raw(pid as i32).expect("it is a process");
    kill_process(pid, signal).expect("it is ours");
}

/// A thread that reads lines, so that waiting for one can give up.
fn read_lines(from: ChildStderr) -> Receiver<String> {
    let (sender, receiver) = channel();
    std::thread::spawn(move || {
        for line in BufReader::new(from).lines().map_while(Result::ok) {
            if sender.send(line).is_err() {
                return;
            }
        }
    });
    receiver
}
