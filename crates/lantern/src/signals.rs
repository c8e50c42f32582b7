//! Signals that ask us to end, as bytes that a poll can wait for.

use std::os::unix::net::UnixStream;
use std::sync::OnceLock;

use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};

use crate::failure::Failure;

/// What becomes readable when SIGINT, SIGTERM or SIGHUP comes. It is one for the whole process: what comes
/// while one part has ended and the next has not begun is seen by the next.
pub fn endings() -> Result<&'static UnixStream, Failure> {
    static ENDINGS: OnceLock<UnixStream> = OnceLock::new();
    if let Some(endings) = ENDINGS.get() {
        return Ok(endings);
    }
    let failed = |source| Failure::System { what: "cannot watch for signals", source };
    let (signals, sender) = UnixStream::pair().map_err(failed)?;
    for signal in [SIGINT, SIGTERM, SIGHUP] {
        let sender = sender.try_clone().map_err(failed)?;
        signal_hook::low_level::pipe::register(signal, sender).map_err(failed)?;
    }
    Ok(ENDINGS.get_or_init(|| signals))
}
