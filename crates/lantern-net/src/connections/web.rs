//! One thing with a web interface: requests out, values back.
//!
//! What changes one path is sent in order; everything else goes at once. A request that may be sent twice
//! without harm is, once, if the connection broke before an answer came.

use std::collections::BTreeMap;
use std::error::Error;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use lantern_model::{CommandKind, EffectId, SecretTemplate, Value};
use reqwest::header::{CONTENT_TYPE, HeaderMap, HeaderName, HeaderValue};
use reqwest::redirect::Policy;
use reqwest::{Client, Method, RequestBuilder, Response, Url};
use tokio::sync::mpsc::UnboundedReceiver;
use tokio::sync::{Mutex as Turn, Semaphore};
use tokio::task::AbortHandle;

use super::{DeviceRequest, LinkError, Outcome, TaskContext, secret};
use lantern_system::catch_in;

/// The most of an answer that is taken, in bytes.
const MOST: usize = 1 << 20;
/// How many requests one thing gets at a time.
const AT_ONCE: usize = 16;
/// How often an answer may send us elsewhere.
const REDIRECTS: usize = 5;
/// The time to get through to it, out of the whole.
const CONNECTING: Duration = Duration::from_secs(5);

/// Requests whose outcome may no longer be needed.
#[derive(Debug, Default)]
pub(super) struct OpenRequests(Mutex<BTreeMap<EffectId, AbortHandle>>);

impl OpenRequests {
    pub(super) fn abandon(&self, effect: EffectId) {
        let handle = self.0.lock().ok().and_then(|mut known| known.remove(&effect));
        if let Some(handle) = handle {
            handle.abort();
        }
    }

    fn add(&self, effect: EffectId, handle: AbortHandle) {
        if let Ok(mut known) = self.0.lock() {
            known.retain(|_, handle| !handle.is_finished());
            known.insert(effect, handle);
        }
    }
}

/// Sends what rules send as long as they have the device.
pub(super) async fn serve(
    context: TaskContext,
    address: String,
    headers: Vec<(String, SecretTemplate)>,
    mut jobs: UnboundedReceiver<DeviceRequest>,
    under_way: Arc<OpenRequests>,
) {
    let mut thing: Option<Arc<WebDevice>> = None;
    let mut turns: BTreeMap<String, Arc<Turn<()>>> = BTreeMap::new();
    while let Some(job) = jobs.recv().await {
        let effect = job.effect;
        // A secret that could not be read is looked for again with the next request.
        let opened = match &thing {
            Some(thing) => Ok(Arc::clone(thing)),
            None => WebDevice::open(&address, &headers).map(Arc::new),
        };
        let known = match opened {
            Ok(known) => Arc::clone(thing.insert(known)),
            Err(error) => {
                context.tell.outcome(effect, Err(error));
                continue;
            }
        };
        turns.retain(|_, turn| Arc::strong_count(turn) > 1);
        let turn = match job.command.kind {
            CommandKind::Get(_) => None,
            _ => Some(Arc::clone(turns.entry(job.word(0).to_owned()).or_default())),
        };
        let tell = Arc::clone(&context.tell);
        let task = tokio::spawn(async move {
            let work = async {
                let _turn = match &turn {
                    Some(turn) => Some(turn.lock().await),
                    None => None,
                };
                let _place = known.places.acquire().await;
                known.ask(&job).await
            };
            let outcome = catch_in(job.within(work)).await;
            tell.outcome(effect, outcome.unwrap_or_else(|fault| Err(LinkError::Fault(fault.0))));
        });
        under_way.add(effect, task.abort_handle());
    }
}

/// A thing as it is spoken to.
struct WebDevice {
    client: Client,
    address: String,
    headers: HeaderMap,
    places: Semaphore,
}

