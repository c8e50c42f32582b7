//! What a session sleeps for: the back end, its deadlines, signals, saved files, what it started, those
//! who speak to it.

use std::os::fd::{AsFd, BorrowedFd};
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::io::Errno;

use super::Session;
use crate::failure::Failure;
use lantern_backend::Backend;
use lantern_model::Time;

/// Number of descriptors without clients.
const USUALLY: usize = 16;

/// What ended a wait, besides the back end, the clock and deadlines.
#[derive(Default)]
pub(super) struct ReadySources {
    pub signal: bool,
    pub saved: bool,
    /// Whether the guardian has died.
    pub unguarded: bool,
    pub returned: bool,
    pub ipc: bool,
}

/// Whose a descriptor is.
#[derive(Clone, Copy)]
enum PollSource {
    Signals,
    Files,
    Reading,
    Guardian,
    Clock,
    Backend,
    CommandExecutor,
    Ipc,
}

impl ReadySources {
    fn note(&mut self, source: PollSource) {
        match source {
            PollSource::Signals => self.signal = true,
            PollSource::Files => self.saved = true,
            PollSource::Guardian => self.unguarded = true,
            PollSource::CommandExecutor => self.returned = true,
            PollSource::Ipc => self.ipc = true,
            // The loop looks at these each time round.
            PollSource::Clock | PollSource::Backend | PollSource::Reading => {}
        }
    }
}

/// Descriptors to wait for, each with whose it is.
struct PollSet<'a> {
    descriptors: Vec<PollFd<'a>>,
    sources: Vec<PollSource>,
}

impl<'a> PollSet<'a> {
    fn add(&mut self, source: PollSource, descriptor: BorrowedFd<'a>, events: PollFlags) {
        self.descriptors.push(PollFd::from_borrowed_fd(descriptor, events));
        self.sources.push(source);
    }

    fn wait(mut self, timeout: Option<&Timespec>) -> Result<ReadySources, Failure> {
        match poll(&mut self.descriptors, timeout) {
            Ok(_) | Err(Errno::INTR) => {}
            Err(error) => {
                let what = "cannot wait for events";
                return Err(Failure::System { what, source: error.into() });
            }
        }
        let mut woken = ReadySources::default();
        let both = self.descriptors.iter().zip(self.sources);
        both.filter(|(descriptor, _)| !descriptor.revents().is_empty())
            .for_each(|(_, source)| woken.note(source));
        Ok(woken)
    }
}

impl<D: Backend> Session<'_, D> {
    /// Sleeps until something happens; only looks, if there is more to do at once.
    pub(super) fn wait(&mut self, sleep: bool) -> Result<ReadySources, Failure> {
        if let Some(guarded) = &mut self.place.guarded {
            guarded.sleep();
        }
        let timeout = match self.next_deadline() {
            _ if !sleep => Some(Duration::ZERO),
            due => due.map(|due| due.since(self.now())),
        };
        // What is too far away to be told is waited for for ever.
        let timeout = timeout.and_then(|span| Timespec::try_from(span).ok());
        let woken = self.waiting().wait(timeout.as_ref())?;
        if let Some(guarded) = &mut self.place.guarded {
            guarded.wake();
        }
        self.clock.drain();
        Ok(woken)
    }

    fn next_deadline(&self) -> Option<Time> {
        let own = [self.engine.next_deadline(), self.backend.next_deadline()];
        let (ipc, pauses) = (self.place.ipc.next_deadline(), self.pauses.next_deadline());
        let further = [self.heartbeat.next_deadline(), self.files.next_deadline(), ipc, pauses];
        own.into_iter().chain(further).flatten().min()
    }

    fn waiting(&self) -> PollSet<'_> {
        let mut waiting = PollSet {
            descriptors: Vec::with_capacity(USUALLY),
            sources: Vec::with_capacity(USUALLY),
        };
        let read = PollFlags::IN;
        waiting.add(PollSource::Signals, self.signals.as_fd(), read);
        waiting.add(PollSource::Files, self.files.saved_descriptor(), read);
        if let Some(reading) = self.files.reading_descriptor() {
            waiting.add(PollSource::Reading, reading, read);
        }
        if let Some(guarded) = &self.place.guarded {
            waiting.add(PollSource::Guardian, guarded.descriptor(), read);
        }
        if let Some(clock) = self.clock.descriptor() {
            waiting.add(PollSource::Clock, clock, read);
        }
        if let Some(backend) = self.backend.descriptor() {
            waiting.add(PollSource::Backend, backend, read);
        }
        self.executor
            .descriptors()
            .for_each(|fd| waiting.add(PollSource::CommandExecutor, fd, read));
        self.place
            .ipc
            .descriptors()
            .for_each(|(fd, events)| waiting.add(PollSource::Ipc, fd, events));
        waiting
    }
}
