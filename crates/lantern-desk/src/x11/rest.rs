//! Whether programs that give no signs of life have read all that came for them: they have if they sleep,
//! and slept all the while between two looks. The server has written to them before it answers us, so
//! what is there to be read has woken them by then.
//!
//! Others may hand their keys, by their keycodes, to an input method, and get them back later (X Input Method
//! Protocol). It must rest as well then, with those it works with.

use std::fs;
use std::time::Duration;

use lantern_model::Time;

use super::connection::Link;
use super::windows;
use crate::DeskError;

/// From one look to the next: longer than a server under load takes to answer a program that sleeps
/// only until then.
const BETWEEN_LOOKS: Duration = Duration::from_millis(20);
/// The same where an input method works, which may still be starting what it asks.
const BETWEEN_LOOKS_AT_METHODS: Duration = Duration::from_millis(50);
/// A program that never rests is not waited for any longer.
const PATIENCE: Duration = Duration::from_secs(5);

/// Programs that are looked at until they rest, all of them at once.
#[derive(Debug)]
pub(super) struct Resting {
    process: u32,
    methods: Vec<u32>,
    /// How often they had gone to sleep when they were seen asleep last.
    slept: Option<Vec<u64>>,
    until: Time,
}

impl Resting {
    /// A program and the input methods of its display; nothing if it cannot be looked at.
    pub(super) fn of(process: u32, methods: Vec<u32>, now: Time) -> Option<Resting> {
        look(process)?;
        Some(Resting { process, methods, slept: None, until: now + PATIENCE })
    }

    /// Looks again. When to look next; nothing if they rest, or were given up. What they sent each other must
    /// have gone through the server before.
    pub(super) fn look_again(&mut self, now: Time) -> Option<Time> {
        // One that is gone, or works on another machine, keeps nothing from us.
        let methods = self.methods.iter().flat_map(|method| relatives(*method));
        let looks = methods.filter_map(look).chain([look(self.process).flatten()]);
        let asleep: Option<Vec<u64>> = looks.collect();
        let rest = asleep.is_some() && asleep == self.slept;
        self.slept = asleep;
        let alone = self.methods.is_empty();
        let between = if alone { BETWEEN_LOOKS } else { BETWEEN_LOOKS_AT_METHODS };
        (!rest && now < self.until).then(|| now + between)
    }
}

/// The processes of the display's input methods.
pub(super) fn input_methods(link: &Link) -> Result<Vec<u32>, DeskError> {
    let mut processes = Vec::new();
    for server in windows::input_methods(link)? {
        let owner = windows::owner_of(link, server)?;
        if owner != x11rb::NONE {
            processes.extend(windows::process_of(link, owner)?);
        }
    }
    Ok(processes)
}

/// An input method's processes: the one that is known, or all that were started with it by one whose name
/// begins as its own does, as that of `ibus-x11` and `ibus-daemon`.
fn relatives(method: u32) -> Vec<u32> {
    let read = |path: &str| fs::read_to_string(path).unwrap_or_default();
    let family = |process: u32| {
        let name = read(&format!("/proc/{process}/comm"));
        name.trim().split('-').next().map(str::to_owned)
    };
    let status = read(&format!("/proc/{method}/status"));
    let parent = status.lines().find_map(|line| line.strip_prefix("PPid:")?.trim().parse().ok());
    match parent {
        Some(parent) if family(parent) == family(method) => {
            let children = read(&format!("/proc/{parent}/task/{parent}/children"));
            let children = children.split_whitespace().filter_map(|child| child.parse().ok());
            children.chain([parent]).collect()
        }
        _ => vec![method],
    }
}

/// How often a process has gone to sleep of itself, if it sleeps; nothing at all if it is gone.
fn look(process: u32) -> Option<Option<u64>> {
    let status = fs::read_to_string(format!("/proc/{process}/status")).ok()?;
    let field = |name: &str| {
        let line = status.lines().find_map(|line| line.strip_prefix(name));
        line.map(str::trim)
    };
    let asleep = field("State:")?.starts_with('S');
    let count = field("voluntary_ctxt_switches:")?.parse().ok()?;
    Some(asleep.then_some(count))
}

#[cfg(test)]
mod tests {
    use std::process::{Command, Stdio};

    use super::*;

    const NOW: Time = Time::START;

    #[test]
    fn a_program_that_sleeps_rests_and_one_that_works_is_waited_for_until_it_is_given_up() {
        let start = |line: &str| {
            let mut command = Command::new("sh");
            command.args(["-c", line]).stdin(Stdio::piped()).stdout(Stdio::piped());
            command.spawn().expect("there is a shell")
        };
        let rests = |process: u32| {
            let mut resting = Resting::of(process, Vec::new(), NOW).expect("it is there");
            let looks = std::iter::from_fn(|| {
                std::thread::sleep(BETWEEN_LOOKS);
                resting.look_again(NOW)
            });
            looks.take(50).count() < 50
        };
        let mut idle = start("read line");
        assert!(rests(idle.id()));
        let mut busy = start("while :; do :; done");
        assert!(!rests(busy.id()));
        let mut resting = Resting::of(idle.id(), vec![busy.id()], NOW).expect("they are there");
        assert_eq!(resting.look_again(NOW + PATIENCE), None, "it never does");
        for child in [&mut idle, &mut busy] {
            child.kill().expect("it is ours");
            child.wait().expect("it was started");
        }
        assert!(Resting::of(idle.id(), Vec::new(), NOW).is_none(), "it is gone");
    }
}