impl WebDevice {
    fn open(address: &str, headers: &[(String, SecretTemplate)]) -> Result<WebDevice, LinkError> {
        let bad = |why: String| LinkError::BadAddress { address: address.to_owned(), why };
        let url = Url::parse(address).map_err(|error| bad(error.to_string()))?;
        let mut known = HeaderMap::new();
        for (name, value) in headers {
            let text = secret::reveal(value)?;
            let name = HeaderName::from_bytes(name.as_bytes());
            let name = name.map_err(|_| bad("a header's name is none".to_owned()))?;
            let value = HeaderValue::from_str(&text);
            let mut value =
                value.map_err(|_| bad(format!("the header {name} cannot hold such a text")))?;
            value.set_sensitive(true);
            known.insert(name, value);
        }
        let host = url.host_str().unwrap_or_default().to_owned();
        let from = (url.scheme().to_owned(), host.clone(), url.port_or_known_default());
        // What we show to one must not be carried to another.
        let policy = Policy::custom(move |attempt| {
            let to = attempt.url();
            let host = to.host_str().unwrap_or_default().to_owned();
            let same = (to.scheme().to_owned(), host, to.port_or_known_default()) == from;
            if attempt.previous().len() > REDIRECTS {
                attempt.error(BadRedirect::TooMany)
            } else if same {
                attempt.follow()
            } else {
                attempt.error(BadRedirect::OtherHost)
            }
        });
        let builder = Client::builder()
            .redirect(policy)
            .connect_timeout(CONNECTING)
            // A proxy would see every secret, and the environment is no place for a person to agree to one.
            .no_proxy()
            .user_agent(concat!("cold-lantern/", env!("CARGO_PKG_VERSION")));
        // Fails only where another provider was chosen before; that one will do.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let client = builder.build().map_err(|error| bad(cause_of(&error)))?;
        let address = address.to_owned();
        Ok(WebDevice { client, address, headers: known, places: Semaphore::new(AT_ONCE) })
    }

    async fn ask(&self, job: &DeviceRequest) -> Outcome {
        let path = job.word(0);
        let slash = if path.starts_with('/') { "" } else { "/" };
        let full = format!("{}{slash}{path}", self.address);
        let bad = |error: url::ParseError| LinkError::BadAddress {
            address: full.clone(),
            why: error.to_string(),
        };
        if leads_up(path) {
            let why = "a segment `.` or `..` leads to another path".to_owned();
            return Err(LinkError::BadAddress { address: full, why });
        }
        let url = Url::parse(&full).map_err(bad)?;
        let (method, body) = match job.command.kind {
            CommandKind::Get(_) => (Method::GET, None),
            CommandKind::Put(_) => (Method::PUT, job.command.value.as_ref()),
            _ => (Method::POST, job.command.value.as_ref()),
        };
        let may_repeat = method != Method::POST;
        let request = || self.request(&method, &url, body);
        let response = match request().send().await {
            Err(error) if error.is_connect() || (may_repeat && broke_off(&error)) => {
                request().send().await
            }
            other => other,
        };
        let response = response.map_err(|error| self.failure(&error))?;
        self.read(response).await
    }

    fn request(&self, method: &Method, url: &Url, body: Option<&Value>) -> RequestBuilder {
        let mut request = self.client.request(method.clone(), url.clone());
        if let Some(value) = body {
            let (kind, text) = body_of(value);
            request = request.header(CONTENT_TYPE, kind).body(text);
        }
        request.headers(self.headers.clone())
    }

    async fn read(&self, mut response: Response) -> Outcome {
        let status = response.status();
        let is_json =
            response.headers().get(CONTENT_TYPE).and_then(|kind| kind.to_str().ok()).is_some_and(
                |kind| kind.split(';').next().is_some_and(|kind| kind.ends_with("json")),
            );
        let mut bytes = Vec::new();
        while let Some(piece) = response.chunk().await.map_err(|error| self.failure(&error))? {
            if bytes.len() + piece.len() > MOST {
                return Err(LinkError::TooLong { address: self.address.clone(), most: MOST });
            }
            bytes.extend_from_slice(&piece);
        }
        let text = String::from_utf8_lossy(&bytes);
        if !status.is_success() {
            let first = text.lines().next().unwrap_or_default().trim();
            let said: String = first.chars().take(80).collect();
            let said = if said.is_empty() { said } else { format!(": {said}") };
            let (address, status) = (self.address.clone(), status.to_string());
            return Err(LinkError::Refused { address, status, said });
        }
        let value = match serde_json::from_str(&text) {
            Ok(json) if is_json => value_of(json),
            _ => Value::Text(text.into_owned()),
        };
        Ok(Some(value))
    }

    fn failure(&self, error: &reqwest::Error) -> LinkError {
        let address = self.address.clone();
        let why = cause_of(error);
        if let Some(refused) = BadRedirect::within(error) {
            LinkError::Redirected { address, why: refused }
        } else if error.is_connect() {
            LinkError::Unreached { address, why }
        } else {
            LinkError::BrokenOff { address, why }
        }
    }
}

/// Why a redirection is not followed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum BadRedirect {
    /// More redirections than are followed, perhaps in a circle.
    #[error("in a circle, or too often")]
    TooMany,
    /// To another scheme, host or port: secrets for one host must not reach another.
    #[error("to another host")]
    OtherHost,
}

