//! The one event loop: it sleeps until the back end, a timer, a signal, a saved file or the end of a
//! started program wakes it, hands what happened to the engine, and carries out what comes back.

use std::collections::VecDeque;
use std::os::fd::OwnedFd;
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use crate::arguments::BackendName;
use crate::command_executor::{CommandExecutor, Outcome};
use crate::event_log::{EventLog, LogLevel};
use crate::failure::Failure;
use crate::guardian::GuardianHandle;
use crate::ipc::server::IpcServer;
use crate::service_notify::WatchdogNotifier;
use crate::style::say;
use crate::{signals, style};
use lantern_desk::{Backend, BackendError};
use lantern_devices::OutputLevel;
use lantern_engine::{Engine, StopCause};
use lantern_model::{
    Command, CommandKind, Effect, EffectId, EffectKind, Event, Hint, HintContent, HintPlace,
    RuleSet, Time, WallTime,
};
use rustix::event::Timespec;
use rustix::time::{
    Itimerspec, TimerfdClockId, TimerfdFlags, TimerfdTimerFlags, timerfd_create, timerfd_settime,
};

/// More combinations than this make the X server slower for every program.
const MANY_COMBINATIONS: usize = 300;

/// Maximum time to wait at start-up for all grabs to be installed.
const ARMING: Duration = Duration::from_secs(3);

/// Maximum time for which events are processed before signals, files and the socket are checked
/// again.
const FAIR_SHARE: Duration = Duration::from_millis(8);

/// How long it is shown how loud it is.
const LEVEL_SPAN: Duration = Duration::from_millis(1500);

mod background;
mod calls;
mod file_watcher;
mod log_lines;
mod poll_sources;
mod reloading;
mod request_handlers;

use background::Background;
use file_watcher::SavedFile;
use poll_sources::ReadySources;
use reloading::{READING_LASTS, Read, ReloadRequest};
use request_handlers::TimedPause;

/// Where a session works, and with what.
pub struct SessionConfig {
    /// The file of rules.
    pub path: PathBuf,
    /// Which sort of back end it is.
    pub backend: BackendName,
    /// What that back end is called.
    pub called: String,
    /// The guardian, which releases keys after a crash. None for a back end that holds no keys.
    pub guarded: Option<GuardianHandle>,
    /// Where others speak to us.
    pub ipc: IpcServer,
}

/// A run of `lantern run`.
pub struct Session<'j, D> {
    engine: Engine,
    backend: D,
    executor: CommandExecutor,
    place: SessionConfig,
    saved: SavedFile,
    /// When the files were seen to be saved first, and when they are to be read.
    read_due: Option<(Time, Time)>,
    /// The files, being read.
    reading: Background<Read>,
    /// Requests to reload that wait until the files are read.
    reload_requests: Vec<ReloadRequest>,
    /// Whether the file was empty when it was read last.
    seen_empty: bool,
    signals: &'static UnixStream,
    start: Instant,
    /// When that was, for a person.
    since: jiff::Timestamp,
    pauses: Vec<TimedPause>,
    /// Whether we were asked to go.
    leaving: bool,
    /// Whether the file is broken now, so that rules from before are in force.
    broken: bool,
    /// Whether the rules ask what the wall clock shows.
    asks_clock: bool,
    /// What the engine was told of the wall clock, and when.
    clock: Option<(Time, WallTime)>,
    journal: &'j EventLog,
    heartbeat: WatchdogNotifier,
    /// What becomes readable when the wall clock is set, while rules ask what it shows.
    clock_set: Option<OwnedFd>,
    reasons_seen: u64,
    failed: VecDeque<(EffectId, String)>,
    warned_many: bool,
}

