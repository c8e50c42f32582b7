//! What is asked through the socket, answered.

use std::time::Duration;

use lantern_desk::Backend;
use lantern_engine::{Decision, DecisionKind, Owner, StopCause};
use lantern_model::{ConnectionState, RuleId, RunId, Time, Value as Given};
use serde::Deserialize;
use serde_json::{Value, json};

use super::Session;
use super::reloading::ReloadRequest;
use crate::failure::Failure;
use crate::ipc::protocol::{self, Request, RpcError, VERSION, code, read_request, reply};
use crate::spoken_rules::Phrases;
use crate::text::describe;

/// More runs are counted, not told one by one.
const RUNS_TOLD: usize = 500;

/// A `pause` with an end.
#[derive(Debug)]
pub(super) struct TimedPause {
    pub until: Time,
    pub name: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct NamedParams {
    name: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct PauseParams {
    name: Option<String>,
    seconds: Option<f64>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct FireParams {
    name: String,
    #[serde(default)]
    values: Vec<Value>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct StopParams {
    name: Option<String>,
    run: Option<u64>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct ListenParams {
    port: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct EndParams {
    process: u32,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct QueryParams {
    key: Option<String>,
    /// The last input is 1, the one before it 2.
    #[serde(default)]
    back: Option<usize>,
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

impl<D: Backend> Session<'_, D> {
    /// Does what the next request asks and answers it; whether there was one.
    pub(super) fn answer_next(&mut self) -> Result<bool, Failure> {
        let Some((client, line)) = self.place.ipc.next_line() else { return Ok(false) };
        let answer = match read_request(&line) {
            Err(answer) => Some(answer),
            Ok(request) if request.method == "reload" => {
                let id = request.id.clone();
                // Answered when the files are read.
                let begun = self.reload_for(ReloadRequest { client, id: request.id });
                begun.err().and_then(|error| Some(reply(&id?, Err(error))))
            }
            Ok(request) => {
                let result = self.answer(client, &request);
                request.id.map(|id| reply(&id, result))
            }
        };
        let now = self.now();
        self.perform_effects(now)?;
        if let Some(answer) = answer {
            self.place.ipc.send(client, &answer);
        }
        Ok(true)
    }

    fn answer(&mut self, client: u64, request: &Request) -> Result<Value, RpcError> {
        let now = self.now();
        let engine = &mut self.engine;
        match request.method.as_str() {
            "version" => {
                return Ok(json!({ "protocol": VERSION, "version": env!("CARGO_PKG_VERSION") }));
            }
            "status" => return Ok(self.status()),
            "fire" => {
                let FireParams { name, values } = request.params()?;
                let values = values.iter().map(given).collect::<Result<Vec<_>, _>>()?;
                engine.fire_named(now, &name, values).map_err(RpcError::refused)?;
            }
            "stop" => return self.stop(request.params()?),
            "pause" => {
                let PauseParams { name, seconds } = request.params()?;
                engine.pause(now, name.as_deref()).map_err(RpcError::refused)?;
                self.pauses.retain(|pause| pause.name != name);
                let span = seconds.map(Duration::try_from_secs_f64).transpose();
                let span = span.map_err(|_| RpcError::refused("that is no length of time"))?;
                self.pauses.extend(span.map(|span| TimedPause { until: now + span, name }));
            }
            "resume" => {
                let NamedParams { name } = request.params()?;
                engine.resume(now, name.as_deref()).map_err(RpcError::refused)?;
                self.pauses.retain(|pause| name.is_some() && pause.name != name);
            }
            "end" => {
                let EndParams { process } = request.params()?;
                if !self.executor.end_process(process) {
                    let message = format!("no program of ours has the process {process}");
                    return Err(RpcError::refused(message));
                }
            }
            "why" => return self.why(&request.params()?),
            "last-said" => return self.last_said(),
            "watch" | "listen" if !self.place.ipc.has_room_for_watcher() => {
                return Err(RpcError::refused("as many watch already as may"));
            }
            "watch" => {
                let newest =
                    self.engine.decisions_after(0).last().map_or(0, |reason| reason.number);
                self.place.ipc.watch_from(client, newest);
            }
            "listen" => {
                let ListenParams { port } = request.params()?;
                let device = self.device_at(&port).ok_or_else(|| {
                    RpcError::refused(format!("no device of the rules is at {port}"))
                })?;
                self.place.ipc.watch_device(client, device);
            }
            "leave" => self.leaving = true,
            other => {
                let message = format!("there is no method `{other}`");
                return Err(RpcError { code: code::NO_METHOD, message });
            }
        }
        Ok(json!({}))
    }

    fn stop(&mut self, StopParams { name, run }: StopParams) -> Result<Value, RpcError> {
        let now = self.now();
        let stopped = match (name, run) {
            (Some(name), _) => self.engine.stop_named(now, &name).map_err(RpcError::refused)?,
            (None, Some(run)) => usize::from(self.engine.stop_run(now, RunId(run))),
            (None, None) => {
                let (runs, _) = self.engine.stop_everything(now, StopCause::StopCommand);
                runs
            }
        };
        Ok(json!({ "stopped": stopped }))
    }

    /// Everything that can be told at once.
    fn status(&self) -> Value {
        let (now, engine) = (self.now(), &self.engine);
        let rules = engine.rules();
        let label = |rule: RuleId| rules.get(rule).map_or("", |rule| rule.label.as_str());
        let live = engine.run_statuses();
        let run_count = live.len();
        let runs = live.into_iter().take(RUNS_TOLD).map(|run| {
            json!({
                "run": run.run.0,
                "rule": label(run.rule),
                "name": rules[run.rule].name,
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
        let until = self.pauses.iter().map(
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
        let ear = self.executor.loudness().map(|loudness| {
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
        json!({
            "version": env!("CARGO_PKG_VERSION"),
            "protocol": VERSION,
            "process": std::process::id(),
            "display": self.place.called,
            "file": self.place.path.canonicalize().unwrap_or_else(|_| self.place.path.clone()),
            "since": self.since.strftime("%FT%TZ").to_string(),
            "seconds": self.start.elapsed().as_secs_f64(),
            "rules": rules.count(),
            "panic": rules.settings.panic.to_string(),
            "paused": { "all": all, "rules": paused.collect::<Vec<_>>(), "until": until.collect::<Vec<_>>() },
            "layers": engine.layers_on().collect::<Vec<_>>(),
            "runs": runs.collect::<Vec<_>>(),
            "run_count": run_count,
            "held": held.collect::<Vec<_>>(),
            "programs": programs.collect::<Vec<_>>(),
            "broken": self.broken,
            "devices": devices.collect::<Vec<_>>(),
            "ear": ear,
            "sayable": sayable.collect::<Vec<_>>(),
        })
    }

    /// What was said last, what came of it, and what else counts, the most alike first.
    fn last_said(&self) -> Result<Value, RpcError> {
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
            "seconds": last.at.elapsed().as_secs_f64(),
            "others": said.most_alike(&verdict.words),
            "example": last.example,
        }))
    }

    /// Why the last input, an earlier one or a combination did what it did.
    fn why(&self, asking: &QueryParams) -> Result<Value, RpcError> {
        let rules = self.engine.rules();
        if let Some(key) = &asking.key {
            let combo = lantern_script::parse_combo(key).map_err(RpcError::refused)?;
            let near = self.engine.nearest(self.now(), &combo).map_err(RpcError::refused)?;
            let near = near.into_iter().map(|near| {
                let rule = &rules[near.rule];
                let place = rules.show_place(rule.place);
                json!({ "rule": rule.label, "place": place, "why": near.reason })
            });
            let near: Vec<Value> = near.collect();
            let seen = self.engine.last_seen(&combo).map_err(RpcError::refused)?;
            let seen = seen.map(|seen| self.now().since(seen).as_secs_f64());
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
        Ok(json!({ "ago": self.now().since(time).as_secs_f64(), "decisions": told }))
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

    fn reason_data(&self, reason: &Decision) -> Value {
        let rules = self.engine.rules();
        let rule = reason.rule.and_then(|rule| rules.get(rule));
        json!({
            "number": reason.number,
            "seconds": reason.time.as_micros() as f64 / 1e6,
            "time": self.clock_words(reason.time),
            "rule": rule.map(|rule| rule.label.as_str()),
            "place": rule.map(|rule| rules.show_place(rule.place)),
            "what": describe(&reason.kind, rules),
            "kind": kind_word(&reason.kind),
        })
    }

    /// A moment as a clock on the wall shows it.
    fn clock_words(&self, time: Time) -> String {
        let moment = self.since + time.since(Time::START);
        let zone = jiff::tz::TimeZone::system();
        moment.to_zoned(zone).strftime("%H:%M:%S%.3f").to_string()
    }

    /// Tells those who watch what was decided since they were told last.
    pub(super) fn tell_listeners(&mut self) {
        let listeners = self.place.ipc.decision_watchers();
        let Some(first) = listeners.iter().map(|(_, told)| *told).min() else { return };
        let line = |reason: &Decision| {
            let line = protocol::request(None, "decided", &self.reason_data(reason));
            (reason.number, line)
        };
        let lines: Vec<(u64, String)> = self.engine.decisions_after(first).map(line).collect();
        let Some(last) = lines.last().map(|(number, _)| *number) else { return };
        for (client, told) in listeners.into_iter().filter(|(_, told)| *told < last) {
            let fresh = lines.iter().filter(|(number, _)| *number > told);
            let fresh: String = fresh.map(|(_, line)| line.as_str()).collect();
            self.place.ipc.watch_from(client, last);
            self.place.ipc.send(client, &fresh);
        }
    }

    /// Ends pauses whose time is over; whether there were any.
    pub(super) fn end_pauses(&mut self, now: Time) -> Result<bool, Failure> {
        let over: Vec<TimedPause> =
            self.pauses.extract_if(.., |pause| pause.until <= now).collect();
        let any = !over.is_empty();
        for pause in over {
            // A rule that is gone from the file needs no resuming.
            let _ = self.engine.resume(now, pause.name.as_deref());
            self.perform_effects(now)?;
        }
        Ok(any)
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
        DecisionKind::Locked(_) => "locked",
        DecisionKind::LayoutChanged => "layout-changed",
        DecisionKind::Panic { .. } => "panic",
    }
}

/// A value as a macro takes it: text in which a duration, share or key of the language is known.
fn given(value: &Value) -> Result<Given, RpcError> {
    match value {
        Value::Bool(truth) => Ok(Given::Truth(*truth)),
        Value::Number(number) => Ok(Given::Number(number.as_f64().unwrap_or_default())),
        Value::String(text) => {
            Ok(lantern_script::parse_value(text).unwrap_or_else(|| Given::Text(text.clone())))
        }
        other => Err(RpcError::refused(format!("{other} is no value of the language"))),
    }
}
