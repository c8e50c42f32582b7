//! The ear at work: a thread that listens as long as anything counts as said, and tells what it heard.
//!
//! The microphone is open only then. One that goes away is looked for again; so is one that another
//! program has for itself.

use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::Duration;

use lantern_model::{Ear as State, Event, Listening};
use lantern_sense::Loudness;

use super::{Hearer, Noted, Source, Verdict};
use crate::ServiceError;

/// How often a microphone that is not there is looked for.
const RETRY: Duration = Duration::from_secs(2);
/// How the ear tells what it heard.
pub(crate) type Teller = Arc<dyn Fn(Event) + Send + Sync>;

/// How loud it is, for who asks; nothing while the ear is closed.
type Meter = Arc<Mutex<Option<Loudness>>>;

/// An ear that can be told what to listen for. It ends with this.
#[derive(Debug)]
pub(crate) struct Ear {
    orders: Sender<Listening>,
    meter: Meter,
}

impl Ear {
    /// Starts one that listens for nothing yet.
    pub(crate) fn start(tell: Teller) -> Ear {
        let (orders, told) = channel();
        let meter = Meter::default();
        let worker = Worker {
            orders: told,
            tell,
            meter: Arc::clone(&meter),
            hearer: None,
            told: State::Closed,
        };
        thread::spawn(move || worker.work());
        Ear { orders, meter }
    }

    /// How loud it is now; nothing while the ear is closed.
    pub(crate) fn loudness(&self) -> Option<Loudness> {
        self.meter.lock().ok().and_then(|meter| *meter)
    }

    /// Listens for this from now on.
    pub(crate) fn listen_for(&self, listening: Listening) {
        // It ends only with its sender.
        let _ = self.orders.send(listening);
    }
}

/// The thread's own side.
struct Worker {
    orders: Receiver<Listening>,
    tell: Teller,
    meter: Meter,
    /// Opened when it is first needed.
    hearer: Option<Hearer>,
    /// What was told last, so that it is told once.
    told: State,
}

impl Worker {
    /// Works until nobody gives orders any more.
    fn work(mut self) {
        let mut next = self.orders.recv().ok();
        while let Some(wanted) = next {
            next = if wanted.phrases.is_empty() {
                self.tell_state(State::Closed);
                self.orders.recv().ok()
            } else {
                self.listen(&wanted).unwrap_or_else(|error| {
                    self.tell_state(State::Deaf(error.line()));
                    match self.orders.recv_timeout(RETRY) {
                        Ok(other) => Some(other),
                        Err(RecvTimeoutError::Timeout) => Some(wanted),
                        Err(RecvTimeoutError::Disconnected) => None,
                    }
                })
            };
            self.measure(None);
        }
    }

    /// Listens until there is nothing to listen for, or another microphone is wanted: what comes
    /// next.
    fn listen(&mut self, wanted: &Listening) -> Result<Option<Listening>, ServiceError> {
        let mut hearer = match self.hearer.take() {
            Some(hearer) => hearer,
            None => Hearer::open()?,
        };
        hearer.listen_for(wanted.clone())?;
        let mut source = Source::microphone(&wanted.microphone)?;
        loop {
            let sound = source.next()?.unwrap_or_default();
            self.tell_state(State::Open);
            for noted in hearer.take(&sound)? {
                if let Noted::Said(verdict) = noted {
                    let began = hearer.time().saturating_sub(verdict.from);
                    (self.tell)(event_of(&verdict, began));
                }
            }
            self.measure(Some(hearer.loudness()));
            match self.orders.try_iter().last() {
                Some(next) if next.phrases.is_empty() || next.microphone != wanted.microphone => {
                    hearer.forget();
                    self.hearer = Some(hearer);
                    return Ok(Some(next));
                }
                Some(next) => hearer.listen_for(next)?,
                None => {}
            }
        }
    }

    fn tell_state(&mut self, state: State) {
        if self.told != state {
            self.told = state.clone();
            (self.tell)(Event::Ear(state));
        }
    }

    fn measure(&self, loudness: Option<Loudness>) {
        if let Ok(mut meter) = self.meter.lock() {
            *meter = loudness;
        }
    }
}

/// What the engine is told of an utterance that began so long ago.
fn event_of(verdict: &Verdict, began: Duration) -> Event {
    let (words, score) = (verdict.words.clone(), verdict.score);
    match verdict.problem() {
        None => Event::Heard { words, score, began },
        Some(why) => Event::Misheard { words, score, why },
    }
}
