//! Requests of callers over HTTP are answered or refused, in bounded time.
#![no_main]
#![allow(dead_code)]

#[path = "../../crates/lantern-net/src/http_server.rs"]
mod http_server;

use http_body_util::{BodyExt, Limited};
use http_server::{Reply, RequestOrigin, converse, may_be_of_page};
use hyper::body::Bytes;
use tokio::io::{AsyncReadExt, AsyncWriteExt, duplex};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_time().build();
    runtime.expect("it starts").block_on(talk(bytes));
});

async fn talk(bytes: &[u8]) {
    let (mut ours, theirs) = duplex(64 * 1024);
    let place = ([127, 0, 0, 1], 4711).into();
    let server = converse(theirs, RequestOrigin::new(place, place), |caller, request| async move {
        let _ = may_be_of_page(request.headers());
        let body = Limited::new(request.into_body(), 64 * 1024).collect().await;
        caller.accept();
        Reply::new(Bytes::from(format!("{}", body.is_ok())).into())
    });
    let client = async {
        let _ = ours.write_all(bytes).await;
        let _ = ours.shutdown().await;
        let mut answer = Vec::new();
        let _ = ours.read_to_end(&mut answer).await;
        assert!(answer.is_empty() || answer.starts_with(b"HTTP/1."));
    };
    tokio::join!(server, client);
}
