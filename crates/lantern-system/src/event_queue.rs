//! Bounded channels by which threads and tasks send events to the event loop.
//!
//! A sender waits while its channel is full. A task that reads a device reads no further then, so that
//! the flow control of the port, the socket or the broker's connection holds the device back, and memory
//! stays bounded. An eventfd wakes the event loop.

use std::os::fd::OwnedFd;
use std::sync::Arc;

use lantern_model::Event;
use tokio::sync::mpsc::{Receiver, Sender, channel};

/// Maximum number of events that wait for the event loop in one channel.
pub const MOST_WAITING: usize = 64;

/// The receiving end, with a sender for each who asks for one.
#[derive(Debug)]
pub struct EventQueue {
    sender: EventSender,
    events: Receiver<Event>,
}

/// The sending end.
#[derive(Debug, Clone)]
pub struct EventSender {
    events: Sender<Event>,
    waker: Arc<OwnedFd>,
}

impl EventQueue {
    /// An empty channel whose senders make `bell`, an eventfd, readable.
    pub fn new(waker: &Arc<OwnedFd>) -> EventQueue {
        let (events, receiver) = channel(MOST_WAITING);
        EventQueue { sender: EventSender { events, waker: Arc::clone(waker) }, events: receiver }
    }

    /// A sender of the channel.
    pub fn sender(&self) -> EventSender {
        self.sender.clone()
    }

    /// The next event, if one waits.
    pub fn pop(&mut self) -> Option<Event> {
        self.events.try_recv().ok()
    }
}

impl EventSender {
    /// Sends an event from a task; waits while the channel is full.
    pub async fn send(&self, event: Event) {
        // An error means that the program is ending.
        if self.events.send(event).await.is_ok() {
            wake(&self.waker);
        }
    }

    /// Sends an event from a thread that runs no tasks; blocks while the channel is full.
    pub fn send_blocking(&self, event: Event) {
        if self.events.blocking_send(event).is_ok() {
            wake(&self.waker);
        }
    }
}

/// Makes an eventfd readable.
pub fn wake(waker: &OwnedFd) {
    let _ = rustix::io::write(waker, &1u64.to_ne_bytes());
}

#[cfg(test)]
mod tests {
    use std::pin::pin;

    use futures::FutureExt;
    use rustix::event::{EventfdFlags, eventfd};

    use super::*;

    #[test]
    fn a_full_channel_makes_its_sender_wait_until_an_event_is_taken() {
        let waker = Arc::new(eventfd(0, EventfdFlags::CLOEXEC).expect("there are descriptors"));
        let mut events = EventQueue::new(&waker);
        let sender = events.sender();
        for _ in 0..MOST_WAITING {
            assert!(sender.send(Event::Started).now_or_never().is_some());
        }
        let mut waits = pin!(sender.send(Event::Started));
        assert!(waits.as_mut().now_or_never().is_none());
        assert!(events.pop().is_some());
        assert!(waits.as_mut().now_or_never().is_some());
        assert_eq!(std::iter::from_fn(|| events.pop()).count(), MOST_WAITING);
    }
}
