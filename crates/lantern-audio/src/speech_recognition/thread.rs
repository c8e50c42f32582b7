//! The thread of speech recognition. It records while any phrase is active and sends an event for each utterance.
//!
//! The microphone is open only then. One that goes away is looked for again; so is one that another
//! program has for itself. Where the rules name a program that hears instead, it is started and ended in
//! the microphone's place.

use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::{Duration, Instant};

use lantern_model::{Event, Listening, MicrophoneState as State};
use lantern_speech::{Example, LastUtterance, Loudness, UtteranceResult};

use super::external_recognizer::ExternalRecognizer;
use super::external_result;
use super::speech_command::SpeechCommand;
use super::{AudioSource, HearingEvent, Recognizer};
use crate::AudioError;
use lantern_system::ChildEnvironment;
use lantern_system::catch;

/// How often a microphone that is not there is looked for.
const RETRY: Duration = Duration::from_secs(2);

/// Takes the events of the recognition thread.
pub type EventSink = Arc<dyn Fn(Event) + Send + Sync>;

/// What is shared with who asks.
type SharedMeter = Arc<Mutex<MicrophoneStatus>>;

/// State that other threads may read.
#[derive(Debug, Default)]
struct MicrophoneStatus {
    /// The level; `None` while the microphone is closed.
    loudness: Option<Loudness>,
    last: Option<(UtteranceResult, Example, Instant)>,
}

/// Handle of the recognition thread. The thread ends when the handle is dropped.
#[derive(Debug)]
pub struct SpeechThread {
    calls: Sender<SpeechCommand>,
    meter: SharedMeter,
}

impl SpeechThread {
    /// Starts one that listens for nothing yet.
    pub fn start(tell: EventSink, environment: ChildEnvironment) -> SpeechThread {
        let (sender, calls) = channel();
        let meter = SharedMeter::default();
        let mut worker = SpeechWorker {
            calls,
            own: sender.clone(),
            tell,
            environment,
            meter: Arc::clone(&meter),
            hearer: None,
            told: State::Closed,
            programs: 0,
            wanted: None,
        };
        thread::spawn(move || {
            while let Err(fault) = catch(|| worker.work()) {
                worker.begin_anew(fault.0);
            }
        });
        SpeechThread { calls: sender, meter }
    }

    /// The present level; `None` while the microphone is closed.
    pub fn loudness(&self) -> Option<Loudness> {
        self.meter.lock().ok().and_then(|seen| seen.loudness)
    }

    /// What was said last.
    pub fn last(&self) -> Option<LastUtterance> {
        let (verdict, example, at) = self.meter.lock().ok()?.last.clone()?;
        Some(LastUtterance { verdict, example, ago: at.elapsed() })
    }

    /// Listens for this from now on.
    pub fn listen_for(&self, listening: Listening) {
        // The thread ends after this.
        let _ = self.calls.send(SpeechCommand::Listen(listening));
    }
}

impl Drop for SpeechThread {
    fn drop(&mut self) {
        let _ = self.calls.send(SpeechCommand::End);
    }
}

/// The thread's own side.
struct SpeechWorker {
    calls: Receiver<SpeechCommand>,
    /// By which a program's lines come.
    own: Sender<SpeechCommand>,
    tell: EventSink,
    environment: ChildEnvironment,
    meter: SharedMeter,
    /// Opened when it is first needed.
    hearer: Option<Recognizer>,
    /// The last state that was sent, so that it is sent once.
    told: State,
    /// How many programs were started; those before may still have something to say.
    programs: u32,
    /// What is listened for, in case a panic ends that.
    wanted: Option<Listening>,
}

impl SpeechWorker {
    /// Works until the thread is to end.
    fn work(&mut self) {
        let mut next = match self.wanted.take() {
            Some(wanted) => self.wait_and_try(wanted),
            None => self.next_listening(),
        };
        while let Some(wanted) = next {
            self.wanted = Some(wanted.clone());
            next = if wanted.phrases.is_empty() {
                self.tell_state(State::Closed);
                self.next_listening()
            } else {
                let result = match wanted.external_recognizer.as_str() {
                    "" => self.listen(&wanted),
                    _ => self.listen_to_program(&wanted),
                };
                result.unwrap_or_else(|error| {
                    self.tell_state(State::Failed(error.line()));
                    self.wait_and_try(wanted)
                })
            };
            self.measure(None);
        }
    }

    /// After a panic: nothing that was open is used any more.
    fn begin_anew(&mut self, fault: String) {
        self.hearer = None;
        self.tell_state(State::Failed(AudioError::Fault(fault).line()));
    }

    /// What to listen for next; nothing at the end.
    fn next_listening(&mut self) -> Option<Listening> {
        loop {
            match self.calls.recv().ok()? {
                SpeechCommand::Listen(listening) => return Some(listening),
                SpeechCommand::End => return None,
                SpeechCommand::Line(..) | SpeechCommand::Silent(_) => {}
            }
        }
    }