impl BadRedirect {
    /// The one that an error came of, if it did.
    fn within(error: &reqwest::Error) -> Option<BadRedirect> {
        let mut cause: &(dyn Error + 'static) = error;
        loop {
            if let Some(found) = cause.downcast_ref::<BadRedirect>() {
                return Some(*found);
            }
            cause = cause.source()?;
        }
    }
}

/// Whether the connection broke before there was an answer.
fn broke_off(error: &reqwest::Error) -> bool {
    error.is_request() && !error.is_timeout() && !error.is_redirect() && !error.is_builder()
}

/// What lies at the bottom of an error, which says most.
fn cause_of(error: &dyn Error) -> String {
    let mut cause = error;
    while let Some(deeper) = cause.source() {
        cause = deeper;
    }
    cause.to_string()
}

/// Whether a path has a segment that stands for this or the one above, written in any way that a URL
/// may have (WHATWG URL Standard, "single-dot" and "double-dot path segment").
fn leads_up(path: &str) -> bool {
    let path = path.split(['?', '#']).next().unwrap_or_default();
    path.split(['/', '\\'])
        .map(|segment| segment.to_ascii_lowercase().replace("%2e", "."))
        .any(|segment| segment == "." || segment == "..")
}

/// What a value is as the body of a request: JSON if it is or looks like it, else plain text.
fn body_of(value: &Value) -> (&'static str, String) {
    const PLAIN: &str = "text/plain; charset=utf-8";
    const JSON: &str = "application/json";
    match value {
        Value::Record(_) | Value::List(_) => (JSON, json_of(value).to_string()),
        Value::Text(text) if text.trim_start().starts_with(['{', '[']) => {
            let is_json = serde_json::from_str::<serde::de::IgnoredAny>(text).is_ok();
            (if is_json { JSON } else { PLAIN }, text.clone())
        }
        other => (PLAIN, other.to_string()),
    }
}

fn json_of(value: &Value) -> serde_json::Value {
    match value {
        Value::Number(number) | Value::Share(number) => (*number).into(),
        Value::Truth(truth) => (*truth).into(),
        Value::List(list) => list.iter().map(json_of).collect(),
        Value::Record(parts) => {
            parts.iter().map(|(name, value)| (name.clone(), json_of(value))).collect()
        }
        other => other.to_string().into(),
    }
}

/// JSON as a value of the language. Names become lower-case words joined by hyphens.
fn value_of(json: serde_json::Value) -> Value {
    match json {
        serde_json::Value::Null => Value::Text(String::new()),
        serde_json::Value::Bool(truth) => Value::Truth(truth),
        serde_json::Value::Number(number) => Value::Number(number.as_f64().unwrap_or(0.0)),
        serde_json::Value::String(text) => Value::Text(text),
        serde_json::Value::Array(list) => Value::List(list.into_iter().map(value_of).collect()),
        serde_json::Value::Object(parts) => Value::Record(
            parts.into_iter().map(|(name, part)| (name_of(&name), value_of(part))).collect(),
        ),
    }
}

fn name_of(name: &str) -> String {
    let mut word = String::new();
    let mut after_small = false;
    for letter in name.chars() {
        let is_part = letter.is_ascii_alphanumeric();
        if (!is_part || (after_small && letter.is_ascii_uppercase()))
            && !word.is_empty()
            && !word.ends_with('-')
        {
            word.push('-');
        }
        if is_part {
            word.push(letter.to_ascii_lowercase());
        }
        after_small = letter.is_ascii_lowercase() || letter.is_ascii_digit();
    }
    word.trim_end_matches('-').to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_json_become_words_of_the_language() {
        assert_eq!(name_of("fanSpeed"), "fan-speed");
        assert_eq!(name_of("Fan_Speed (rpm)"), "fan-speed-rpm");
        assert_eq!(name_of("RPM"), "rpm");
    }

    #[test]
    fn no_segment_of_a_path_leads_up() {
        for path in
            ["/zones/../admin", "..", "/a/%2E%2e/b", "/a/.%2e", "/./a", "/a\\..\\b", "/a/..?x"]
        {
            assert!(leads_up(path), "{path}");
        }
        for path in ["/zones/a..b", "/...", "/a?x=../y", "", "/zones/%2F"] {
            assert!(!leads_up(path), "{path}");
        }
    }

    #[test]
    fn a_body_is_json_if_it_is_any() {
        assert_eq!(body_of(&Value::Text("{\"a\": 1}".into())).0, "application/json");
        assert_eq!(body_of(&Value::Text("{a}".into())).0, "text/plain; charset=utf-8");
        assert_eq!(body_of(&Value::Share(0.5)).1, Value::Share(0.5).to_string());
        let list = Value::List(vec![Value::Number(1.0), Value::Truth(true)]);
        assert_eq!(body_of(&list).1, "[1.0,true]");
    }
}
