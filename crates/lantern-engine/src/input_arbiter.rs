//! A resource that one run uses at a time: sending input, or bringing programs to the front.

use std::collections::VecDeque;

use lantern_model::RunId;

/// The run that has the resource, and the runs that wait for it.
#[derive(Debug, Default)]
pub(crate) struct InputArbiter {
    owner: Option<RunId>,
    queue: VecDeque<RunId>,
}

impl InputArbiter {
    /// Whether the run may have it now; if not, it is queued.
    pub(crate) fn take(&mut self, run: RunId) -> bool {
        if self.owner.is_none_or(|owner| owner == run) {
            self.owner = Some(run);
            return true;
        }
        if !self.queue.contains(&run) {
            self.queue.push_back(run);
        }
        false
    }

    /// Gives it up, or the place in the queue; gives the run whose turn it is now.
    pub(crate) fn release(&mut self, run: RunId) -> Option<RunId> {
        self.queue.retain(|queued| *queued != run);
        if self.owner != Some(run) {
            return None;
        }
        self.owner = self.queue.pop_front();
        self.owner
    }
}
