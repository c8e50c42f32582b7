//! Notifies a service manager through its notify socket (sd_notify): once that the program is
//! ready, and regularly that it is alive.

use std::env;
use std::os::linux::net::SocketAddrExt;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::net::{SocketAddr, UnixDatagram};
use std::time::Duration;

use lantern_model::Time;

/// The sign of life that a manager waits for, if it wants one.
#[derive(Debug, Default)]
pub struct WatchdogNotifier {
    every: Option<Duration>,
    due: Time,
}

impl WatchdogNotifier {
    /// As the manager asks for it: twice in the time after which it takes us for dead.
    pub fn wanted() -> WatchdogNotifier {
        let number = |name: &str| env::var(name).ok()?.parse::<u64>().ok();
        let ours = number("WATCHDOG_PID").is_none_or(|pid| pid == u64::from(std::process::id()));
        let every = number("WATCHDOG_USEC").filter(|_| ours).map(|span| span / 2);
        WatchdogNotifier { every: every.map(Duration::from_micros), due: Time::START }
    }

    /// When it is due next, if ever.
    pub fn next_deadline(&self) -> Option<Time> {
        self.every.map(|_| self.due)
    }

    /// Gives it, if it is due.
    pub fn beat(&mut self, now: Time) {
        if let Some(every) = self.every.filter(|_| self.due <= now) {
            self.due = now + every;
            tell("WATCHDOG=1");
        }
    }
}

/// Tells the manager, if there is one.
pub fn tell(state: &str) {
    let Some(path) = env::var_os("NOTIFY_SOCKET") else { return };
    // A manager that does not listen any more needs no telling.
    if let Ok(socket) = UnixDatagram::unbound() {
        // One that is stopped must not stop the event loop with it.
        let _ = socket.set_nonblocking(true);
        let (bytes, state) = (path.as_bytes(), state.as_bytes());
        let _ = match bytes.strip_prefix(b"@") {
            Some(name) => SocketAddr::from_abstract_name(name)
                .and_then(|address| socket.send_to_addr(state, &address)),
            None => socket.send_to(state, &path),
        };
    }
}
