//! What a session answers about itself: its status, why something happened, what was said last.

use std::path::Path;

use lantern_backend::Ability;
use lantern_engine::{Decision, DecisionKind, Engine, Owner, StopCause};
use lantern_model::{CommandErrorKind, ConnectionState, RuleId, RunId, Time};
use serde_json::{Value, json};

use super::clock::SessionClock;
use super::pauses::TimedPauses;
use super::requests::QueryParams;
use crate::command_executor::CommandExecutor;
use crate::ipc::protocol::{RpcError, VERSION};
use crate::spoken_rules::Phrases;
use crate::text::describe;

/// Maximum number of runs that are listed one by one; more are counted.
const RUNS_LISTED: usize = 500;

/// What answers are made from.
#[derive(Clone, Copy)]
pub(super) struct SessionReport<'a> {
    pub engine: &'a Engine,
    pub executor: &'a CommandExecutor,
    pub clock: &'a SessionClock,
}

/// Facts of a session that only its status has.
pub(super) struct SessionFacts<'a> {
    /// What the back end is called.
    pub called: &'a str,
    pub path: &'a Path,
    pub is_broken: bool,
    pub pauses: &'a TimedPauses,
    pub abilities: Vec<Ability>,
}

/// Decisions that are about an input of the person's.
fn is_about_input(kind: &DecisionKind) -> bool {
    matches!(
        kind,
        DecisionKind::Fired { .. }
            | DecisionKind::Dropped(_)
            | DecisionKind::NotRecognized(_)
            | DecisionKind::AttentionWord
            | DecisionKind::Replayed(_)
            | DecisionKind::Panic { .. }
            // A press, too, though it fired nothing.
            | DecisionKind::Stopped(_, StopCause::OwnTrigger)
    )
}

