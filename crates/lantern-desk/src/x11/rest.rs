//! Whether programs that give no signs of life have read all that came for them: they have if they sleep,
//! and slept all the while between two looks. The server has written to them before it answers us, so
//! what is there to be read has woken them by then.
//!
//! Others may hand their keys, by their keycodes, to an input method, and get them back later (X Input Method
//! Protocol). It must rest as well then, with those it works with; and since it may sleep over what came, it is
//! woken once all rest, after which nothing more may come to the program.

use std::fs;
use std::time::Duration;

use lantern_model::Time;

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
    /// How often the program had when all of them rested and the input methods were woken.
    woken_at: Option<u64>,
    until: Time,
}

/// What comes of a look.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Look {
    /// They rest, or were given up.
    Rest,
    /// It must be looked again then.
    Again(Time),
    /// The same, and the input methods are woken before.
    Wake(Time),
}

impl Resting {
    /// A program and the input methods of its display; nothing if it cannot be looked at.
    pub(super) fn of(process: u32, methods: Vec<u32>, now: Time) -> Option<Resting> {
        look(process)?;
        Some(Resting { process, methods, slept: None, woken_at: None, until: now + PATIENCE })
    }

    /// Looks again. What they sent each other must have gone through the server before.
    pub(super) fn look_again(&mut self, now: Time) -> Look {
        // One that is gone, or works on another machine, keeps nothing from us.
        let methods = self.methods.iter().flat_map(|method| relatives(*method));
        let looks = methods.filter_map(look).chain([look(self.process).flatten()]);
        let asleep: Option<Vec<u64>> = looks.collect();
        let program = asleep.as_ref().and_then(|counts| counts.last().copied());
        let nothing_came = program.is_some() && program == self.woken_at.take();
        let rest = asleep.is_some() && asleep == self.slept;
        self.slept = asleep;
        if now >= self.until || nothing_came || rest && self.methods.is_empty() {
            return Look::Rest;
        }
        if rest {
            self.woken_at = program;
            return Look::Wake(now + BETWEEN_LOOKS_AT_METHODS);
        }
        let alone = self.methods.is_empty();
        Look::Again(now + if alone { BETWEEN_LOOKS } else { BETWEEN_LOOKS_AT_METHODS })
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
        let look = |resting: &mut Resting| {
            std::thread::sleep(BETWEEN_LOOKS);
            resting.look_again(NOW)
        };
        let rests = |process: u32| {
            let mut resting = Resting::of(process, Vec::new(), NOW).expect("it is there");
            (0..50).any(|_| look(&mut resting) == Look::Rest)
        };
        let (mut idle, mut other) = (start("read line"), start("read line"));
        assert!(rests(idle.id()));
        let mut busy = start("while :; do :; done");
        assert!(!rests(busy.id()));
        // An input method is woken once both rest.
        let with = |method: &Child| Resting::of(idle.id(), vec![method.id()], NOW);
        let mut resting = with(&other).expect("they are there");
        let looks: Vec<Look> = (0..50).map(|_| look(&mut resting)).collect();
        let woken = looks.iter().position(|look| matches!(look, Look::Wake(_)));
        let woken = woken.expect("it is woken");
        assert_eq!(looks.get(woken + 1), Some(&Look::Rest));
        assert!(looks[..woken].iter().all(|look| matches!(look, Look::Again(_))), "{looks:?}");
        let mut resting = with(&busy).expect("they are there");
        assert!((0..5).all(|_| matches!(look(&mut resting), Look::Again(_))), "it never rests");
        assert_eq!(resting.look_again(NOW + PATIENCE), Look::Rest, "it is given up");
        for child in [&mut idle, &mut busy, &mut other] {
            child.kill().expect("it is ours");
            child.wait().expect("it was started");
        }
        assert!(Resting::of(idle.id(), Vec::new(), NOW).is_none(), "it is gone");
    }
}
