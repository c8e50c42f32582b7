//! The log of decisions: why a rule fired or did not. `lantern why`, `watch` and rehearsals read it.

use std::collections::VecDeque;
use std::fmt;
use std::sync::Arc;

use lantern_model::{
    CommandErrorKind, ConnectionState, ListenMode, MicrophoneState, RuleId, RunId, SourceLocation,
    Time,
};

/// A key that types, as a reason names it where it must not be told which one.
pub(crate) const CHARACTER: &str = "a key that types";

/// How many reasons are kept.
const KEPT: usize = 1000;

/// One decision.
#[derive(Debug, Clone, PartialEq)]
pub struct Decision {
    /// Its number, counted from 1.
    pub number: u64,
    /// When.
    pub time: Time,
    /// The rule it is about, by its number in the set.
    pub rule: Option<RuleId>,
    /// What was decided.
    pub kind: DecisionKind,
}

/// What was decided.
#[derive(Debug, Clone, PartialEq)]
pub enum DecisionKind {
    /// The rule fired, as this run.
    Fired {
        /// What fired it, as the rule writes it.
        by: Arc<str>,
        /// The run.
        run: RunId,
    },
    /// A run came to its end.
    Ended(RunId),
    /// A run was ended from outside, by this.
    Stopped(RunId, StopCause),
    /// A run failed at a place of the file.
    Failed {
        /// The run.
        run: RunId,
        /// Where.
        place: SourceLocation,
        /// The sort of failure of a command; none if the engine found it itself.
        kind: Option<CommandErrorKind>,
        /// Why.
        message: String,
    },
    /// The rule would have fired, but did not.
    Dropped(String),
    /// What the person is listened to for from now on.
    ListenModeChanged(ListenMode),
    /// A phrase that counts was said, so sure from 0 to 1.
    Heard(String, f64),
    /// The attention word was said alone.
    AttentionWord,
    /// A device, by its name, is there from now on or went away.
    ConnectionState(String, ConnectionState),
    /// A device sent a line that is too long; its end was left out.
    CutLine(String),
    /// Whether the person can be heard from now on.
    MicrophoneState(MicrophoneState),
    /// Something was heard or drawn that no rule wants here.
    NotRecognized(String),
    /// No rule wanted the key after all; the program got it.
    Replayed(String),
    /// Keys that this keyboard does not have.
    MissingKeys(String),
    /// Whether the keyboard goes to a password field now.
    PasswordField(bool),
    /// Whether the screen is locked now, or the person away otherwise.
    Locked(bool),
    /// A run makes more input than the ceiling lets through, and is held to it.
    RateLimited(RunId),
    /// Keys that another program has grabbed.
    GrabsRefused(String),
    /// Keys that the desktop, asked for them, did not grant.
    GrabsNotGranted(String),
    /// The keyboard's layout is another one now; all grabs were installed again.
    LayoutChanged,
    /// The panic combination stopped everything.
    Panic {
        /// Runs that were ended.
        runs: usize,
        /// Keys that were let go.
        keys: usize,
    },
    /// The panic combination was held while all rules were paused: they are active again.
    Resumed,
}

/// What ended a run from outside.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StopCause {
    /// The screen was locked.
    Locked,
    /// A trigger of its own rule, which says `again stops`.
    OwnTrigger,
    /// A trigger of its own rule, which says `again restarts`.
    FiredAgain,
    /// The key of a `while held` rule went up.
    KeyReleased,
    /// A `stop` step of a rule.
    StopStep,
    /// A `stop all until resumed` step.
    StopAllStep,
    /// The file was saved with another rule in its place.
    RuleChanged,
    /// The panic combination.
    PanicKey,
    /// The command `stop`.
    StopCommand,
    /// The command `pause`.
    PauseCommand,
    /// The program ends.
    SessionEnd,
    /// The scene that is played ends.
    SceneEnd,
}

impl fmt::Display for StopCause {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            StopCause::Locked => "the screen was locked",
            StopCause::OwnTrigger => "its own trigger",
            StopCause::FiredAgain => "the rule fired again",
            StopCause::KeyReleased => "its key was let go",
            StopCause::StopStep => "a `stop` step",
            StopCause::StopAllStep => "a `stop all until resumed` step",
            StopCause::RuleChanged => "its rule was changed in the file",
            StopCause::PanicKey => "the panic key",
            StopCause::StopCommand => "`lantern stop`",
            StopCause::PauseCommand => "`lantern pause`",
            StopCause::SessionEnd => "the end of the program",
            StopCause::SceneEnd => "the end of the scene",
        })
    }
}

#[derive(Debug, Default)]
pub(crate) struct DecisionLog {
    ring: VecDeque<Decision>,
    count: u64,
}

impl DecisionKind {
    /// The run that the reason is about, if it is about one.
    pub fn run(&self) -> Option<RunId> {
        match self {
            DecisionKind::Fired { run, .. }
            | DecisionKind::Ended(run)
            | DecisionKind::Stopped(run, _)
            | DecisionKind::Failed { run, .. }
            | DecisionKind::RateLimited(run) => Some(*run),
            _ => None,
        }
    }
}

impl DecisionLog {
    pub(crate) fn add(&mut self, time: Time, rule: Option<RuleId>, kind: DecisionKind) {
        self.count += 1;
        if self.ring.len() == KEPT {
            self.ring.pop_front();
        }
        self.ring.push_back(Decision { number: self.count, time, rule, kind });
    }

    /// Changes what rules reasons are about, as `change` says.
    pub(crate) fn remap_ids(&mut self, change: impl Fn(RuleId) -> Option<RuleId>) {
        for reason in &mut self.ring {
            reason.rule = reason.rule.and_then(&change);
        }
    }

    pub(crate) fn last(&self) -> u64 {
        self.count
    }

    pub(crate) fn after(&self, number: u64) -> impl Iterator<Item = &Decision> {
        let skip = self.ring.partition_point(|reason| reason.number <= number);
        self.ring.range(skip..)
    }
}
