//! An HTTP server for few callers. A connection that sends nothing gives its place to a new one.

use std::convert::Infallible;
use std::future::Future;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use http_body_util::Full;
use hyper::body::{Bytes, Incoming};
use hyper::header::{HOST, ORIGIN};
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{HeaderMap, Request, Response};
use hyper_util::rt::{TokioIo, TokioTimer};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpListener;
use tokio::sync::Semaphore;
use tokio::task::{AbortHandle, JoinSet};

/// Maximum time from the start of a request to its whole body.
pub(crate) const PATIENCE: Duration = Duration::from_secs(5);
/// Maximum time for the head of a request.
const HEAD: Duration = Duration::from_secs(1);
/// Maximum number of connections.
const AT_ONCE: usize = 32;

/// An answer.
pub(crate) type Reply = Response<Full<Bytes>>;

/// Where a request came from.
#[derive(Debug, Clone)]
pub(crate) struct RequestOrigin {
    /// The two ends of its connection.
    pub(crate) peer: SocketAddr,
    pub(crate) own: SocketAddr,
    is_accepted: Arc<AtomicBool>,
}

impl RequestOrigin {
    /// A caller whose request is not accepted yet.
    pub(crate) fn new(peer: SocketAddr, own: SocketAddr) -> RequestOrigin {
        RequestOrigin { peer, own, is_accepted: Arc::default() }
    }

    /// Says that the request deserves an answer: its connection is not closed in favour of another.
    pub(crate) fn accept(&self) {
        self.is_accepted.store(true, Ordering::SeqCst);
    }
}

/// A connection whose request is not accepted yet, or is being answered.
struct PendingConnection {
    is_accepted: Arc<AtomicBool>,
    task: AbortHandle,
}

/// Answers requests, one of each connection, until this is dropped.
///
/// While all places are taken, a new connection takes the place of the oldest one whose request was not
/// accepted yet, see [`RequestOrigin::accept`].
pub(crate) async fn serve<H, F>(listener: TcpListener, answer: H)
where
    H: Fn(RequestOrigin, Request<Incoming>) -> F + Clone + Send + 'static,
    F: Future<Output = Reply> + Send + 'static,
{
    let places = Arc::new(Semaphore::new(AT_ONCE));
    // Connections end with this.
    let mut tasks = JoinSet::new();
    let mut connections: Vec<PendingConnection> = Vec::new();
    loop {
        let Ok((stream, peer)) = listener.accept().await else {
            // Out of descriptors, perhaps; it is tried again.
            tokio::time::sleep(Duration::from_millis(100)).await;
            continue;
        };
        while tasks.try_join_next().is_some() {}
        connections.retain(|connection| !connection.task.is_finished());
        if places.available_permits() == 0 {
            let waits = |other: &PendingConnection| !other.is_accepted.load(Ordering::SeqCst);
            if let Some(oldest) = connections.iter().position(waits) {
                connections.remove(oldest).task.abort();
            }
        }
        // It is free at once, or as soon as a request was answered.
        let Ok(place) = Arc::clone(&places).acquire_owned().await else { return };
        let Ok(own) = stream.local_addr() else { continue };
        let caller = RequestOrigin::new(peer, own);
        let is_accepted = Arc::clone(&caller.is_accepted);
        let conversation = converse(stream, caller, answer.clone());
        let task = tasks.spawn(async move {
            conversation.await;
            drop(place);
        });
        connections.push(PendingConnection { is_accepted, task });
    }
}

/// Answers the request of one connection, and closes it.
pub(crate) async fn converse<S, H, F>(stream: S, caller: RequestOrigin, answer: H)
where
    S: AsyncRead + AsyncWrite + Unpin + Send,
    H: Fn(RequestOrigin, Request<Incoming>) -> F + Send,
    F: Future<Output = Reply> + Send,
{
    let service = service_fn(move |request| {
        let reply = answer(caller.clone(), request);
        async move { Ok::<_, Infallible>(reply.await) }
    });
    let connection = http1::Builder::new()
        .timer(TokioTimer::new())
        .header_read_timeout(HEAD)
        .keep_alive(false)
        .serve_connection(TokioIo::new(stream), service);
    // What a caller does wrong is its own affair.
    let _ = tokio::time::timeout(4 * PATIENCE, connection).await;
}

/// Whether a request may come from a page in a browser: it names the page, or was addressed to a name
/// that may have been made to lead here.
pub(crate) fn may_be_of_page(headers: &HeaderMap) -> bool {
    let host = headers.get(HOST).and_then(|host| host.to_str().ok()).unwrap_or_default();
    headers.contains_key(ORIGIN) || !is_plain_host(host)
}

/// Whether a request was addressed to this machine by its number or its own name.
fn is_plain_host(host: &str) -> bool {
    let bare = host.rsplit_once(':').map_or(host, |(bare, _)| bare);
    bare == "localhost"
        || host.parse::<SocketAddr>().is_ok()
        || bare.trim_matches(['[', ']']).parse::<std::net::IpAddr>().is_ok()
}
