//! Inter-process communication between a running session and the commands that ask it: JSON-RPC 2.0 over a
//! Unix socket in the runtime folder, one message a line.
//!
//! [`server`] owns the socket and its clients, [`protocol`] the messages, [`client`] is the side of the
//! commands. What a request does is decided by the session, the only caller of the server.

pub mod client;
pub mod protocol;
mod receive_buffer;
pub mod server;
