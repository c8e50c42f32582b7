//! Processes that are measured, and the figures.

use std::io::{BufRead, BufReader};
use std::process::{Child, Stdio};
use std::time::Duration;

use lantern_stage::Display;

/// The X keycode of `a`, which both clients inject.
pub const A: u8 = 38;

/// What is measured.
pub enum Client<'a> {
    /// The smallest client.
    Baseline {
        /// What it does: `plain`, `lifting` or `button`.
        task: &'a str,
        /// The X keycode or button that it answers.
        detail: u8,
    },
    /// `lantern run` with these rules.
    Program {
        /// The rules.
        rules: &'a str,
    },
}

/// A process that is being measured.
pub struct Running {
    child: Child,
}

impl Client<'_> {
    /// Starts it and waits until it is at work.
    pub fn start(&self, display: &Display) -> Running {
        let mut command = match self {
            Client::Baseline { task, detail } => {
                let program = std::env::current_exe().expect("we are a file");
                let mut command = display.command(program);
                command.args(["baseline", task, &detail.to_string()]);
                command
            }
            Client::Program { rules } => {
                let file = display.folder().join("bench.lantern");
                std::fs::write(&file, rules).expect("it can be written");
                let mut command = display.command(env!("CARGO_BIN_EXE_lantern"));
                command.arg("run").arg(file);
                command
            }
        };
        let mut child =
            command.stdout(Stdio::null()).stderr(Stdio::piped()).spawn().expect("it starts");
        let mut lines = BufReader::new(child.stderr.as_mut().expect("it is a pipe"));
        let mut line = String::new();
        while !line.contains("active on") {
            line.clear();
            assert!(lines.read_line(&mut line).expect("it can be read") > 0, "it ended");
        }
        Running { child }
    }
}

impl Running {
    /// Ends it and waits for its end.
    pub fn stop(mut self) {
        let pid = rustix::process::Pid::from_child(&self.child);
        let _ = rustix::process::kill_process(pid, rustix::process::Signal::TERM);
        let _ = self.child.wait();
    }

    fn guardian(&self) -> u32 {
        let path = format!("/proc/{0}/task/{0}/children", self.child.id());
        let children = std::fs::read_to_string(path).unwrap_or_default();
        children.trim().parse().expect("it has a guardian")
    }

    /// How often it and its guardian went to sleep of themselves.
    pub fn sleeps(&self) -> u64 {
        [self.child.id(), self.guardian()].into_iter().map(sleeps).sum()
    }

    /// Its proportional memory in MB.
    pub fn memory(&self) -> f64 {
        memory(self.child.id())
    }

    /// Its guardian's.
    pub fn guardian_memory(&self) -> f64 {
        memory(self.guardian())
    }
}

fn number_of(path: String, word: &str) -> u64 {
    let text = std::fs::read_to_string(path).unwrap_or_default();
    let line = text.lines().find_map(|line| line.strip_prefix(word));
    let digits = line.map(|line| line.trim().trim_end_matches(" kB"));
    digits.and_then(|digits| digits.parse().ok()).unwrap_or(0)
}

/// How often any of its threads went to sleep.
fn sleeps(pid: u32) -> u64 {
    let threads = std::fs::read_dir(format!("/proc/{pid}/task")).into_iter().flatten().flatten();
    let status = |thread: std::fs::DirEntry| thread.path().join("status").display().to_string();
    threads.map(|thread| number_of(status(thread), "voluntary_ctxt_switches:")).sum()
}

fn memory(pid: u32) -> f64 {
    number_of(format!("/proc/{pid}/smaps_rollup"), "Pss:") as f64 / 1024.0
}

/// How long the host of a virtual machine has kept its processors from running, in the kernel's ticks.
pub fn stolen_time() -> u64 {
    let text = std::fs::read_to_string("/proc/stat").unwrap_or_default();
    let all = text.lines().next().unwrap_or_default();
    all.split_whitespace().nth(8).and_then(|ticks| ticks.parse().ok()).unwrap_or(0)
}

/// Times of one kind, in microseconds.
#[derive(Default)]
pub struct Samples(Vec<f64>);

impl Samples {
    /// Adds one.
    pub fn add(&mut self, span: Duration) {
        self.0.push(span.as_secs_f64() * 1e6);
    }

    /// Adds those of another turn.
    pub fn append(&mut self, mut turn: Samples) {
        self.0.append(&mut turn.0);
    }

    fn at(&self, share: f64) -> f64 {
        let mut sorted = self.0.clone();
        sorted.sort_by(f64::total_cmp);
        let index = ((sorted.len() - 1) as f64 * share).round() as usize;
        sorted[index]
    }

    /// The middle one.
    pub fn median(&self) -> f64 {
        self.at(0.5)
    }

    /// The one that 99 of 100 stay below.
    pub fn p99(&self) -> f64 {
        self.at(0.99)
    }
}

/// Prints two sets of times beside each other.
pub fn print_pair(what: &str, first: &str, second: &str, both: &[&Samples; 2]) {
    println!("\n{what}");
    for (name, samples) in [first, second].into_iter().zip(both) {
        println!("  {name:<10} median {:>7.1}   p99 {:>7.1}", samples.median(), samples.p99());
    }
    println!("  ratio of medians {:.3}", both[1].median() / both[0].median());
}