impl SessionReport<'_> {
    /// Everything that can be told at once.
    pub(super) fn status(&self, session: &SessionFacts<'_>) -> Value {
        let (now, engine) = (self.clock.now(), self.engine);
        let rules = engine.rules();
        let label = |rule: RuleId| rules.get(rule).map_or("", |rule| rule.label.as_str());
        let live = engine.run_statuses();
        let run_count = live.len();
        let runs = live.into_iter().take(RUNS_LISTED).map(|run| {
            json!({
                "run": run.run.0,
                "rule": label(run.rule),
                "name": rules[run.rule].name,
                "steps": rules[run.rule].steps_text,
                "place": rules.show_place(rules[run.rule].place),
                "at": run.place.map(|place| rules.show_place(place)),
                "does": run.does,
                "seconds": now.since(run.began).as_secs_f64(),
            })
        });
        let owner = |owner: &Owner| match owner.run() {
            Some(run) => engine.rule_of(run).map_or("", label).to_owned(),
            None => "a toggle".to_owned(),
        };
        let held = engine.held_keys().map(|(key, owners)| {
            let by: Vec<String> = owners.iter().map(owner).collect();
            json!({ "key": key.name(), "by": by })
        });
        let programs = self
            .executor
            .programs()
            .map(|(name, process)| json!({ "name": name, "process": process }));
        let (paused, all) = engine.paused();
        let until = session.pauses.iter().map(
            |pause| json!({ "name": pause.name, "seconds": pause.until.since(now).as_secs_f64() }),
        );
        let devices = rules.devices.iter().map(|device| {
            let (state, why) = match self.executor.link(&device.name) {
                Some(ConnectionState::Open) => (Some("there"), None),
                Some(ConnectionState::Down(why)) => (Some("away"), Some(why)),
                None => (None, None),
            };
            let (name, kind) = (&device.name, device.kind.word());
            json!({ "name": name, "kind": kind, "at": device.kind.address(), "state": state, "why": why })
        });
        let microphone = self.executor.loudness().map(|loudness| {
            let whole = |level: f32| f64::from(level.round());
            json!({
                "level": whole(loudness.level),
                "noise": whole(loudness.noise),
                "speech": loudness.speech,
            })
        });
        let attention = &rules.settings.attention;
        let sayable = engine.active_phrases().into_iter().map(|(rule, phrase, uncalled)| {
            let called = !uncalled && !attention.is_empty();
            let say = if called { format!("{attention} {phrase}") } else { phrase.to_owned() };
            json!({ "say": say, "rule": rules[rule].label })
        });
        let abilities = session.abilities.iter();
        let abilities =
            abilities.map(|ability| json!({ "name": ability.name, "way": ability.way }));
        let refused = engine.refused_triggers().into_iter();
        let refused = refused.map(|(rule, key)| json!({ "key": key, "rule": rule.map(label) }));
        json!({
            "version": env!("CARGO_PKG_VERSION"),
            "protocol": VERSION,
            "process": std::process::id(),
            "display": session.called,
            "file": session.path.canonicalize().unwrap_or_else(|_| session.path.to_owned()),
            "since": self.clock.since().strftime("%FT%TZ").to_string(),
            "seconds": self.clock.elapsed().as_secs_f64(),
            "rules": rules.count(),
            "panic": rules.settings.panic.to_string(),
            "paused": { "all": all, "rules": paused.collect::<Vec<_>>(), "until": until.collect::<Vec<_>>() },
            "layers": engine.layers_on().collect::<Vec<_>>(),
            "runs": runs.collect::<Vec<_>>(),
            "run_count": run_count,
            "held": held.collect::<Vec<_>>(),
            "programs": programs.collect::<Vec<_>>(),
            "broken": session.is_broken,
            "devices": devices.collect::<Vec<_>>(),
            "microphone": microphone,
            "refused": refused.collect::<Vec<_>>(),
            "abilities": abilities.collect::<Vec<_>>(),
            "sayable": sayable.collect::<Vec<_>>(),
        })
    }

    /// What was said last, what came of it, and what else counts, the most alike first.
    pub(super) fn last_said(&self) -> Result<Value, RpcError> {
        let last = self.executor.last_said();
        let last = last.ok_or_else(|| RpcError::refused("nothing was said yet"))?;
        let rules = self.engine.rules();
        let said = Phrases::of(rules);
        let verdict = &last.verdict;
        Ok(json!({
            "words": verdict.words,
            "score": verdict.score,
            "counted": verdict.counts,
            "outcome": said.outcome(verdict),
            "seconds": last.ago.as_secs_f64(),
            "others": said.most_alike(&verdict.words),
            "example": last.example,
        }))
    }

    /// Why the last input, an earlier one or a combination did what it did.
    pub(super) fn why(&self, asking: &QueryParams) -> Result<Value, RpcError> {
        let rules = self.engine.rules();
        if let Some(key) = &asking.key {
            let combo = lantern_script::parse_combo(key)
                .map_err(|error| RpcError::refused(error.to_string()))?;
            let near = self.engine.nearest(self.clock.now(), &combo).map_err(RpcError::refused)?;
            let near = near.into_iter().map(|near| {
                let rule = &rules[near.rule];
                let place = rules.show_place(rule.place);
                json!({
                    "rule": rule.label,
                    "steps": rule.steps_text,
                    "place": place,
                    "why": near.reason,
                })
            });
            let near: Vec<Value> = near.collect();
            let seen = self.engine.last_seen(&combo).map_err(RpcError::refused)?;
            let seen = seen.map(|seen| self.clock.now().since(seen).as_secs_f64());
            return Ok(json!({ "key": combo.to_string(), "near": near, "seen": seen }));
        }
        let mut moments: Vec<Time> = self
            .engine
            .decisions_after(0)
            .filter(|reason| is_about_input(&reason.kind))
            .map(|reason| reason.time)
            .collect();
        moments.dedup();
        let back = asking.back.unwrap_or(1).max(1);
        let Some(time) = moments.len().checked_sub(back).map(|at| moments[at]) else {
            let message = match moments.len() {
                0 => "no input has mattered yet".to_owned(),
                count => format!("only {count} inputs are remembered"),
            };
            return Err(RpcError::refused(message));
        };
        let at_moment = |reason: &&Decision| reason.time == time;
        let fired: Vec<RunId> = self
            .engine
            .decisions_after(0)
            .filter(at_moment)
            .filter(|reason| matches!(reason.kind, DecisionKind::Fired { .. }))
            .filter_map(|reason| reason.kind.run())
            .collect();
        // What became of the runs that it fired belongs to it, whenever that was.
        let came_of_it =
            |reason: &&Decision| reason.kind.run().is_some_and(|run| fired.contains(&run));
        let told = self.engine.decisions_after(0);
        let told = told.filter(|reason| at_moment(reason) || came_of_it(reason));
        let told: Vec<Value> = told
            .map(|reason| {
                let mut data = self.reason_data(reason);
                let later = reason.time.since(time).as_secs_f64();
                data["later"] = json!((later > 0.0).then_some(later));
                data
            })
            .chain(fired.iter().filter_map(|run| self.running_data(*run)))
            .collect();
        Ok(json!({ "ago": self.clock.now().since(time).as_secs_f64(), "decisions": told }))
    }

    /// The state of a run, and what it does.
    fn running_data(&self, run: RunId) -> Option<Value> {
        let rules = self.engine.rules();
        let status = self.engine.run_statuses().into_iter().find(|status| status.run == run)?;
        let rule = &rules[status.rule];
        let at = status
            .place
            .map_or_else(String::new, |place| format!(" at {}", rules.show_place(place)));
        Some(json!({
            "rule": rule.label,
            "place": rules.show_place(rule.place),
            "what": format!("it still runs: it {}{at}", status.does),
            "kind": "running",
        }))
    }

    pub(super) fn reason_data(&self, reason: &Decision) -> Value {
        let rules = self.engine.rules();
        let rule = reason.rule.and_then(|rule| rules.get(rule));
        json!({
            "number": reason.number,
            "seconds": reason.time.as_micros() as f64 / 1e6,
            "time": self.clock.wall_words(reason.time),
            "rule": rule.map(|rule| rule.label.as_str()),
            "place": rule.map(|rule| rules.show_place(rule.place)),
            "what": describe(&reason.kind, rules),
            "kind": kind_word(&reason.kind),
            "cause": cause_word(&reason.kind),
        })
    }
}

