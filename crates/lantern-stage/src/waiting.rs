//! Waiting in tests: for a state that gives no event, and for time that belongs to the input.

use std::time::{Duration, Instant};

use crate::PATIENCE_MS;

/// Time between two looks at a state.
const PAUSE: Duration = Duration::from_millis(2);

/// Looks at a state again and again until it holds. For states that no event announces; a test that
/// can wait for an event does so.
///
/// # Panics
/// When it does not hold within [`PATIENCE_MS`].
pub fn wait_until(what: &str, mut holds: impl FnMut() -> bool) {
    let end = Instant::now() + Duration::from_millis(PATIENCE_MS);
    while !holds() {
        assert!(Instant::now() < end, "waited in vain for {what}");
        pause();
    }
}

/// Lets real time pass where the time is part of the input: a key that is held, a device that
/// answers late, a process that is stopped for a while. Never to wait for the program under test.
pub fn pass_time(span: Duration) {
    std::thread::sleep(span);
}

pub(crate) fn pause() {
    pass_time(PAUSE);
}
