//! Services for rules besides the back end, each on a thread of its own that starts when it is first
//! needed, so that none ever delays a key.
//!
//! Owns the threads and the queues to the event loop ([`Services`]); what a service does is in
//! `lantern-audio`, `lantern-net` and `lantern-session`. Decides nothing. The program's event loop is the
//! only caller.

mod error;
mod services;

pub use error::ServiceError;
pub use services::{JobResult, ServiceReport, Services};