impl<'j, D: Backend> Session<'j, D> {
    /// A session with rules read from its file, ended by SIGINT, SIGTERM and SIGHUP.
    pub fn new(
        rules: RuleSet,
        backend: D,
        place: SessionConfig,
        journal: &'j EventLog,
    ) -> Result<Session<'j, D>, Failure> {
        let failed = |source| Failure::System { what: "cannot watch services", source };
        let paths: Vec<PathBuf> = rules.files.iter().map(PathBuf::from).collect();
        let signals = signals::endings()?;
        let mut errands = CommandExecutor::new().map_err(failed)?;
        errands.watch_presence();
        errands.set_devices(&rules).map_err(failed)?;
        if rules.needs_password_field() {
            errands.watch_typing();
        }
        Ok(Session {
            asks_clock: rules.reads_clock(),
            engine: Engine::new(rules, seed()),
            backend,
            executor: errands,
            saved: SavedFile::watch(&paths)?,
            read_due: None,
            reading: Background::new(READING_LASTS).map_err(failed)?,
            reload_requests: Vec::new(),
            seen_empty: false,
            place,
            signals,
            start: Instant::now(),
            since: jiff::Timestamp::now(),
            pauses: Vec::new(),
            leaving: false,
            broken: false,
            clock: None,
            journal,
            heartbeat: WatchdogNotifier::wanted(),
            clock_set: None,
            reasons_seen: 0,
            failed: VecDeque::new(),
            warned_many: false,
        })
    }

    fn now(&self) -> Time {
        Time::START + self.start.elapsed()
    }

    /// Works until a signal ends it. `ready` is called once, when every key is armed.
    pub fn work(&mut self, ready: impl FnOnce(&RuleSet, &EventLog)) -> Result<(), Failure> {
        // On a slow machine more than one share of time passes before every key is armed.
        let until = self.now() + ARMING;
        while !self.process_events()? && self.now() < until {}
        self.tell_clock()?;
        let now = self.now();
        self.engine.handle_event(now, Event::Started);
        self.perform_effects(now)?;
        ready(self.engine.rules(), self.journal);
        self.work_on()?;
        let now = self.now();
        self.engine.stop_everything(now, StopCause::SessionEnd);
        self.perform_effects(now)
    }

    /// Tells the engine what the wall clock shows, if it does not know; a season's change and a
    /// sleep are seen at the first waking after them.
    fn tell_clock(&mut self) -> Result<(), Failure> {
        if !self.asks_clock {
            self.clock_set = None;
            return Ok(());
        }
        if self.clock_set.is_none() {
            self.clock_set = Some(watch_clock()?);
        }
        let (now, wall) = (self.now(), wall_time());
        let expected = self.clock.map(|(at, told)| told.local + now.since(at).as_secs() as i64);
        // A second is what rounding may take.
        let jumped = expected.is_none_or(|expected| (expected - wall.local).abs() > 1);
        if jumped || self.clock.is_some_and(|(_, told)| told.offset != wall.offset) {
            self.clock = Some((now, wall));
            self.engine.handle_event(now, Event::WallClock(wall));
            self.perform_effects(now)?;
        }
        Ok(())
    }

    /// Works until a signal comes. What the person did comes before all else that woke it.
    fn work_on(&mut self) -> Result<(), Failure> {
        let mut woken = ReadySources::default();
        loop {
            self.tell_clock()?;
            let quiet = self.process_events()?;
            let tended = self.dispatch(&woken)?;
            if woken.signal || self.leaving {
                return Ok(());
            }
            self.tell_listeners();
            woken = self.wait(quiet && !tended)?;
        }
    }

    /// Sees to everything but the back end; whether the engine may have more to do after it.
    fn dispatch(&mut self, woken: &ReadySources) -> Result<bool, Failure> {
        let mut tended = woken.saved || woken.returned;
        if let (true, Some(guarded)) = (woken.unguarded, &mut self.place.guarded) {
            guarded.renew()?;
            self.journal.tell(
                LogLevel::Warning,
                "the guardian of held keys had died; another one watches now",
            );
        }
        let now = self.now();
        if woken.ipc || self.place.ipc.next_deadline().is_some_and(|due| due <= now) {
            self.place.ipc.exchange(now);
            tended = true;
        }
        tended |= self.end_pauses(now)?;
        self.heartbeat.beat(now);
        if woken.saved || self.saved.is_pending() {
            self.look_at_files();
        }
        if self.reading.is_under_way() {
            self.finish_reading()?;
            tended |= !self.reading.is_under_way();
        }
        if self.read_due.is_some_and(|(_, due)| due <= now) {
            self.begin_reading();
        }
        if woken.returned {
            self.take_returned()?;
        }
        Ok(tended)
    }

    /// Takes in what has come and is due, until nothing has or a fair share is done; whether
    /// nothing is left.
    fn process_events(&mut self) -> Result<bool, Failure> {
        let began = self.now();
        let mut now = began;
        while now.since(began) <= FAIR_SHARE {
            let mut quiet = true;
            if let Some(event) = self.backend.poll_event(now)? {
                if self.journal.wants(LogLevel::Debug) {
                    self.tell_event(now, &event);
                }
                match &event {
                    Event::Focus(app) => self.executor.see_front(app),
                    Event::GrabsRefused(keys) => self.executor.find_owners(keys),
                    _ => {}
                }
                self.engine.handle_event(now, event);
                quiet = false;
            }
            self.perform_effects(now)?;
            if self.backend.next_deadline().is_some_and(|due| due <= now) {
                self.backend.handle_deadline(now)?;
                quiet = false;
            }
            if quiet {
                // The person comes first: one of each between two looks at the back end, so that none keeps
                // the others waiting.
                if self.engine.next_deadline().is_some_and(|due| due <= now) {
                    self.engine.handle_deadline(now);
                    self.perform_effects(now)?;
                    quiet = false;
                }
                if let Some(event) = self.executor.next_device_news() {
                    self.take_device_news(now, event);
                    self.perform_effects(now)?;
                    quiet = false;
                }
                quiet &= !self.answer_next()?;
            }
            if quiet {
                self.tell_reasons();
                return Ok(true);
            }
            now = self.now();
        }
        self.tell_reasons();
        Ok(false)
    }

    fn perform_effects(&mut self, now: Time) -> Result<(), Failure> {
        loop {
            while let Some(effect) = self.engine.poll_effect() {
                self.perform(now, effect)?;
            }
            let Some((effect, message)) = self.failed.pop_front() else {
                return Ok(());
            };
            self.engine.handle_event(now, Event::Outcome { effect, result: Err(message) });
        }
    }

    fn perform(&mut self, now: Time, effect: Effect) -> Result<(), BackendError> {
        match effect.kind {
            EffectKind::SetGrabs(armed) => {
                if armed.keys.len() > MANY_COMBINATIONS && !self.warned_many {
                    self.warned_many = true;
                    let words = format!(
                        "{}warning{0:#}: {} combinations are taken at once; above {MANY_COMBINATIONS} \
                         the X server grows slower for every program.\n  {}help{2:#}: put rules into \
                         `in app` blocks, so that fewer are needed at a time",
                        style::WARNING,
                        armed.keys.len(),
                        style::HELP
                    );
                    self.journal.tell(LogLevel::Warning, &words);
                }
                self.backend.set_grabs(armed)
            }
            EffectKind::Input(step) => self.backend.send_input(now, effect.id, &step),
            EffectKind::ReplayKey(back) => self.backend.replay_key(now, &back),
            EffectKind::Hint(hint) => self.show(now, effect.id, &hint),
            EffectKind::Log(text) => {
                say!("{text}");
                self.journal.keep(LogLevel::Warning, &text);
                Ok(())
            }
            EffectKind::Listen(listening) => {
                self.executor.listen_for(listening);
                Ok(())
            }
            EffectKind::Execute(deed) => self.perform_deed(now, effect.id, &deed),
            EffectKind::Cancel(effect) => {
                self.executor.abandon(effect);
                Ok(())
            }
        }
    }

    /// Shows a hint to the eye, and to who has a screen reader instead.
    fn show(&mut self, now: Time, effect: EffectId, hint: &Hint) -> Result<(), BackendError> {
        let text = hint.content.to_string();
        self.executor.announce(&text);
        if !self.backend.shows_hints() {
            let verb = CommandKind::Notify;
            let deed = Command {
                kind: verb,
                arguments: vec![text],
                value: None,
                timeout: Some(hint.duration),
            };
            // Without a notification service there is no hint.
            self.executor.attempt(EffectId(0), &deed);
        }
        self.backend.show_hint(now, effect, hint)
    }

    fn perform_deed(
        &mut self,
        now: Time,
        effect: EffectId,
        deed: &Command,
    ) -> Result<(), BackendError> {
        if self.backend.execute(now, effect, deed)? {
            return Ok(());
        }
        match self.executor.attempt(effect, deed) {
            None => {}
            Some(Ok(value)) => self.finish(now, effect, Ok(value)),
            // Told after what else was ordered with it.
            Some(Err(message)) => self.failed.push_back((effect, message)),
        }
        Ok(())
    }

    fn finish(&mut self, now: Time, effect: EffectId, result: Outcome) {
        self.engine.handle_event(now, Event::Outcome { effect, result });
    }

    /// Takes in what came back from programs and services.
    fn take_returned(&mut self) -> Result<(), Failure> {
        let now = self.now();
        let returned = self.executor.take_returned();
        if let Some(OutputLevel { share, muted }) = returned.level {
            let what = HintContent::Level { share, muted };
            let hint = Hint {
                content: what,
                place: HintPlace::BottomCenter,
                duration: LEVEL_SPAN,
                rule: None,
            };
            self.show(now, EffectId(0), &hint)?;
        }
        for (name, process) in returned.started {
            let words = format!("{}{now}{0:#} started {name}, process {process}", style::FAINT);
            self.journal.tell(LogLevel::Info, &words);
        }
        for taken in returned.owners {
            self.tell_owner(&taken);
        }
        returned.events.into_iter().for_each(|event| self.engine.handle_event(now, event));
        self.perform_effects(now)
    }
}

