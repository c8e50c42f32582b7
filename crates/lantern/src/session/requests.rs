//! What clients of the socket ask for, with the parameters of each method.

use serde::Deserialize;
use serde_json::Value;

use crate::ipc::protocol::{Request, RpcError, code};

/// The rule that is meant; all rules if none is named.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct NamedParams {
    pub name: Option<String>,
}

/// The rule to pause, and for how long.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct PauseParams {
    pub name: Option<String>,
    pub seconds: Option<f64>,
}

/// The rule or macro to run, with its values.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct FireParams {
    pub name: String,
    #[serde(default)]
    pub values: Vec<Value>,
}

/// What to end: the runs of a rule, one run, or everything.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct StopParams {
    pub name: Option<String>,
    pub run: Option<u64>,
}

/// The serial port to watch.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct ListenParams {
    pub port: String,
}

/// The process to end.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct EndParams {
    pub process: u32,
}

/// What to explain: a combination, or an input of the past.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct QueryParams {
    pub key: Option<String>,
    /// The last input is 1, the one before it 2.
    #[serde(default)]
    pub back: Option<usize>,
}

/// A request that the session answers.
#[derive(Debug)]
pub(super) enum SessionRequest {
    Version,
    Status,
    Fire(FireParams),
    Stop(StopParams),
    Pause(PauseParams),
    Resume(NamedParams),
    /// Ends a started program.
    End(EndParams),
    Why(QueryParams),
    /// What was said last.
    LastSaid,
    /// Sends decisions from now on.
    Watch,
    /// Sends the bytes of a device from now on.
    Listen(ListenParams),
    /// Ends the session.
    Leave,
    /// Reads the files again. It is answered when they are read.
    Reload,
}

impl SessionRequest {
    /// Reads the method and its parameters.
    pub(super) fn parse(request: &Request) -> Result<SessionRequest, RpcError> {
        Ok(match request.method.as_str() {
            "version" => SessionRequest::Version,
            "status" => SessionRequest::Status,
            "fire" => SessionRequest::Fire(request.params()?),
            "stop" => SessionRequest::Stop(request.params()?),
            "pause" => SessionRequest::Pause(request.params()?),
            "resume" => SessionRequest::Resume(request.params()?),
            "end" => SessionRequest::End(request.params()?),
            "why" => SessionRequest::Why(request.params()?),
            "last-said" => SessionRequest::LastSaid,
            "watch" => SessionRequest::Watch,
            "listen" => SessionRequest::Listen(request.params()?),
            "leave" => SessionRequest::Leave,
            "reload" => SessionRequest::Reload,
            other => {
                let message = format!("there is no method `{other}`");
                return Err(RpcError { code: code::NO_METHOD, message });
            }
        })
    }
}
