//! `lantern run`: work by the rules until stopped.

use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use lantern_backend::{
    Backend, BackendError, CopiedContents, Heartbeat, HeldKeyReader, HeldKeyWriter,
};
#[cfg(feature = "evdev")]
use lantern_evdev::{DeviceSelection, EvdevBackend};
use lantern_model::RuleSet;
use lantern_x11::X11Backend;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::process::{DumpableBehavior, Pid, Signal, kill_process, set_dumpable_behavior};
use serde_json::Value;

use crate::arguments::{BackendName, RunArguments};
#[cfg(feature = "wayland")]
use crate::commands::portal;
use crate::commands::status::words;
use crate::consent::{ConsentRefusal, refuse_unless_agreed};
use crate::diagnostics::{lacking_on, print_findings};
use crate::event_log::{EventLog, LogLevel};
use crate::failure::{Failure, Status};
use crate::guardian::{GuardTarget, GuardianHandle};
use crate::ipc::client::IpcClient;
use crate::ipc::server::IpcServer;
use crate::logging_backend::LoggingBackend;
use crate::output::complain;
use crate::runtime::{Claim, RuntimeFiles};
use crate::session::{Session, SessionConfig};
use crate::text::{counted, span_words};
use crate::{backends, files, service_notify, signals, style};

/// Maximum time for the session before to release everything.
const LEAVING: Duration = Duration::from_secs(5);

/// Maximum time from a signal to the end of the process.
const ENDING: Duration = Duration::from_secs(5);

/// Maximum time for a lost display to come back.
const DISPLAY_BACK: Duration = Duration::from_secs(60);
/// From one look for it to the next.
const BETWEEN_LOOKS: Duration = Duration::from_millis(250);

pub fn run(arguments: RunArguments) -> Result<Status, Failure> {
    let backend = BackendName::chosen(arguments.backend);
    #[cfg(feature = "evdev")]
    let choice = device_selection(&arguments)?;
    let path = files::rules_path(arguments.file)?;
    let rules = read(&path, *backend.as_ref().unwrap_or(&BackendName::X11))?;
    let backend = backend?;
    if backend == BackendName::X11 && !backends::is_set("DISPLAY") {
        return Err(BackendError::NoDisplay.into());
    }
    let runtime = RuntimeFiles::of_session(backend)?;
    let _claim = claim(&runtime, arguments.take_over)?;
    refuse_core_dumps(backend);
    signals::end_by_force_after(ENDING)?;
    let level = if arguments.verbose { LogLevel::Info } else { arguments.log_level };
    let journal = EventLog::open(level, arguments.log_file.as_deref())?;
    if backend == BackendName::X11 {
        work_on_x11(rules, &path, &runtime, &journal)?;
    } else {
        let called = format!("the {} back end", backend.called());
        let (path, runtime, journal) = (path.as_path(), &runtime, &journal);
        let worker = Worker { path, runtime, journal, backend, called: &called };
        match backend {
            #[cfg(feature = "evdev")]
            BackendName::Evdev => {
                let guarded = GuardianHandle::start(GuardTarget::Keyboard)?;
                worker.work_in_session(rules, EvdevBackend::open(choice)?, Some(guarded))?;
            }
            #[cfg(feature = "wayland")]
            BackendName::Portal => {
                let backend = portal::open(&rules)?;
                worker.work_in_session(rules, backend, None)?;
            }
            #[cfg(feature = "wayland")]
            BackendName::Wlroots => {
                // A program that hangs would take the keyboard with it.
                let guarded = GuardianHandle::start(GuardTarget::Keyboard)?;
                let backend = lantern_wayland::WlrootsBackend::open()?;
                worker.work_in_session(rules, backend, Some(guarded))?;
            }
            #[cfg(not(feature = "evdev"))]
            BackendName::Evdev => {
                let what = "the back end on the kernel's input";
                return Err(Failure::NotBuilt { what, feature: "evdev" });
            }
            #[cfg(not(feature = "wayland"))]
            BackendName::Portal | BackendName::Wlroots => {
                let what = "the back ends of Wayland sessions";
                return Err(Failure::NotBuilt { what, feature: "wayland" });
            }
            BackendName::X11 | BackendName::Simulated => {
                worker.work(rules, LoggingBackend::new(), None)?;
            }
        }
    }
    complain!("{}: stopped, every key is let go", path.display());
    Ok(Status::Done)
}

