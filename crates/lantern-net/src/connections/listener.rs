//! A place of ours that others may call over HTTP.
//!
//! Only `POST` and `PUT` fire rules, so that no page or preview can do so by loading; requests from
//! pages are refused. A caller proves its identity by a bearer token (RFC 6750). A caller that
//! calls too often or sends too much gets an error. The answer lists the rules that ran.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use std::time::Instant;

use http_body_util::{BodyExt, Full, Limited};
use hyper::body::{Bytes, Incoming};
use hyper::header::{ALLOW, AUTHORIZATION, CONTENT_TYPE, RETRY_AFTER};
use hyper::{HeaderMap, Method, Request, Response, StatusCode};
use lantern_model::{ConnectionState, Event, SecretTemplate};
use serde::Serialize;
use sha2::{Digest, Sha256};
use subtle::ConstantTimeEq;
use tokio::net::TcpListener;
use tokio::sync::oneshot;

use super::{BackOff, LinkError, TaskContext, secret};
use crate::http_server::{self, PATIENCE, Reply, RequestOrigin, may_be_of_page};
use crate::sockets::owner_of;
use lantern_system::{Allowance, Rate};

/// The longest body, in bytes.
const LONGEST: usize = 64 * 1024;
/// Maximum rate of each caller's calls.
const CALLS: Rate = Rate { per_second: 20.0, at_once: 40.0 };

/// What came of a call.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct CallAnswer {
    /// Rules that ran.
    pub ran: Vec<CalledRule>,
    /// Rules that wanted the call and did not run, each with the reason.
    pub did_not: Vec<CalledRule>,
}

/// A rule in an answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct CalledRule {
    /// Where it stands.
    pub place: String,
    /// What it is called, or its first trigger.
    pub rule: String,
    /// Why it did not run.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

/// Calls that wait to be told what came of them.
#[derive(Clone, Default)]
pub(super) struct PendingCalls(Arc<Mutex<PendingCall>>);

#[derive(Default)]
struct PendingCall {
    count: u64,
    answers: BTreeMap<u64, oneshot::Sender<CallAnswer>>,
}

impl PendingCalls {
    fn add(&self) -> (u64, oneshot::Receiver<CallAnswer>) {
        let (sender, answer) = oneshot::channel();
        let mut waiting = self.0.lock().expect("no caller panics while it has this");
        waiting.count += 1;
        let number = waiting.count;
        waiting.answers.retain(|_, sender| !sender.is_closed());
        waiting.answers.insert(number, sender);
        (number, answer)
    }

    pub(super) fn answer(&self, number: u64, answer: CallAnswer) {
        let mut waiting = self.0.lock().expect("no caller panics while it has this");
        if let Some(sender) = waiting.answers.remove(&number) {
            // The caller may have disconnected meanwhile.
            let _ = sender.send(answer);
        }
    }
}

/// Listens as long as the rules have the device.
pub(super) async fn serve(
    context: TaskContext,
    address: String,
    callers: Vec<(String, SecretTemplate)>,
    calls: PendingCalls,
) {
    let mut back_off = BackOff::default();
    let (listener, door) = loop {
        match open(&context, &address, &callers, &calls).await {
            Ok(opened) => break opened,
            Err(error) => context.say(ConnectionState::Down(error.line())).await,
        }
        back_off.rest().await;
    };
    context.say(ConnectionState::Open).await;
    http_server::serve(listener, move |caller, request| {
        let door = Arc::clone(&door);
        async move { door.receive(&caller, request).await }
    })
    .await;
}

async fn open(
    context: &TaskContext,
    address: &str,
    callers: &[(String, SecretTemplate)],
    calls: &PendingCalls,
) -> Result<(TcpListener, Arc<Authenticator>), LinkError> {
    let mut tokens = Vec::new();
    for (name, guarded) in callers {
        tokens.push((name.clone(), Sha256::digest(secret::reveal(guarded)?).into()));
    }
    let failed = |source| LinkError::CannotListen { address: address.to_owned(), source };
    let listener = TcpListener::bind(address).await.map_err(failed)?;
    let (context, calls) = (context.clone(), calls.clone());
    Ok((listener, Arc::new(Authenticator { context, tokens, calls, spent: Mutex::default() })))
}

/// Checks tokens and limits of callers.
struct Authenticator {
    context: TaskContext,
    /// Callers with the SHA-256 of their tokens.
    tokens: Vec<(String, [u8; 32])>,
    calls: PendingCalls,
    spent: Mutex<BTreeMap<String, Allowance>>,
}

