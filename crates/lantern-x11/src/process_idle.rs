//! Whether programs that give no signs of life have read all that came for them: they have if they sleep,
//! and slept all the while between two looks. The server has written to them before it answers us, so
//! what is there to be read has woken them by then.
//!
//! Others may hand their keys, by their keycodes, to an input method, and get them back later (X Input Method
//! Protocol). It must rest as well then, with those it works with; and since it may sleep over what came, it is
//! woken between the looks: once by that, and by nothing else.

use std::fs;
use std::time::Duration;

use lantern_model::Time;

/// From one look to the next: longer than a server under load takes to answer a program that sleeps
/// only until then.
const BETWEEN_LOOKS: Duration = Duration::from_millis(20);
/// A program that never rests is not waited for any longer.
const PATIENCE: Duration = Duration::from_secs(5);

/// Programs that are looked at until they rest, all of them at once.
#[derive(Debug)]
pub(super) struct ProcessIdleProbe {
    process: u32,
    methods: Vec<u32>,
    /// How often each will have gone to sleep at the next look if nothing else wakes it, since they were seen
    /// asleep.
    slept: Option<Vec<(u32, u64)>>,
    /// So many looks in a row found that nothing has come, and so many must.
    calm: u8,
    needed: u8,
    until: Time,
}

/// What a sample shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum IdleState {
    /// They are idle, or were waited for long enough.
    Idle,
    /// They must be sampled again then.
    LookAgain(Time),
    /// The same, and the input methods are woken until then.
    Wake(Time),
}

impl ProcessIdleProbe {
    /// A program, which has keys to read if `typed`, and the input methods of its display; nothing if it cannot
    /// be looked at.
    pub(super) fn of(
        process: u32,
        methods: Vec<u32>,
        typed: bool,
        now: Time,
    ) -> Option<ProcessIdleProbe> {
        look(process)?;
        // What wakes a method may come while it waits for something else, and is slept over as well.
        let needed = if typed && !methods.is_empty() { 2 } else { 1 };
        Some(ProcessIdleProbe {
            process,
            methods,
            slept: None,
            calm: 0,
            needed,
            until: now + PATIENCE,
        })
    }

    /// Looks again. What they sent each other must have gone through the server before.
    pub(super) fn look_again(&mut self, now: Time) -> IdleState {
        // One that is gone, or works on another machine, keeps nothing from us.
        let methods = self.methods.iter().flat_map(|method| relatives(*method));
        let looks = methods
            .filter_map(|process| Some((process, look(process)?)))
            .chain([(self.process, look(self.process).flatten())]);
        let asleep: Option<Vec<(u32, u64)>> =
            looks.map(|(process, count)| Some((process, count?))).collect();
        self.calm = if asleep.is_some() && asleep == self.slept { self.calm + 1 } else { 0 };
        self.slept = asleep;
        for (process, count) in self.slept.iter_mut().flatten() {
            *count += u64::from(self.methods.contains(process));
        }
        if self.calm == self.needed || now >= self.until {
            IdleState::Idle
        } else if self.methods.is_empty() || self.slept.is_none() {
            IdleState::LookAgain(now + BETWEEN_LOOKS)
        } else {
            IdleState::Wake(now + BETWEEN_LOOKS)
        }
    }
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
    use std::io::Write as _;
    use std::process::{Child, Command, Stdio};

    use super::*;

    const NOW: Time = Time::START;

    #[test]
    fn a_program_that_sleeps_rests_and_one_that_works_is_waited_for_until_it_is_given_up() {
        let start = |line: &str| {
            let mut command = Command::new("sh");
            command.args(["-c", line]).stdin(Stdio::piped()).stdout(Stdio::piped());
            command.spawn().expect("there is a shell")
        };
        let look = |resting: &mut ProcessIdleProbe| {
            std::thread::sleep(BETWEEN_LOOKS);
            resting.look_again(NOW)
        };
        let rests = |process: u32| {
            let mut resting =
                ProcessIdleProbe::of(process, Vec::new(), true, NOW).expect("it is there");
            (0..50).any(|_| look(&mut resting) == IdleState::Idle)
        };
        let mut idle = start("read line");
        assert!(rests(idle.id()));
        let mut busy = start("while :; do :; done");
        assert!(!rests(busy.id()));
        // An input method must have been woken as often as it was, and not more often.
        let mut other = start("while read line; do :; done");
        let mut line = other.stdin.take().expect("it has one");
        let with = |method: &Child| ProcessIdleProbe::of(idle.id(), vec![method.id()], true, NOW);
        let mut resting = with(&other).expect("they are there");
        let mut woken = 0;
        while look(&mut resting) != IdleState::Idle {
            line.write_all(b"\n").expect("it reads");
            woken += 1;
            assert!(woken < 50, "they rest");
        }
        assert!(woken >= 2, "{woken}");
        for times in [0, 2] {
            let mut resting = with(&other).expect("they are there");
            for _ in 0..8 {
                assert_ne!(look(&mut resting), IdleState::Idle, "woken {times} times");
                for _ in 0..times {
                    line.write_all(b"\n").expect("it reads");
                    std::thread::sleep(BETWEEN_LOOKS);
                }
            }
        }
        let mut resting = with(&busy).expect("they are there");
        assert!(
            (0..5).all(|_| matches!(look(&mut resting), IdleState::LookAgain(_))),
            "it never rests"
        );
        assert_eq!(resting.look_again(NOW + PATIENCE), IdleState::Idle, "it is given up");
        for child in [&mut idle, &mut busy, &mut other] {
            child.kill().expect("it is ours");
            child.wait().expect("it was started");
        }
        assert!(ProcessIdleProbe::of(idle.id(), Vec::new(), true, NOW).is_none(), "it is gone");
    }
}
