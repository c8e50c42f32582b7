//! Why a device did not do what it was asked, or is not there.

use std::io;
use std::time::Duration;

use super::web::BadRedirect;

/// What went wrong between us and a device.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum LinkError {
    /// It did not answer in time.
    #[error("no answer within {}", words_of(*limit))]
    Silent {
        /// How long was waited.
        limit: Duration,
    },
    /// The program itself has a fault, which a panic showed.
    #[error("a fault of the program itself: {0}; please report it")]
    Fault(String),
    /// The device is not there now.
    #[error("it is not there: {0}")]
    Away(String),
    /// The rules do not have it any more.
    #[error("the rules no longer have this device")]
    Gone,
    /// The port belongs to others.
    #[error("{port} may not be opened: it belongs to the group {group}")]
    NotAllowed {
        /// The port.
        port: String,
        /// The users who have access.
        group: String,
    },
    /// Another program has the port.
    #[error("{port} is in use by another program")]
    InUse {
        /// The port.
        port: String,
    },
    /// What is at that path is no port.
    #[error("{port} is no serial port")]
    NotAPort {
        /// The path.
        port: String,
    },
    /// No port is there now.
    #[error("{port} is not there")]
    Unplugged {
        /// The port.
        port: String,
    },
    /// The port broke off, or cannot be opened.
    #[error("{port}: {source}")]
    Port {
        /// The port.
        port: String,
        /// Why.
        source: io::Error,
    },
    /// A secret cannot be read. Its content is never told.
    #[error("the secret in {place} cannot be read: {why}")]
    NoSecret {
        /// Where it should be.
        place: String,
        /// Why not.
        why: String,
    },
    /// No device could be reached there.
    #[error("{address} cannot be reached: {why}")]
    Unreached {
        /// The address.
        address: String,
        /// Why.
        why: String,
    },
    /// It broke off in the middle.
    #[error("{address} broke off: {why}")]
    BrokenOff {
        /// The address.
        address: String,
        /// Why.
        why: String,
    },
    /// It answered that it would not.
    #[error("{address} answered {status}{said}")]
    Refused {
        /// The address.
        address: String,
        /// The status, in figures and words.
        status: String,
        /// The first line of what it said, as words to add.
        said: String,
    },
    /// It redirected without end, or to another host.
    #[error("{address} redirects {why}")]
    Redirected {
        /// The address.
        address: String,
        /// Why the redirection is not followed.
        why: BadRedirect,
    },
    /// The answer was longer than anything a rule could use.
    #[error("{address} answers with more than {most} bytes")]
    TooLong {
        /// The address.
        address: String,
        /// The most that is taken.
        most: usize,
    },
    /// A message that no broker can take.
    #[error("cannot be published at {topic:?}: {why}")]
    BadMessage {
        /// The topic.
        topic: String,
        /// Why not.
        why: &'static str,
    },
    /// The broker refused us.
    #[error("{address} refuses us: {why}")]
    NotWelcome {
        /// The broker.
        address: String,
        /// Why.
        why: String,
    },
    /// The address is none.
    #[error("{address} is no address: {why}")]
    BadAddress {
        /// The address.
        address: String,
        /// Why.
        why: String,
    },
    /// A listener cannot use that address.
    #[error("cannot listen at {address}: {source}")]
    CannotListen {
        /// The address.
        address: String,
        /// Why.
        source: io::Error,
    },
}

impl LinkError {
    /// What the person can do about it, if anything is known.
    pub fn hint(&self) -> Option<String> {
        Some(match self {
            LinkError::NotAllowed { group, .. } => {
                format!("`sudo usermod -aG {group} \"$USER\"`, then log in again")
            }
            LinkError::InUse { port } => format!("`fuser {port}` tells which"),
            LinkError::NotAPort { .. } => "`lantern ports` lists those that are there".to_owned(),
            LinkError::Unplugged { .. } => {
                "plug it in, or look for it with `lantern ports`".to_owned()
            }
            LinkError::CannotListen { source, .. } if source.kind() == io::ErrorKind::AddrInUse => {
                "another program listens there: choose another port".to_owned()
            }
            LinkError::NotWelcome { .. } => "look at its `user` and `password`".to_owned(),
            LinkError::Silent { .. }
            | LinkError::Fault(_)
            | LinkError::Away(_)
            | LinkError::Gone
            | LinkError::Port { .. }
            | LinkError::NoSecret { .. }
            | LinkError::Unreached { .. }
            | LinkError::BrokenOff { .. }
            | LinkError::Refused { .. }
            | LinkError::Redirected { .. }
            | LinkError::TooLong { .. }
            | LinkError::BadMessage { .. }
            | LinkError::BadAddress { .. }
            | LinkError::CannotListen { .. } => return None,
        })
    }

    /// Everything in one line.
    pub fn line(&self) -> String {
        match self.hint() {
            Some(hint) => format!("{self}; {hint}"),
            None => self.to_string(),
        }
    }
}

fn words_of(span: Duration) -> String {
    match span.as_millis() {
        millis if millis < 1000 => format!("{millis} ms"),
        millis => format!("{} s", millis as f64 / 1000.0),
    }
}
