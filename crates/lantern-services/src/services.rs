//! The services' front: takes orders, hands each to its thread, and gives back what became of them.

use std::collections::BTreeMap;
use std::fmt;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread;

#[cfg(feature = "audio")]
use lantern_audio::{EventSink, SoundServer, SpeechThread};
use lantern_model::{
    Command, CommandError, CommandKind, EffectId, Event, KeyGrab, Listening, OutputLevel, Value,
};
#[cfg(feature = "net")]
use lantern_net::{CallAnswer, ConfiguredDevice, ConnectionThread, LinkError, OutcomeSender};
use lantern_session::accessibility::{self, Announcer, Front};
use lantern_session::{InputMethods, Shortcut, StartRequest, shortcuts};
use lantern_session::{bus, input_methods, notifications, programs, session_lock};
use lantern_speech::LastUtterance;
use lantern_system::{ChildEnvironment, EventQueue, MOST_WAITING, StopHandle, catch, wake};
use rustix::event::{EventfdFlags, eventfd};

use crate::ServiceError;

/// What became of an order.
#[derive(Debug)]
pub struct ServiceReport {
    /// Which order.
    pub effect: EffectId,
    /// What came of it.
    pub result: Result<JobResult, CommandError>,
}

/// What came of an order.
#[derive(Debug)]
pub enum JobResult {
    /// The command is done and has no result.
    Done,
    /// It is so loud now.
    Level(OutputLevel),
    /// This must be started now.
    Start(StartRequest),
    /// A program with that process was started.
    Runs(u32),
    /// A device answered with this.
    Gave(Value),
    /// These settings give away what was asked about.
    Owners(Vec<Shortcut>),
}

type Outcome = (EffectId, Result<JobResult, ServiceError>);

/// An order on its way.
struct ServiceJob {
    effect: EffectId,
    #[cfg_attr(not(feature = "audio"), expect(dead_code))]
    environment: ChildEnvironment,
    command: Command,
    front: Front,
    stop: Arc<StopHandle>,
}

/// Everything that is done on threads of its own.
pub struct Services {
    /// One thread each for what must be done in order, by the verb's words.
    workers: BTreeMap<&'static str, Sender<ServiceJob>>,
    running: BTreeMap<EffectId, Arc<StopHandle>>,
    /// One for what is read out to who cannot see it.
    announcer: Option<Sender<String>>,
    /// The thread of speech recognition, once a phrase is active.
    #[cfg(feature = "audio")]
    speech_thread: Option<SpeechThread>,
    /// The thread of connections, once there are devices.
    #[cfg(feature = "net")]
    links: Option<ConnectionThread>,
    /// What is reported of devices in their place.
    #[cfg(not(feature = "net"))]
    refused_devices: std::collections::VecDeque<Event>,
    /// Whether it is watched where the keyboard goes.
    fields_watched: bool,
    /// Whether it is watched whether an input method is at work.
    methods_watched: bool,
    environment: ChildEnvironment,
    /// What was seen and heard of the session and of the person.
    session_events: EventQueue,
    /// What devices sent.
    device_events: EventQueue,
    reports: Receiver<Outcome>,
    done: Sender<Outcome>,
    waker: Arc<OwnedFd>,
}

impl fmt::Debug for Services {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Services").field("running", &self.running.len()).finish_non_exhaustive()
    }
}

impl Services {
    /// Nothing is started before it is needed.
    ///
    /// # Errors
    /// When the system gives no event descriptor.
    pub fn new() -> std::io::Result<Services> {
        let (done, reports) = channel();
        let waker = Arc::new(eventfd(0, EventfdFlags::CLOEXEC | EventfdFlags::NONBLOCK)?);
        Ok(Services {
            workers: BTreeMap::new(),
            running: BTreeMap::new(),
            announcer: None,
            #[cfg(feature = "audio")]
            speech_thread: None,
            #[cfg(feature = "net")]
            links: None,
            #[cfg(not(feature = "net"))]
            refused_devices: std::collections::VecDeque::new(),
            fields_watched: false,
            methods_watched: false,
            environment: ChildEnvironment::default(),
            session_events: EventQueue::new(&waker),
            device_events: EventQueue::new(&waker),
            reports,
            done,
            waker,
        })
    }

