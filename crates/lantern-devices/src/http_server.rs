//! Those who come to a port of ours, each heard in turn and none for ever.

use std::convert::Infallible;
use std::future::Future;
use std::sync::Arc;
use std::time::Duration;

use http_body_util::Full;
use hyper::body::{Bytes, Incoming};
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{Request, Response};
use hyper_util::rt::{TokioIo, TokioTimer};
use tokio::net::TcpListener;
use tokio::sync::Semaphore;
use tokio::task::JoinSet;

/// How long somebody may take to say what they want.
pub(crate) const PATIENCE: Duration = Duration::from_secs(5);
/// How many are heard at a time.
const AT_ONCE: usize = 32;

/// What is answered.
pub(crate) type Reply = Response<Full<Bytes>>;

/// Hears everyone who comes, until this is dropped.
pub(crate) async fn serve<H, F>(listener: TcpListener, hear: H)
where
    H: Fn(Request<Incoming>) -> F + Clone + Send + 'static,
    F: Future<Output = Reply> + Send,
{
    let places = Arc::new(Semaphore::new(AT_ONCE));
    // Those who are heard end with this.
    let mut connections = JoinSet::new();
    loop {
        while connections.try_join_next().is_some() {}
        let place = Arc::clone(&places).acquire_owned().await;
        let Ok((stream, _)) = listener.accept().await else {
            // Out of descriptors, perhaps; it is tried again.
            tokio::time::sleep(Duration::from_millis(100)).await;
            continue;
        };
        let hear = hear.clone();
        connections.spawn(async move {
            let _place = place;
            let service = service_fn(move |request| {
                let reply = hear(request);
                async move { Ok::<_, Infallible>(reply.await) }
            });
            let connection = http1::Builder::new()
                .timer(TokioTimer::new())
                .header_read_timeout(PATIENCE)
                .keep_alive(false)
                .serve_connection(TokioIo::new(stream), service);
            // What somebody does wrong is their own affair.
            let _ = tokio::time::timeout(4 * PATIENCE, connection).await;
        });
    }
}