    /// The same, or after a while what was listened for before.
    fn wait_and_try(&mut self, wanted: Listening) -> Option<Listening> {
        match self.calls.recv_timeout(RETRY) {
            Ok(SpeechCommand::Listen(listening)) => Some(listening),
            Ok(SpeechCommand::Line(..) | SpeechCommand::Silent(_))
            | Err(RecvTimeoutError::Timeout) => Some(wanted),
            Ok(SpeechCommand::End) | Err(RecvTimeoutError::Disconnected) => None,
        }
    }

    /// Listens until there is nothing to listen for, or to something else: what comes next.
    fn listen(&mut self, wanted: &Listening) -> Result<Option<Listening>, AudioError> {
        let source = AudioSource::microphone(&wanted.microphone)?;
        let mut hearer = match self.hearer.take() {
            Some(hearer) => hearer,
            None => Recognizer::open()?,
        };
        let next = self.listen_with(&mut hearer, source, wanted);
        // Kept, also when the microphone broke off: loading the model takes its time.
        hearer.forget();
        self.hearer = Some(hearer);
        next
    }

    fn listen_with(
        &mut self,
        hearer: &mut Recognizer,
        mut source: AudioSource,
        wanted: &Listening,
    ) -> Result<Option<Listening>, AudioError> {
        hearer.listen_for(wanted.clone())?;
        loop {
            let sound = source.read()?.unwrap_or_default();
            self.tell_state(State::Open);
            for noted in hearer.take(&sound)? {
                if let HearingEvent::Utterance(verdict) = noted {
                    let began = hearer.time().saturating_sub(verdict.from);
                    self.remember(&verdict, hearer.last());
                    (self.tell)(event_of(&verdict, began));
                }
            }
            self.measure(Some(hearer.loudness()));
            let ours = |call: &SpeechCommand| {
                matches!(call, SpeechCommand::Listen(_) | SpeechCommand::End)
            };
            match self.calls.try_iter().filter(ours).last() {
                Some(SpeechCommand::Listen(next)) if keeps_source(&next, wanted) => {
                    hearer.listen_for(next)?
                }
                Some(SpeechCommand::Listen(next)) => return Ok(Some(next)),
                Some(SpeechCommand::End) => return Ok(None),
                Some(SpeechCommand::Line(..) | SpeechCommand::Silent(_)) | None => {}
            }
        }
    }

    /// The same by a program that hears instead.
    fn listen_to_program(&mut self, wanted: &Listening) -> Result<Option<Listening>, AudioError> {
        self.programs += 1;
        let number = self.programs;
        let (line, own) = (&wanted.external_recognizer, self.own.clone());
        let mut program = ExternalRecognizer::start(line, number, own, &self.environment)?;
        program.tell_phrases(wanted);
        self.tell_state(State::Open);
        loop {
            match self.calls.recv() {
                Ok(SpeechCommand::Line(of, line)) if of == number => {
                    if let Some(event) = external_result::event_of(&line) {
                        (self.tell)(event);
                    }
                }
                Ok(SpeechCommand::Listen(next)) if keeps_source(&next, wanted) => {
                    program.tell_phrases(&next)
                }
                Ok(SpeechCommand::Listen(next)) => return Ok(Some(next)),
                Ok(SpeechCommand::Silent(of)) if of == number => return Err(program.ended()),
                Ok(SpeechCommand::Line(..) | SpeechCommand::Silent(_)) => {}
                Ok(SpeechCommand::End) | Err(_) => return Ok(None),
            }
        }
    }

    fn tell_state(&mut self, state: State) {
        if self.told != state {
            self.told = state.clone();
            (self.tell)(Event::MicrophoneState(state));
        }
    }

    fn remember(&self, verdict: &UtteranceResult, example: Option<&Example>) {
        if let (Ok(mut seen), Some(example)) = (self.meter.lock(), example) {
            let (verdict, example) = (verdict.clone(), example.clone());
            seen.last = Some((verdict, example, Instant::now()));
        }
    }

    fn measure(&self, loudness: Option<Loudness>) {
        if let Ok(mut seen) = self.meter.lock() {
            seen.loudness = loudness;
        }
    }
}

/// Whether the open source and recognizer serve the next phrases too.
fn keeps_source(next: &Listening, now: &Listening) -> bool {
    !next.phrases.is_empty()
        && next.microphone == now.microphone
        && next.external_recognizer == now.external_recognizer
}

/// The event for an utterance that began at this time before now.
fn event_of(verdict: &UtteranceResult, began: Duration) -> Event {
    let (words, score) = (verdict.words.clone(), verdict.score);
    match verdict.problem() {
        None => Event::Heard { words, score, began },
        Some(why) => Event::Misheard { words, score, why },
    }
}
