//! The event loop. It sleeps until the back end, a timer, a signal, a saved file or the end of a
//! started program wakes it. It hands events to the engine and carries out the effects that the engine
//! returns.

use std::collections::VecDeque;
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::time::Duration;

use crate::arguments::BackendName;
use crate::command_executor::CommandExecutor;
use crate::event_log::{EventLog, LogLevel};
use crate::failure::Failure;
use crate::guardian::GuardianHandle;
use crate::ipc::protocol;
use crate::ipc::server::IpcServer;
use crate::output::say;
use crate::service_notify::WatchdogNotifier;
use crate::{signals, style};
use lantern_backend::{Backend, BackendError};
use lantern_engine::{Engine, StopCause};
use lantern_model::OutputLevel;
use lantern_model::{
    Command, CommandError, CommandKind, CommandResult, Effect, EffectId, EffectKind, Event, Hint,
    HintContent, HintPlace, RuleSet, Time,
};
use serde_json::json;

/// Maximum time to wait at start-up for all grabs to be installed.
const ARMING: Duration = Duration::from_secs(3);

/// Maximum time for which events are processed before signals, files and the socket are checked
/// again.
const FAIR_SHARE: Duration = Duration::from_millis(8);

/// How long it is shown how loud it is.
const LEVEL_SPAN: Duration = Duration::from_millis(1500);

mod background;
#[cfg(feature = "net")]
mod calls;
mod clock;
mod device_events;
mod file_watcher;
mod notices;
mod pauses;
mod poll_sources;
mod reloading;
mod reporter;
mod request_handlers;
mod requests;
mod rule_files;
mod status;