/// Keeps what the person typed, and secrets, out of core dumps and away from other processes of theirs.
/// The portals have to look at the process that asks them, so not there.
fn refuse_core_dumps(backend: BackendName) {
    if backend != BackendName::Portal {
        // Without it everything works all the same.
        let _ = set_dumpable_behavior(DumpableBehavior::NotDumpable);
    }
}

/// Which input devices are taken on the kernel back end.
#[cfg(feature = "evdev")]
fn device_selection(arguments: &RunArguments) -> Result<DeviceSelection, Failure> {
    let size = |written: &String| {
        let (width, height) = written.split_once('x')?;
        Some((width.parse().ok()?, height.parse().ok()?))
    };
    let screen = match &arguments.screen {
        Some(written) => Some(size(written).ok_or_else(|| Failure::WrongWords {
            message: format!("`{written}` is no size of a screen"),
            advice: "write it as 1920x1080".to_owned(),
        })?),
        None => None,
    };
    let (only, without) = (arguments.device.clone(), arguments.without_device.clone());
    Ok(DeviceSelection { only, without, screen })
}

/// Works on the display, and waits for it if it goes away.
fn work_on_x11(
    rules: RuleSet,
    path: &Path,
    runtime: &RuntimeFiles,
    journal: &EventLog,
) -> Result<(), Failure> {
    let display = std::env::var("DISPLAY").unwrap_or_default();
    let failed = |source| Failure::System { what: "cannot keep what is copied", source };
    let copied = Arc::new(CopiedContents::new().map_err(failed)?);
    let held = HeldKeyWriter::open(&runtime.held_keys())?;
    let mut list = (Arc::new(held.file()?), held.pulse());
    let mut backend = X11Backend::open(held)?;
    let mut rules = Some(rules);
    loop {
        backend.keep_copied_in(copied.try_clone().map_err(failed)?);
        let rules = match rules.take() {
            Some(rules) => rules,
            None => read(path, BackendName::X11)?,
        };
        warn_of_blindness(&rules, &backend)?;
        let charge = GuardTarget::Held(Arc::clone(&list.0), list.1.clone(), Arc::clone(&copied));
        let guarded = GuardianHandle::start(charge)?;
        let worked = Worker { path, runtime, journal, backend: BackendName::X11, called: &display }
            .work(rules, backend, Some(guarded));
        let Err(Failure::Backend(BackendError::Lost(_))) = worked else {
            return worked;
        };
        let span = DISPLAY_BACK.as_secs();
        journal.note(&format!("the display went away; it is waited for, {span} s at the most"));
        match wait_for_display(runtime)? {
            Some((back, its_list)) => (backend, list) = (back, its_list),
            None => return worked,
        }
    }
}

/// Reads the rules, and says what is to be said about them.
fn read(path: &Path, backend: BackendName) -> Result<RuleSet, Failure> {
    let mut read = files::read_rules(path)?;
    let lacking = lacking_on(backend, &read.checked.needs);
    let findings: Vec<_> = read.checked.findings.iter().cloned().chain(lacking).collect();
    print_findings(&findings, &read.source);
    let Some(rules) = read.checked.rules.take() else {
        return Err(Failure::Broken { path: read.source.name().to_owned() });
    };
    refuse_unless_agreed(&read, &rules).map_err(ConsentRefusal::print_missing)?;
    Ok(rules)
}

/// Warns of rules for one program where the window in front is unknown.
fn warn_of_blindness(rules: &RuleSet, backend: &X11Backend) -> Result<(), Failure> {
    let scoped = rules.rules.iter().any(|rule| !rule.filter.is_anywhere());
    if scoped && !backend.tells_programs()? {
        complain!(
            "{}warning{0:#}: no window manager tells which program is in front, so rules with \
             `in app` wait\n  {}help{1:#}: run a window manager that keeps _NET_ACTIVE_WINDOW",
            style::WARNING,
            style::HELP
        );
    }
    Ok(())
}

/// What every back end is worked on with.
struct Worker<'w> {
    path: &'w Path,
    runtime: &'w RuntimeFiles,
    journal: &'w EventLog,
    /// Which sort of back end it is.
    backend: BackendName,
    /// What it is called.
    called: &'w str,
}