type CallRefusal = (StatusCode, &'static str);

impl Authenticator {
    async fn receive(&self, caller: &RequestOrigin, request: Request<Incoming>) -> Reply {
        match tokio::time::timeout(PATIENCE, self.take(caller, request)).await {
            Ok(Ok(answer)) => {
                let status = match (answer.ran.as_slice(), answer.did_not.as_slice()) {
                    ([], []) => StatusCode::NOT_FOUND,
                    ([], _) => StatusCode::CONFLICT,
                    _ => StatusCode::OK,
                };
                let text = serde_json::to_string(&answer).expect("an answer is plain data");
                reply(status, text)
            }
            Ok(Err((status, why))) => {
                reply(status, serde_json::json!({ "error": why }).to_string())
            }
            Err(_) => reply(
                StatusCode::REQUEST_TIMEOUT,
                serde_json::json!({ "error": "it took too long" }).to_string(),
            ),
        }
    }

    async fn take(
        &self,
        from: &RequestOrigin,
        request: Request<Incoming>,
    ) -> Result<CallAnswer, CallRefusal> {
        let caller = self.who_calls(from, request.headers())?;
        if !self.tokens.is_empty() {
            from.accept();
        }
        self.spend(&caller)?;
        if !matches!(*request.method(), Method::POST | Method::PUT) {
            return Err((StatusCode::METHOD_NOT_ALLOWED, "call with POST"));
        }
        let path = request.uri().path().to_owned();
        let body = Limited::new(request.into_body(), LONGEST).collect().await;
        let body = body.map_err(|_| (StatusCode::PAYLOAD_TOO_LARGE, "too long, or cut short"))?;
        from.accept();
        let text = String::from_utf8_lossy(&body.to_bytes()).into_owned();
        let (number, answer) = self.calls.add();
        let device = self.context.device.to_string();
        self.context.events.send(Event::Call { call: number, device, caller, path, text }).await;
        answer.await.map_err(|_| (StatusCode::SERVICE_UNAVAILABLE, "lantern is ending"))
    }

    /// The caller's name; empty where every program of the person may call.
    fn who_calls(&self, from: &RequestOrigin, headers: &HeaderMap) -> Result<String, CallRefusal> {
        if self.tokens.is_empty() {
            if may_be_of_page(headers) {
                return Err((StatusCode::FORBIDDEN, "pages may not call without a token"));
            }
            if owner_of(from.peer, from.own) != Some(rustix::process::geteuid().as_raw()) {
                return Err((StatusCode::FORBIDDEN, "other users may not call without a token"));
            }
            return Ok(String::new());
        }
        let given = headers.get(AUTHORIZATION).and_then(|value| value.to_str().ok());
        let token = given.and_then(|given| given.strip_prefix("Bearer ")).unwrap_or_default();
        let digest: [u8; 32] = Sha256::digest(token.trim()).into();
        // Every token is compared to its end, whichever it is.
        let mut caller = None;
        for (name, wanted) in &self.tokens {
            if bool::from(wanted.ct_eq(&digest)) {
                caller = Some(name.clone());
            }
        }
        caller.ok_or_else(|| match self.spend("") {
            Ok(()) => (StatusCode::UNAUTHORIZED, "say who calls: Authorization: Bearer TOKEN"),
            Err(refusal) => refusal,
        })
    }

    fn spend(&self, caller: &str) -> Result<(), CallRefusal> {
        let now = Instant::now();
        let mut spent = self.spent.lock().expect("no thread panics while it holds this");
        let fresh = || Allowance::full(CALLS, now);
        if !spent.entry(caller.to_owned()).or_insert_with(fresh).spend(now) {
            return Err((StatusCode::TOO_MANY_REQUESTS, "too many calls; try again in a second"));
        }
        Ok(())
    }
}

fn reply(status: StatusCode, text: String) -> Reply {
    let mut response = Response::new(Full::new(Bytes::from(text + "\n")));
    *response.status_mut() = status;
    let headers = response.headers_mut();
    let kind = hyper::header::HeaderValue::from_static;
    headers.insert(CONTENT_TYPE, kind("application/json"));
    match status {
        StatusCode::METHOD_NOT_ALLOWED => {
            headers.insert(ALLOW, kind("POST, PUT"));
        }
        StatusCode::TOO_MANY_REQUESTS => {
            headers.insert(RETRY_AFTER, kind("1"));
        }
        StatusCode::UNAUTHORIZED => {
            headers.insert(hyper::header::WWW_AUTHENTICATE, kind("Bearer"));
        }
        _ => {}
    }
    response
}