use clock::SessionClock;
use notices::DecisionNotices;
use pauses::TimedPauses;
use poll_sources::ReadySources;
use reporter::Reporter;
use rule_files::RuleFiles;

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
    files: RuleFiles,
    clock: SessionClock,
    pauses: TimedPauses,
    reporter: Reporter<'j>,
    notices: DecisionNotices,
    heartbeat: WatchdogNotifier,
    signals: &'static UnixStream,
    /// Whether we were asked to leave.
    is_leaving: bool,
    /// Commands that failed at once, reported after what was requested with them.
    failed: VecDeque<(EffectId, CommandError)>,
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
        let signals = signals::endings()?;
        let mut executor = CommandExecutor::new().map_err(failed)?;
        executor.watch_presence();
        executor.set_devices(&rules).map_err(failed)?;
        if rules.needs_password_field() {
            executor.watch_typing();
        }
        Ok(Session {
            files: RuleFiles::watch(place.path.clone(), place.backend, &rules)?,
            clock: SessionClock::start(rules.reads_clock()),
            engine: Engine::new(rules, seed()),
            backend,
            executor,
            place,
            pauses: TimedPauses::default(),
            reporter: Reporter::new(journal),
            notices: DecisionNotices::default(),
            heartbeat: WatchdogNotifier::wanted(),
            signals,
            is_leaving: false,
            failed: VecDeque::new(),
        })
    }

    fn now(&self) -> Time {
        self.clock.now()
    }

    /// Works until a signal ends it. `ready` is called once, when all grabs are installed.
    pub fn work(&mut self, ready: impl FnOnce(&RuleSet, &EventLog)) -> Result<(), Failure> {
        // On a slow machine more than one share of time passes before all grabs are installed.
        let until = self.now() + ARMING;
        while !self.process_events()? && self.now() < until {}
        self.update_clock()?;
        let now = self.now();
        self.engine.handle_event(now, Event::Started);
        self.perform_effects(now)?;
        ready(self.engine.rules(), self.reporter.journal());
        self.work_on()?;
        let now = self.now();
        self.engine.stop_everything(now, StopCause::SessionEnd);
        self.perform_effects(now)
    }

    /// Tells the engine what the wall clock shows, if it does not know.
    fn update_clock(&mut self) -> Result<(), Failure> {
        if let Some((now, wall)) = self.clock.update_wall()? {
            self.engine.handle_event(now, Event::WallClock(wall));
            self.perform_effects(now)?;
        }
        Ok(())
    }

    /// Works until a signal comes. What the person did comes before all else that woke it.
    fn work_on(&mut self) -> Result<(), Failure> {
        let mut woken = ReadySources::default();
        loop {
            self.update_clock()?;
            let quiet = self.process_events()?;
            let tended = self.dispatch(&woken)?;
            if woken.signal || self.is_leaving {
                return Ok(());
            }
            self.notify_watchers();
            woken = self.wait(quiet && !tended)?;
        }
    }

    /// Sees to everything but the back end; whether the engine may have more to do after it.
    fn dispatch(&mut self, woken: &ReadySources) -> Result<bool, Failure> {
        let mut tended = woken.saved || woken.returned;
        if let (true, Some(guarded)) = (woken.unguarded, &mut self.place.guarded) {
            guarded.renew()?;
            self.reporter.journal().tell(
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
        if woken.saved || self.files.is_pending() {
            self.files.look(now);
        }
        if self.files.is_reading() {
            self.finish_reading()?;
            tended |= !self.files.is_reading();
        }
        self.files.read_if_due(now);
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
                self.reporter.report_event(now, &event);
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
                if let Some(event) = self.executor.next_device_event() {
                    self.handle_device_event(now, event);
                    self.perform_effects(now)?;
                    quiet = false;
                }
                quiet &= !self.answer_next()?;
            }
            if quiet {
                self.report_decisions();
                return Ok(true);
            }
            now = self.now();
        }
        self.report_decisions();
        Ok(false)
    }

    /// Reports the decisions since the last call on the terminal, in the log and as notices.
    fn report_decisions(&mut self) {
        self.reporter.report_decisions(&self.engine);
        let notices = self.notices.take(&self.engine);
        for text in notices.texts {
            self.notify(text);
        }
        // The panic combination pauses without an end, and held for a while it resumes.
        if notices.is_panic || !self.engine.paused().1 {
            self.pauses.forget_all_rules();
        }
    }

    /// Shows a notice of the desktop. Without a notification service the terminal has the message.
    fn notify(&mut self, text: String) {
        let (kind, arguments) = (CommandKind::Notify, vec![text]);
        let command = Command { kind, arguments, value: None, timeout: None };
        self.executor.attempt(EffectId(0), &command);
    }

    /// Hands an event of a device to the engine.
    fn handle_device_event(&mut self, now: Time, event: Event) {
        match &event {
            #[cfg(feature = "net")]
            Event::Call { call, .. } => {
                let call = *call;
                let answer = calls::handle_call(&mut self.engine, now, event);
                return self.executor.answer_call(call, answer);
            }
            Event::Bytes { device, bytes } => self.show_bytes(device, bytes),
            _ => {}
        }
        self.engine.handle_event(now, event);
    }

    /// Sends the bytes of a device to the clients that watch it.
    fn show_bytes(&mut self, device: &str, bytes: &[u8]) {
        let watchers = self.place.ipc.device_watchers(device);
        if watchers.is_empty() {
            return;
        }
        let params = json!({ "device": device, "bytes": bytes });
        let line = protocol::request(None, "came", &params);
        for client in watchers {
            self.place.ipc.send(client, &line);
        }
    }

    fn perform_effects(&mut self, now: Time) -> Result<(), Failure> {
        loop {
            while let Some(effect) = self.engine.poll_effect() {
                self.perform(now, effect)?;
            }
            let Some((effect, error)) = self.failed.pop_front() else {
                return Ok(());
            };
            self.engine.handle_event(now, Event::Outcome { effect, result: Err(error) });
        }
    }

    fn perform(&mut self, now: Time, effect: Effect) -> Result<(), BackendError> {
        match effect.kind {
            EffectKind::SetGrabs(grabs) => {
                self.reporter.report_grabs(grabs.keys.len());
                self.backend.set_grabs(grabs)
            }
            EffectKind::Input(step) => self.backend.send_input(now, effect.id, &step),
            EffectKind::ReplayKey(back) => self.backend.replay_key(now, &back),
            EffectKind::Hint(hint) => self.show(now, effect.id, &hint),
            EffectKind::Log(text) => {
                say!("{text}");
                self.reporter.journal().keep(LogLevel::Warning, &text);
                Ok(())
            }
            EffectKind::Listen(listening) => {
                self.executor.listen_for(listening);
                Ok(())
            }
            EffectKind::Execute(command) => self.perform_command(now, effect.id, &command),
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
            let command = Command {
                kind: verb,
                arguments: vec![text],
                value: None,
                timeout: Some(hint.duration),
            };
            // Without a notification service there is no hint.
            self.executor.attempt(EffectId(0), &command);
        }
        self.backend.show_hint(now, effect, hint)
    }

    fn perform_command(
        &mut self,
        now: Time,
        effect: EffectId,
        command: &Command,
    ) -> Result<(), BackendError> {
        if self.backend.execute(now, effect, command)? {
            return Ok(());
        }
        match self.executor.attempt(effect, command) {
            None => {}
            Some(Ok(value)) => self.finish(now, effect, Ok(value)),
            // Told after what else was ordered with it.
            Some(Err(error)) => self.failed.push_back((effect, error)),
        }
        Ok(())
    }

    fn finish(&mut self, now: Time, effect: EffectId, result: CommandResult) {
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
            self.reporter.journal().tell(LogLevel::Info, &words);
        }
        for taken in returned.owners {
            self.reporter.report_owner(now, &taken);
        }
        returned.events.into_iter().for_each(|event| self.engine.handle_event(now, event));
        self.perform_effects(now)
    }
}

/// A seed that differs from start to start.
fn seed() -> u64 {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    since.map_or(1, |since| since.as_nanos() as u64)
}
