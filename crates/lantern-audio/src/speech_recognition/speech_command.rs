//! What is sent to the recognition thread.

use lantern_model::Listening;

/// A command to the recognition thread, or a report of an external recognizer to it.
#[derive(Debug)]
pub(super) enum SpeechCommand {
    /// Recognize these phrases from now on.
    Listen(Listening),
    /// A line that the external recognizer of that number printed.
    Line(u32, String),
    /// The external recognizer of that number closed its output.
    Silent(u32),
    /// End the thread.
    End,
}
