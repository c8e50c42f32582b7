//! Speaking with the one that runs: a socket in the runtime folder, JSON-RPC 2.0, a line each way.
//!
//! [`protocol`] knows the words, [`door`] the socket, [`client`] is the other side of it. What is
//! asked is answered by the session.

pub mod client;
pub mod door;
pub mod protocol;
mod received;
