//! Work for the event loop on a thread of its own, one piece at a time and with a time limit.

use std::fmt;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, TryRecvError, channel};
use std::thread::{self, JoinHandle};
use std::time::Duration;

use lantern_model::Time;
use rustix::event::{EventfdFlags, eventfd};

/// Maximum number of threads whose work has exceeded its limit and continues.
const MOST_OVERDUE: usize = 3;

/// Runs work on a thread and makes a descriptor readable when it is done.
pub(super) struct Background<T> {
    waker: Arc<OwnedFd>,
    limit: Duration,
    under_way: Option<UnderWay<T>>,
    /// Threads whose results are not awaited any more.
    overdue: Vec<JoinHandle<()>>,
}

struct UnderWay<T> {
    result: Receiver<T>,
    until: Time,
    thread: JoinHandle<()>,
}

/// What became of work.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Finished<T> {
    JobResult(T),
    /// It took longer than its limit, or earlier work that did keeps the threads busy.
    TooSlow(Duration),
    /// It panicked.
    Fault,
}

impl<T: Send + 'static> Background<T> {
    /// Nothing is under way.
    ///
    /// # Errors
    /// When the system gives no event descriptor.
    pub(super) fn new(limit: Duration) -> io::Result<Background<T>> {
        let waker = Arc::new(eventfd(0, EventfdFlags::CLOEXEC | EventfdFlags::NONBLOCK)?);
        Ok(Background { waker, limit, under_way: None, overdue: Vec::new() })
    }

    /// Starts work; its result comes from [`Background::poll`]. The caller makes sure that none is
    /// under way.
    pub(super) fn start(&mut self, now: Time, work: impl FnOnce() -> T + Send + 'static) {
        self.overdue.retain(|thread| !thread.is_finished());
        let is_full = self.overdue.len() >= MOST_OVERDUE;
        let (sender, result) = channel();
        let waker = Arc::clone(&self.waker);
        let thread = thread::spawn(move || {
            // Rings also when the work panics, which drops the sender.
            let _ring = Ring(waker);
            if !is_full {
                // Nothing awaits a result that comes too late.
                let _ = sender.send(work());
            }
        });
        let until = if is_full { now } else { now + self.limit };
        self.under_way = Some(UnderWay { result, until, thread });
    }

    pub(super) fn is_under_way(&self) -> bool {
        self.under_way.is_some()
    }

    /// What became of the work, once it is done or its limit is over.
    pub(super) fn poll(&mut self, now: Time) -> Option<Finished<T>> {
        let UnderWay { result, until, .. } = self.under_way.as_ref()?;
        let finished = match result.try_recv() {
            Ok(result) => Finished::JobResult(result),
            _ if *until <= now => Finished::TooSlow(self.limit),
            Err(TryRecvError::Disconnected) => Finished::Fault,
            Err(TryRecvError::Empty) => return None,
        };
        let _ = rustix::io::read(&*self.waker, &mut [0; 8]);
        let under_way = self.under_way.take()?;
        if matches!(finished, Finished::TooSlow(_)) {
            self.overdue.push(under_way.thread);
        }
        Some(finished)
    }

    /// When the limit of the work under way is over.
    pub(super) fn next_deadline(&self) -> Option<Time> {
        self.under_way.as_ref().map(|under_way| under_way.until)
    }

    /// Becomes readable when work is done.
    pub(super) fn descriptor(&self) -> BorrowedFd<'_> {
        self.waker.as_fd()
    }
}

impl<T> fmt::Debug for Background<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let is_under_way = self.under_way.is_some();
        f.debug_struct("Background").field("is_under_way", &is_under_way).finish_non_exhaustive()
    }
}

/// Makes an eventfd readable when it is dropped.
struct Ring(Arc<OwnedFd>);

impl Drop for Ring {
    fn drop(&mut self) {
        let _ = rustix::io::write(&*self.0, &1u64.to_ne_bytes());
    }
}

#[cfg(test)]
mod tests {
    use rustix::event::{PollFd, PollFlags, poll};

    use super::*;

    const LIMIT: Duration = Duration::from_secs(5);

    fn background<T: Send + 'static>() -> Background<T> {
        Background::new(LIMIT).expect("there are descriptors")
    }

    /// Waits for the descriptor, and gives what became of the work.
    fn finished<T: Send + 'static>(background: &mut Background<T>, now: Time) -> Finished<T> {
        loop {
            let descriptor = background.descriptor();
            poll(&mut [PollFd::new(&descriptor, PollFlags::IN)], None).expect("it can wait");
            if let Some(finished) = background.poll(now) {
                return finished;
            }
        }
    }

    #[test]
    fn a_result_comes_once_and_a_panic_is_told() {
        let mut background = background();
        background.start(Time::START, || 7);
        assert_eq!(finished(&mut background, Time::START), Finished::JobResult(7));
        assert!(!background.is_under_way() && background.poll(Time::START).is_none());
        background.start(Time::START, || panic!("no entry"));
        assert_eq!(finished(&mut background, Time::START), Finished::Fault);
    }

    #[test]
    fn work_without_an_end_is_left_behind_and_no_more_than_three_of_it() {
        let mut background = background();
        let mut ends = Vec::new();
        for round in 0..MOST_OVERDUE {
            let (end, wait) = channel::<()>();
            ends.push(end);
            background.start(Time::START, move || while wait.recv().is_ok() {});
            assert_eq!(background.poll(Time::START), None, "round {round}");
            let late = background.next_deadline().expect("it has a limit");
            assert_eq!(background.poll(late), Some(Finished::TooSlow(LIMIT)));
        }
        background.start(Time::START, || ());
        assert_eq!(background.poll(Time::START), Some(Finished::TooSlow(LIMIT)));
        drop(ends);
        lantern_stage::wait_until("the threads to end", || {
            background.start(Time::START, || ());
            finished(&mut background, Time::START) == Finished::JobResult(())
        });
    }
}
