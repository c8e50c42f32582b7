//! Signals that ask us to end, as bytes that a poll can wait for.

use std::os::unix::net::UnixStream;

use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};

use crate::failure::Failure;

/// What becomes readable when SIGINT, SIGTERM or SIGHUP comes.
pub fn endings() -> Result<UnixStream, Failure> {
    let failed = |source| Failure::System { what: "cannot watch for signals", source };
    let (signals, sender) = UnixStream::pair().map_err(failed)?;
    for signal in [SIGINT, SIGTERM, SIGHUP] {
        let sender = sender.try_clone().map_err(failed)?;
        signal_hook::low_level::pipe::register(signal, sender).map_err(failed)?;
    }
    Ok(signals)
}