    /// What the programs inherit that are started here.
    pub fn environment(&self) -> &ChildEnvironment {
        &self.environment
    }

    /// Does what is asked, if it is a service's to do; its outcome comes as a report. Whether it is.
    pub fn attempt(&mut self, effect: EffectId, command: &Command, front: &Front) -> bool {
        let stop = Arc::new(StopHandle::default());
        let job = ServiceJob {
            effect,
            environment: self.environment.clone(),
            command: command.clone(),
            front: front.clone(),
            stop: Arc::clone(&stop),
        };
        match command.kind {
            CommandKind::Launch => {
                self.hand_on("launch", job, |bus, job| {
                    let found =
                        programs::find(job.word()).map_err(lantern_session::SessionError::from)?;
                    activate(bus, found)
                });
            }
            CommandKind::Open => {
                self.hand_on("open", job, |bus, job| {
                    let found = programs::handler(job.word())
                        .map_err(lantern_session::SessionError::from)?;
                    activate(bus, found)
                });
            }
            CommandKind::Notify => {
                self.hand_on("notify", job, |bus, job| {
                    notifications::show(bus, job.word())?;
                    Ok(JobResult::Done)
                });
            }
            CommandKind::Volume(_) | CommandKind::Say | CommandKind::Play => {
                self.attempt_sound(job)
            }
            CommandKind::Send(_)
            | CommandKind::Publish { .. }
            | CommandKind::Get(_)
            | CommandKind::Put(_)
            | CommandKind::Post(_) => return self.attempt_device(job),
            CommandKind::QueryInputMethod => {
                self.hand_on("input method", job, |methods: &mut InputMethods, _| {
                    let composing = methods.composing()?;
                    Ok(composing.map_or(JobResult::Done, |name| JobResult::Gave(Value::Text(name))))
                });
            }
            CommandKind::ChooseMenuEntry => {
                self.hand_on("choose", job, |tree, job| {
                    accessibility::choose(tree, &job.front, &job.command.arguments)?;
                    Ok(JobResult::Done)
                });
            }
            _ => return false,
        }
        self.running.insert(effect, stop);
        true
    }

    /// Has a screen reader read out what is shown, if one is at work. Of several that come at once the
    /// newest is read.
    pub fn announce(&mut self, text: &str) {
        let announcer = self.announcer.get_or_insert_with(|| {
            let (sender, texts) = channel::<String>();
            thread::spawn(move || {
                let mut announcer = Announcer::default();
                while let Ok(first) = texts.recv() {
                    let text = texts.try_iter().last().unwrap_or(first);
                    // Without a screen reader the text is still on the screen.
                    let _ = announcer.announce(&text);
                }
            });
            sender
        });
        // The thread ends only with its sender.
        let _ = announcer.send(text.to_owned());
    }

    /// Watches from now on whether a password field has the keyboard, where accessibility tells.
    pub fn watch_fields(&mut self) {
        if std::mem::replace(&mut self.fields_watched, true) {
            return;
        }
        let tell = self.event_sender();
        // Without an accessibility bus no password field is known, and no text is refused.
        thread::spawn(move || {
            drop(accessibility::watch_fields(|process| tell(Event::PasswordField(process))));
        });
    }

    /// Watches from now on whether an input method is at work.
    pub fn watch_input_methods(&mut self) {
        if std::mem::replace(&mut self.methods_watched, true) {
            return;
        }
        let tell = self.event_sender();
        // Without a session bus there is none.
        thread::spawn(move || {
            drop(input_methods::watch(|at_work| tell(Event::InputMethod(at_work))))
        });
    }

    /// Watches from now on whether the person is there: screen locks, other sessions, sleep.
    pub fn watch_presence(&mut self) {
        let tell = self.event_sender();
        session_lock::watch(move |away| tell(Event::Locked(away)));
    }

