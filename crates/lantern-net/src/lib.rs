//! Devices by wire and network: serial ports, web, listeners for calls, message brokers, and simulators
//! of them.
//!
//! Owns one task for each device ([`ConnectionThread`]). A device is not read while its events wait.

mod connections;
mod http_server;
mod simulators;
mod sockets;

pub use connections::{
    CallAnswer, CalledRule, ConfiguredDevice, ConnectionThread, LinkError, OutcomeSender, Port,
    ports, read_port,
};
pub use simulators::{Pedals, serve_fans};