impl Worker<'_> {
    /// The same, with what a Wayland session has besides input, if this is one.
    #[cfg(any(feature = "evdev", feature = "wayland"))]
    fn work_in_session<D: Backend>(
        self,
        rules: RuleSet,
        backend: D,
        guarded: Option<GuardianHandle>,
    ) -> Result<(), Failure> {
        #[cfg(feature = "wayland")]
        if backends::is_set("WAYLAND_DISPLAY") {
            return self.work(rules, lantern_wayland::WaylandBackend::join(backend)?, guarded);
        }
        self.work(rules, backend, guarded)
    }

    /// Works on a back end until a signal comes or the back end is gone.
    fn work<D: Backend>(
        self,
        rules: RuleSet,
        backend: D,
        guarded: Option<GuardianHandle>,
    ) -> Result<(), Failure> {
        let Worker { path, runtime, journal, backend: sort, called } = self;
        let ipc = IpcServer::open(&runtime.socket())
            .map_err(|source| Failure::Write { path: runtime.socket(), source })?;
        let place = SessionConfig {
            path: path.to_owned(),
            backend: sort,
            called: called.to_owned(),
            guarded,
            ipc,
        };
        let mut session = Session::new(rules, backend, place, journal)?;
        session.work(|rules, journal| {
            service_notify::tell("READY=1");
            let panic = &rules.settings.panic;
            let count = rules.count();
            let name = path.display();
            let active = counted(count, "rule");
            let words = format!("{active} active on {called}; {panic} stops everything");
            journal.note(&format!("{name}: {words}"));
        })
    }
}

/// What a guardian sees of a list of held keys.
type List = (Arc<HeldKeyReader>, Heartbeat);

/// The display, once it is back; nothing if it does not come, or we are asked to end.
fn wait_for_display(runtime: &RuntimeFiles) -> Result<Option<(X11Backend, List)>, Failure> {
    let signals = signals::endings()?;
    let until = Instant::now() + DISPLAY_BACK;
    while Instant::now() < until {
        let mut fds = [PollFd::new(signals, PollFlags::IN)];
        let looked = Timespec::try_from(BETWEEN_LOOKS).ok();
        if poll(&mut fds, looked.as_ref()).is_ok_and(|ready| ready > 0) {
            break;
        }
        // Keys that were down went with the display.
        let held = HeldKeyWriter::open(&runtime.held_keys())?;
        let list = (Arc::new(held.file()?), held.pulse());
        if let Ok(backend) = X11Backend::open(held) {
            return Ok(Some((backend, list)));
        }
    }
    Ok(None)
}

/// Claims the display; from the one that has it already, if that is wanted.
fn claim(runtime: &RuntimeFiles, take_over: bool) -> Result<Claim, Failure> {
    let process = match runtime.claim()? {
        Ok(claim) => return Ok(claim),
        Err(process) => process,
    };
    let reached = IpcClient::reach();
    if !take_over {
        return Err(Failure::RunsAlready { who: who_runs(reached, process) });
    }
    // One that cannot be spoken to, or speaks otherwise, is ended as by a person.
    let asked = reached.and_then(|mut client| client.ask("leave", &Value::Null));
    if asked.is_err()
        && let Some(process) = process.and_then(|p| Pid::from_raw(p.try_into().ok()?))
    {
        // It may have ended meanwhile.
        let _ = kill_process(process, Signal::TERM);
    }
    let until = Instant::now() + LEAVING;
    loop {
        match runtime.claim()? {
            Ok(claim) => return Ok(claim),
            Err(process) if Instant::now() > until => {
                let who = process.map_or_else(String::new, |process| format!(" {process}"));
                let who = format!("process{who} does not end, and works");
                return Err(Failure::RunsAlready { who });
            }
            Err(_) => std::thread::sleep(Duration::from_millis(20)),
        }
    }
}

/// Which file runs, as which process and since when.
fn who_runs(reached: Result<IpcClient, Failure>, process: Option<u32>) -> String {
    let status = reached.and_then(|mut client| client.ask("status", &Value::Null));
    let process = process.map_or_else(String::new, |process| format!(", process {process},"));
    match status {
        Ok(told) => {
            let since = span_words(told["seconds"].as_f64().unwrap_or(0.0));
            format!("{} has run for {since}{process}", words(&told["file"]))
        }
        Err(_) => format!("lantern{process} works"),
    }
}