    /// Looks which settings of the desktop give these combinations to something; a report to nobody's order
    /// names them. `manager` tells the window manager's name.
    pub fn find_owners(
        &self,
        keys: Vec<KeyGrab>,
        manager: impl FnOnce() -> String + Send + 'static,
    ) {
        let (done, waker) = (self.done.clone(), Arc::clone(&self.waker));
        thread::spawn(move || {
            let mut owners = shortcuts(&manager());
            owners.retain(|taken| {
                keys.iter().any(|key| (key.key, key.modifiers) == (taken.key, taken.families))
            });
            report(&done, &waker, EffectId(0), Ok(JobResult::Owners(owners)));
        });
    }

    /// How those who watch tell what they saw.
    fn event_sender(&self) -> impl Fn(Event) + Send + Sync + 'static {
        let events = self.session_events.sender();
        move |event| events.send_blocking(event)
    }

    /// Resets the descriptor. Called before reports and news are taken: what comes after that makes
    /// it readable again.
    pub fn reset_descriptor(&mut self) {
        let _ = rustix::io::read(&*self.waker, &mut [0; 8]);
    }

    /// What was seen of the session and heard of the person since the last call.
    pub fn take_session_events(&mut self) -> impl Iterator<Item = Event> {
        std::iter::from_fn(|| self.session_events.pop()).take(MOST_WAITING)
    }

    /// The next event of a device, if any. While it is not taken, the device is not read.
    pub fn next_device_event(&mut self) -> Option<Event> {
        #[cfg(not(feature = "net"))]
        if let Some(event) = self.refused_devices.pop_front() {
            return Some(event);
        }
        self.device_events.pop()
    }

    /// Cancels an effect: sound is stopped, queued work is dropped.
    pub fn abandon(&mut self, effect: EffectId) {
        if let Some(stop) = self.running.remove(&effect) {
            stop.stop();
        }
    }

    /// What becomes readable when there is a report.
    pub fn descriptor(&self) -> BorrowedFd<'_> {
        self.waker.as_fd()
    }

    /// The next report, if any.
    pub fn next_report(&mut self) -> Option<ServiceReport> {
        let (effect, result) = self.reports.try_recv().ok()?;
        self.running.remove(&effect);
        Some(ServiceReport { effect, result: result.map_err(CommandError::from) })
    }

    /// Puts a job behind those of its sort; their thread starts with the first. What `work` keeps
    /// between jobs, such as an open connection, begins anew after a job that panicked.
    fn hand_on<S: Default + 'static>(
        &mut self,
        sort: &'static str,
        job: ServiceJob,
        work: fn(&mut S, &ServiceJob) -> Result<JobResult, ServiceError>,
    ) {
        let worker = self.workers.entry(sort).or_insert_with(|| {
            let (sender, jobs) = channel::<ServiceJob>();
            let (done, waker) = (self.done.clone(), Arc::clone(&self.waker));
            thread::spawn(move || {
                let mut kept = S::default();
                for job in jobs {
                    let result = if job.stop.is_wanted() {
                        Err(ServiceError::Stopped)
                    } else {
                        catch(|| work(&mut kept, &job)).unwrap_or_else(|fault| {
                            kept = S::default();
                            Err(ServiceError::Fault(fault.0))
                        })
                    };
                    report(&done, &waker, job.effect, result);
                }
            });
            sender
        });
        let effect = job.effect;
        if worker.send(job).is_err() {
            // Only dropping what a panicked job left can end the thread; the next job starts another.
            self.workers.remove(sort);
            let fault = ServiceError::Fault("its worker has ended".to_owned());
            report(&self.done, &self.waker, effect, Err(fault));
        }
    }
}

/// Sound and speech.
#[cfg(feature = "audio")]
impl Services {
    fn attempt_sound(&mut self, job: ServiceJob) {
        match job.command.kind {
            CommandKind::Volume(_) => self.hand_on("volume", job, change_volume),
            CommandKind::Say => self.hand_on("say", job, |(): &mut (), job| {
                lantern_audio::say(job.word(), &job.environment, &job.stop)?;
                Ok(JobResult::Done)
            }),
            // Several sounds may be played at once.
            _ => {
                let (done, waker) = (self.done.clone(), Arc::clone(&self.waker));
                thread::spawn(move || {
                    let play = || {
                        lantern_audio::play(job.word(), &job.stop)?;
                        Ok(JobResult::Done)
                    };
                    let result =
                        catch(play).unwrap_or_else(|fault| Err(ServiceError::Fault(fault.0)));
                    report(&done, &waker, job.effect, result);
                });
            }
        }
    }

