//! Whether a program that gives no signs of life has read all that came for it: it has if it sleeps,
//! and slept all the while between two looks. The server has written to it before it answers us, so
//! what is there to be read has woken it by then.

use std::fs;
use std::time::Duration;

use lantern_model::Time;

/// From one look to the next: longer than a server under load takes to answer a program that sleeps
/// only until then.
const BETWEEN_LOOKS: Duration = Duration::from_millis(20);
/// A program that never rests is not waited for any longer.
const PATIENCE: Duration = Duration::from_secs(5);

/// A program that is looked at until it rests.
#[derive(Debug)]
pub(super) struct Resting {
    process: u32,
    /// How often it had gone to sleep when it was seen asleep last.
    slept: Option<u64>,
    until: Time,
}

impl Resting {
    /// Looks at a process for the first time; nothing if it cannot be looked at.
    pub(super) fn of(process: u32, now: Time) -> Option<Resting> {
        look(process)?;
        Some(Resting { process, slept: None, until: now + PATIENCE })
    }

    /// Looks again. When to look next; nothing if it rests, or was given up.
    pub(super) fn look_again(&mut self, now: Time) -> Option<Time> {
        let before = self.slept;
        let asleep = look(self.process).unwrap_or_default();
        self.slept = asleep;
        let rests = asleep.is_some() && asleep == before;
        (!rests && now < self.until).then(|| now + BETWEEN_LOOKS)
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
            let mut resting = Resting::of(process, NOW).expect("it is there");
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
        let mut resting = Resting::of(busy.id(), NOW).expect("it is there");
        assert_eq!(resting.look_again(NOW + PATIENCE), None, "it never does");
        for child in [&mut idle, &mut busy] {
            child.kill().expect("it is ours");
            child.wait().expect("it was started");
        }
        assert!(Resting::of(idle.id(), NOW).is_none(), "it is gone");
    }
}
