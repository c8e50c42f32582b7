//! Answers the requests of clients of the socket.

use std::time::Duration;

use lantern_backend::Backend;
use lantern_engine::{Decision, StopCause};
use lantern_model::{RunId, Time, Value as Given};
use serde_json::{Value, json};

use super::Session;
use super::device_events::device_at;
use super::requests::{SessionRequest, StopParams};
use super::rule_files::ReloadRequest;
use super::status::{SessionFacts, SessionReport};
use crate::failure::Failure;
use crate::ipc::protocol::{self, Request, RpcError, VERSION, read_request, reply};
use crate::ipc::server::ClientId;

impl<D: Backend> Session<'_, D> {
    /// Answers the next request; whether there was one.
    pub(super) fn answer_next(&mut self) -> Result<bool, Failure> {
        let Some((client, line)) = self.place.ipc.next_line() else { return Ok(false) };
        let answer = match read_request(&line) {
            Err(error) => Some(reply(&Value::Null, Err(error))),
            Ok(request) => self.answer_request(client, request),
        };
        let now = self.now();
        self.perform_effects(now)?;
        if let Some(answer) = answer {
            self.place.ipc.send(client, &answer);
        }
        Ok(true)
    }

    /// The answer to a request, if it is given now and the client wants one.
    fn answer_request(&mut self, client: ClientId, request: Request) -> Option<String> {
        let result = match SessionRequest::parse(&request) {
            Ok(SessionRequest::Reload) => {
                let (now, id) = (self.now(), request.id.clone());
                // Answered when the files are read.
                self.files.reload_for(now, ReloadRequest { client, id }).err().map(Err)?
            }
            Ok(parsed) => self.answer(client, parsed),
            Err(error) => Err(error),
        };
        request.id.map(|id| reply(&id, result))
    }

    fn answer(&mut self, client: ClientId, request: SessionRequest) -> Result<Value, RpcError> {
        let now = self.now();
        match request {
            SessionRequest::Version => {
                return Ok(json!({ "protocol": VERSION, "version": env!("CARGO_PKG_VERSION") }));
            }
            SessionRequest::Status => return Ok(self.report().status(&self.facts())),
            SessionRequest::Why(query) => return self.report().why(&query),
            SessionRequest::LastSaid => return self.report().last_said(),
            SessionRequest::Stop(params) => return self.stop(params),
            SessionRequest::Fire(params) => {
                let values = params.values.iter().map(given).collect::<Result<Vec<_>, _>>()?;
                let fired = self.engine.fire_named(now, &params.name, values);
                fired.map_err(RpcError::refused)?;
            }
            SessionRequest::Pause(params) => {
                let span = params.seconds.map(Duration::try_from_secs_f64).transpose();
                let span = span.map_err(|_| RpcError::refused("that is no length of time"))?;
                self.engine.pause(now, params.name.as_deref()).map_err(RpcError::refused)?;
                self.pauses.pause(now, params.name, span);
            }
            SessionRequest::Resume(params) => {
                let name = params.name.as_deref();
                self.engine.resume(now, name).map_err(RpcError::refused)?;
                self.pauses.resume(name);
            }
            SessionRequest::End(params) => {
                if !self.executor.end_process(params.process) {
                    let message = format!("no program of ours has the process {}", params.process);
                    return Err(RpcError::refused(message));
                }
            }
            SessionRequest::Watch => {
                self.check_watchers()?;
                let newest = self.engine.last_decision();
                self.place.ipc.watch_from(client, newest);
            }
            SessionRequest::Listen(params) => {
                self.check_watchers()?;
                let device = device_at(self.engine.rules(), &params.port).ok_or_else(|| {
                    RpcError::refused(format!("no device of the rules is at {}", params.port))
                })?;
                self.place.ipc.watch_device(client, device);
            }
            SessionRequest::Leave => self.is_leaving = true,
            SessionRequest::Reload => unreachable!("a reload is answered later"),
        }
        Ok(json!({}))
    }

    fn check_watchers(&self) -> Result<(), RpcError> {
        if self.place.ipc.has_room_for_watcher() {
            return Ok(());
        }
        Err(RpcError::refused("as many watch already as may"))
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

    fn report(&self) -> SessionReport<'_> {
        SessionReport { engine: &self.engine, executor: &self.executor, clock: &self.clock }
    }

    fn facts(&self) -> SessionFacts<'_> {
        SessionFacts {
            called: &self.place.called,
            path: self.files.path(),
            is_broken: self.files.is_broken(),
            pauses: &self.pauses,
            abilities: self.backend.abilities(),
        }
    }

    /// Sends the clients that watch the decisions since the last ones they got.
    pub(super) fn notify_watchers(&mut self) {
        let listeners = self.place.ipc.decision_watchers();
        let Some(first) = listeners.iter().map(|(_, told)| *told).min() else { return };
        let line = |reason: &Decision| {
            let line = protocol::request(None, "decided", &self.report().reason_data(reason));
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
        let over = self.pauses.take_over(now);
        let any = !over.is_empty();
        for pause in over {
            // A rule that is gone from the file needs no resuming.
            let _ = self.engine.resume(now, pause.name.as_deref());
            self.perform_effects(now)?;
        }
        Ok(any)
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