    /// Listens to the person for this from now on.
    pub fn listen_for(&mut self, listening: Listening) {
        if self.speech_thread.is_none() {
            let tell: EventSink = Arc::new(self.event_sender());
            self.speech_thread = Some(SpeechThread::start(tell, self.environment.clone()));
        }
        if let Some(speech_thread) = &self.speech_thread {
            speech_thread.listen_for(listening);
        }
    }

    /// The level at the microphone; none while it is closed.
    pub fn loudness(&self) -> Option<lantern_speech::Loudness> {
        self.speech_thread.as_ref().and_then(SpeechThread::loudness)
    }

    /// What was said last.
    pub fn last_said(&self) -> Option<LastUtterance> {
        self.speech_thread.as_ref().and_then(SpeechThread::last)
    }
}

/// Without sound and speech.
#[cfg(not(feature = "audio"))]
impl Services {
    fn attempt_sound(&mut self, job: ServiceJob) {
        let refused = Err(ServiceError::NotBuilt("sound"));
        report(&self.done, &self.waker, job.effect, refused);
    }

    /// Reports that the microphone cannot be used.
    pub fn listen_for(&mut self, listening: Listening) {
        if !listening.phrases.is_empty() {
            let why = ServiceError::NotBuilt("speech recognition").to_string();
            let state = lantern_model::MicrophoneState::Failed(why);
            self.event_sender()(Event::MicrophoneState(state));
        }
    }

    /// The level at the microphone: none.
    pub fn loudness(&self) -> Option<lantern_speech::Loudness> {
        None
    }

    /// What was said last: nothing.
    pub fn last_said(&self) -> Option<LastUtterance> {
        None
    }
}

/// Devices.
#[cfg(feature = "net")]
impl Services {
    fn attempt_device(&mut self, job: ServiceJob) -> bool {
        let device = match job.command.kind {
            CommandKind::Send(device)
            | CommandKind::Publish { broker: device, .. }
            | CommandKind::Get(device)
            | CommandKind::Put(device)
            | CommandKind::Post(device) => device,
            _ => return false,
        };
        // The devices of the rules were set before any rule asks one for something.
        let Some(links) = &self.links else { return false };
        links.attempt(device, job.effect, &job.command);
        job.stop.by(links.abandoning(job.effect));
        self.running.insert(job.effect, job.stop);
        true
    }

    /// Speaks with exactly these devices from now on.
    ///
    /// # Errors
    /// When the system gives no event descriptor.
    pub fn set_devices(&mut self, devices: Vec<ConfiguredDevice>) -> std::io::Result<()> {
        if self.links.is_none() && !devices.is_empty() {
            let (done, waker) = (self.done.clone(), Arc::clone(&self.waker));
            let event_sender = ConnectionOutcomeSender { done, waker };
            self.links =
                Some(ConnectionThread::start(Arc::new(event_sender), self.device_events.sender())?);
        }
        if let Some(links) = &self.links {
            links.set_devices(devices);
        }
        Ok(())
    }

    /// Answers a call to a listener.
    pub fn answer_call(&self, call: u64, answer: CallAnswer) {
        if let Some(links) = &self.links {
            links.answer(call, answer);
        }
    }
}

/// Without devices.
#[cfg(not(feature = "net"))]
impl Services {
    fn attempt_device(&mut self, job: ServiceJob) -> bool {
        report(&self.done, &self.waker, job.effect, Err(ServiceError::NotBuilt("devices")));
        true
    }

