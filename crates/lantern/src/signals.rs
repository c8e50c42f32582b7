//! Signals that ask us to end, as bytes that a poll can wait for.

use std::io::Read;
use std::os::unix::net::UnixStream;
use std::sync::OnceLock;
use std::thread;
use std::time::Duration;

use rustix::process::{Signal, getpid, kill_process};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};

use crate::failure::Failure;
use crate::output::complain;

/// What becomes readable when SIGINT, SIGTERM or SIGHUP comes. It is one for the whole process: what comes
/// while one part has ended and the next has not begun is seen by the next.
pub fn endings() -> Result<&'static UnixStream, Failure> {
    static ENDINGS: OnceLock<UnixStream> = OnceLock::new();
    if let Some(endings) = ENDINGS.get() {
        return Ok(endings);
    }
    let signals = register()?;
    Ok(ENDINGS.get_or_init(|| signals))
}

/// Ends the process by force when it has not ended this long after a signal, since the display server that
/// it waits for does not answer. The guardian releases keys then.
pub fn end_by_force_after(span: Duration) -> Result<(), Failure> {
    let mut signals = register()?;
    thread::spawn(move || {
        if signals.read_exact(&mut [0]).is_ok() {
            thread::sleep(span);
            complain!("lantern did not end within {} s; it was ended by force", span.as_secs());
            crate::output::finish();
            let _ = kill_process(getpid(), Signal::KILL);
        }
    });
    Ok(())
}

/// A stream that gets a byte for each signal.
fn register() -> Result<UnixStream, Failure> {
    let failed = |source| Failure::System { what: "cannot watch for signals", source };
    let (signals, sender) = UnixStream::pair().map_err(failed)?;
    for signal in [SIGINT, SIGTERM, SIGHUP] {
        let sender = sender.try_clone().map_err(failed)?;
        signal_hook::low_level::pipe::register(signal, sender).map_err(failed)?;
    }
    Ok(signals)
}
