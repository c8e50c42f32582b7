//! Stops work that runs on another thread.

use std::fmt;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};

/// How something under way is stopped from another thread.
#[derive(Default)]
pub struct StopHandle {
    wanted: AtomicBool,
    by: Mutex<Option<Box<dyn FnOnce() + Send>>>,
}

impl StopHandle {
    /// Whether it is to be stopped.
    pub fn is_wanted(&self) -> bool {
        self.wanted.load(Ordering::SeqCst)
    }

    /// Says what stops it from now on; done at once if that is wanted already.
    pub fn by(&self, stopping: impl FnOnce() + Send + 'static) {
        if let Ok(mut by) = self.by.lock() {
            *by = Some(Box::new(stopping));
        }
        if self.is_wanted() {
            self.stop();
        }
    }

    /// Stops it.
    pub fn stop(&self) {
        self.wanted.store(true, Ordering::SeqCst);
        let by = self.by.lock().ok().and_then(|mut by| by.take());
        if let Some(by) = by {
            by();
        }
    }
}

impl fmt::Debug for StopHandle {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("StopHandle").field("is_wanted", &self.is_wanted()).finish_non_exhaustive()
    }
}