    /// Reports of each of these devices that it cannot be connected.
    pub fn refuse_devices(&mut self, names: impl Iterator<Item = String>) {
        let why = ServiceError::NotBuilt("devices").to_string();
        self.refused_devices = names
            .map(|device| Event::ConnectionState {
                device,
                state: lantern_model::ConnectionState::Down(why.clone()),
            })
            .collect();
        wake(&self.waker);
    }
}

fn report(
    done: &Sender<Outcome>,
    waker: &OwnedFd,
    effect: EffectId,
    result: Result<JobResult, ServiceError>,
) {
    // If the receiver is gone, the program is ending.
    if done.send((effect, result)).is_ok() {
        wake(waker);
    }
}

/// How links report outcomes.
#[cfg(feature = "net")]
struct ConnectionOutcomeSender {
    done: Sender<Outcome>,
    waker: Arc<OwnedFd>,
}

#[cfg(feature = "net")]
impl OutcomeSender for ConnectionOutcomeSender {
    fn outcome(&self, effect: EffectId, outcome: Result<Option<Value>, LinkError>) {
        let result = outcome.map(|value| value.map_or(JobResult::Done, JobResult::Gave));
        report(&self.done, &self.waker, effect, result.map_err(ServiceError::Device));
    }
}

impl ServiceJob {
    fn word(&self) -> &str {
        self.command.arguments.first().map_or("", String::as_str)
    }
}

/// Asks the program to start over the bus, if it wants that and can be reached.
fn activate(
    bus: &mut Option<zbus::Connection>,
    start: StartRequest,
) -> Result<JobResult, ServiceError> {
    let Some((name, targets)) = &start.bus else {
        return Ok(JobResult::Start(start));
    };
    match bus::activate(bus, name, targets) {
        Ok(process) => Ok(JobResult::Runs(process)),
        Err(error) if start.words.is_empty() => Err(error.into()),
        Err(_) => Ok(JobResult::Start(start)),
    }
}

#[cfg(feature = "audio")]
fn change_volume(
    server: &mut Option<SoundServer>,
    job: &ServiceJob,
) -> Result<JobResult, ServiceError> {
    let CommandKind::Volume(change) = job.command.kind else {
        return Ok(JobResult::Done);
    };
    let by = match job.command.value {
        Some(Value::Share(share)) => share,
        _ => 0.0,
    };
    let change = |open: &mut SoundServer| open.change(change, by);
    Ok(JobResult::Level(lantern_system::try_twice(server, SoundServer::connect, change)?))
}

#[cfg(test)]
mod tests {
    use std::time::{Duration, Instant};

    use super::*;

    fn next_report(services: &mut Services) -> ServiceReport {
        let end = Instant::now() + Duration::from_secs(20);
        loop {
            if let Some(report) = services.next_report() {
                return report;
            }
            assert!(Instant::now() < end, "no report comes");
            thread::yield_now();
        }
    }

    #[test]
    fn a_job_that_panics_fails_and_the_next_finds_a_worker_that_begins_anew() {
        fn count(done: &mut u64, job: &ServiceJob) -> Result<JobResult, ServiceError> {
            assert_ne!(job.effect, EffectId(2), "this one cannot be done");
            *done += 1;
            Ok(JobResult::Gave(Value::Number(*done as f64)))
        }
        let mut services = Services::new().expect("there are descriptors");
        for number in 1..=3 {
            let command = Command {
                kind: CommandKind::Notify,
                arguments: Vec::new(),
                value: None,
                timeout: None,
            };
            let (front, stop) = (Front::default(), Arc::default());
            let environment = ChildEnvironment::default();
            let job = ServiceJob { effect: EffectId(number), environment, command, front, stop };
            services.hand_on("count", job, count);
        }
        let results: Vec<_> = (0..3).map(|_| next_report(&mut services).result).collect();
        let one = |result: &Result<JobResult, CommandError>| matches!(result, Ok(JobResult::Gave(Value::Number(number))) if *number == 1.0);
        assert!(one(&results[0]) && one(&results[2]), "{results:?}");
        let fault = results[1].as_ref().expect_err("it panicked");
        assert!(fault.detail.contains("this one cannot be done"), "{fault}");
    }
}
