//! What both connections to the compositor do: read events, and keymaps that are handed over.

use std::fs::File;
use std::os::fd::OwnedFd;
use std::os::unix::fs::FileExt;

use lantern_backend::BackendError;
use wayland_client::EventQueue;
use wayland_client::backend::WaylandError;

/// Larger keymaps are cut, and then are none.
const LARGEST_KEYMAP: usize = 1 << 20;

/// Takes in what the compositor sent by now, without waiting.
///
/// # Errors
/// When the compositor is gone.
pub(crate) fn read_events<S: 'static>(
    queue: &mut EventQueue<S>,
    state: &mut S,
) -> Result<(), BackendError> {
    let lost = |error: Box<dyn std::error::Error + Send + Sync>| BackendError::Lost(error);
    queue.dispatch_pending(state).map_err(|error| lost(error.into()))?;
    if let Some(reading) = queue.prepare_read() {
        match reading.read() {
            Ok(_) => {}
            Err(WaylandError::Io(error)) if error.kind() == std::io::ErrorKind::WouldBlock => {}
            Err(error) => return Err(lost(error.into())),
        }
    }
    queue.dispatch_pending(state).map_err(|error| lost(error.into()))?;
    Ok(())
}

/// The text of a keymap that the compositor hands over; none if it cannot be read.
pub(crate) fn read_keymap(memory: OwnedFd, size: u32) -> Option<Vec<u8>> {
    let size = usize::try_from(size).unwrap_or(usize::MAX).min(LARGEST_KEYMAP);
    let mut text = vec![0; size];
    File::from(memory).read_exact_at(&mut text, 0).ok()?;
    let end = text.iter().position(|byte| *byte == 0).unwrap_or(text.len());
    text.truncate(end);
    Some(text)
}