/// The sort of failure of the command that a run failed with.
fn cause_word(kind: &DecisionKind) -> Option<&'static str> {
    match kind {
        DecisionKind::Failed { kind, .. } => kind.map(CommandErrorKind::word),
        _ => None,
    }
}

fn kind_word(kind: &DecisionKind) -> &'static str {
    match kind {
        DecisionKind::Fired { .. } => "fired",
        DecisionKind::Ended(_) => "ended",
        DecisionKind::Stopped(..) => "stopped",
        DecisionKind::Failed { .. } => "failed",
        DecisionKind::Dropped(_) => "did-not-fire",
        DecisionKind::RateLimited(_) => "rate-limited",
        DecisionKind::NotRecognized(_) => "not-recognized",
        DecisionKind::Heard(..) => "heard",
        DecisionKind::AttentionWord => "attention-word",
        DecisionKind::ListenModeChanged(_) => "listening-changed",
        DecisionKind::MicrophoneState(_) => "microphone",
        DecisionKind::ConnectionState(_, ConnectionState::Open) => "device-connected",
        DecisionKind::ConnectionState(_, ConnectionState::Down(_)) => "device-disconnected",
        DecisionKind::CutLine(_) => "line-cut",
        DecisionKind::Replayed(_) => "replayed",
        DecisionKind::MissingKeys(_) => "missing-key",
        DecisionKind::PasswordField(_) => "password-field",
        DecisionKind::GrabsRefused(_) => "key-taken",
        DecisionKind::GrabsNotGranted(_) => "key-not-granted",
        DecisionKind::Locked(_) => "locked",
        DecisionKind::LayoutChanged => "layout-changed",
        DecisionKind::Panic { .. } => "panic",
        DecisionKind::Resumed => "resumed",
    }
}