/// What the wall clock shows, by the system's time zone.
fn wall_time() -> WallTime {
    let now = jiff::Zoned::now();
    let offset = now.offset().seconds();
    WallTime { local: now.timestamp().as_second() + i64::from(offset), offset }
}

/// Becomes readable when the wall clock is set or the machine has slept: a timer without an end
/// that is cancelled then.
fn watch_clock() -> Result<OwnedFd, Failure> {
    let failed = |error: rustix::io::Errno| Failure::System {
        what: "cannot watch the clock",
        source: error.into(),
    };
    let flags = TimerfdFlags::CLOEXEC | TimerfdFlags::NONBLOCK;
    let timer = timerfd_create(TimerfdClockId::Realtime, flags).map_err(failed)?;
    // In the year 2255.
    let never = Timespec { tv_sec: 9_000_000_000, tv_nsec: 0 };
    let span = Itimerspec { it_interval: Timespec { tv_sec: 0, tv_nsec: 0 }, it_value: never };
    let flags = TimerfdTimerFlags::ABSTIME | TimerfdTimerFlags::CANCEL_ON_SET;
    timerfd_settime(&timer, flags, &span).map_err(failed)?;
    Ok(timer)
}

/// A seed that differs from start to start.
fn seed() -> u64 {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    since.map_or(1, |since| since.as_nanos() as u64)
}
