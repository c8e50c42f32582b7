//! `lantern run`: work by the rules until stopped.

use std::os::linux::net::SocketAddrExt;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::net::{SocketAddr, UnixDatagram};
use std::time::{Duration, Instant};

use lantern_desk::{HeldKeys, X11Desk};
use lantern_model::RuleSet;
use lantern_script::Source;
use rustix::process::{Pid, Signal, kill_process};
use serde_json::Value;

use crate::agreement::{Agreement, power_words};
use crate::arguments::RunArguments;
use crate::commands::status::words;
use crate::failure::{Failure, Status};
use crate::findings::{lacking_on_x11, print_findings};
use crate::guardian::Guarded;
use crate::resident::client::Resident;
use crate::runtime::{Claim, RuntimeFiles};
use crate::session::Session;
use crate::style::complain;
use crate::wording::span_words;
use crate::{files, style};

/// So long the one before may take to let go of everything.
const LEAVING: Duration = Duration::from_secs(5);

pub fn run(arguments: RunArguments) -> Result<Status, Failure> {
    let path = files::rules_path(arguments.file)?;
    let (source, checked) = files::read_rules(&path)?;
    let lacking = lacking_on_x11(&checked.needs);
    let findings: Vec<_> = checked.findings.iter().cloned().chain(lacking).collect();
    print_findings(&findings, &source);
    let Some(rules) = checked.rules else {
        return Err(Failure::Broken { path: source.name().to_owned() });
    };
    refuse_unless_agreed(&source, &rules)?;
    let display = std::env::var("DISPLAY").unwrap_or_default();
    if display.is_empty() {
        return Err(lantern_desk::DeskError::NoDisplay.into());
    }
    let runtime = RuntimeFiles::for_display()?;
    let _claim = claim(&runtime, arguments.take_over)?;
    let held = HeldKeys::open(&runtime.held_keys())?;
    let desk = X11Desk::open(held)?;
    let guarded = Guarded::start(&runtime.held_keys())?;
    let scoped = rules.rules.iter().any(|rule| !rule.scope.is_anywhere());
    if scoped && !desk.tells_programs()? {
        complain!(
            "{}warning{0:#}: no window manager tells which program is in front, so rules with \
             `in app` wait\n  {}help{1:#}: run a window manager that keeps _NET_ACTIVE_WINDOW",
            style::WARNING,
            style::HELP
        );
    }
    let mut session = Session::new(rules, desk, path.clone(), guarded, arguments.verbose)?;
    session.open_door(&runtime.socket())?;
    session.work(|rules| {
        tell_ready();
        let panic = &rules.settings.panic;
        let count = rules.count();
        let name = path.display();
        complain!("{name}: {count} rules at work on {display}; {panic} stops everything");
    })?;
    complain!("{}: stopped, every key is let go", path.display());
    Ok(Status::Done)
}

/// Tells who started us, if it wants to know, that we are at work (the notify socket of service
/// managers).
fn tell_ready() {
    let Some(path) = std::env::var_os("NOTIFY_SOCKET") else { return };
    // A manager that does not listen any more needs no telling.
    if let Ok(socket) = UnixDatagram::unbound() {
        let bytes = path.as_bytes();
        let _ = match bytes.strip_prefix(b"@") {
            Some(name) => SocketAddr::from_abstract_name(name)
                .and_then(|address| socket.send_to_addr(b"READY=1", &address)),
            None => socket.send_to(b"READY=1", &path),
        };
    }
}

/// Claims the display; from the one that has it already, if that is wanted.
fn claim(runtime: &RuntimeFiles, take_over: bool) -> Result<Claim, Failure> {
    let process = match runtime.claim()? {
        Ok(claim) => return Ok(claim),
        Err(process) => process,
    };
    let reached = Resident::reach();
    if !take_over {
        return Err(Failure::RunsAlready { who: who_runs(reached, process) });
    }
    // One that cannot be spoken to, or speaks otherwise, is ended as by a person.
    let asked = reached.and_then(|mut resident| resident.ask("leave", &Value::Null));
    if asked.is_err()
        && let Some(process) = process.and_then(|p| Pid::from_raw(p.try_into().ok()?))
    {
        // If it is gone by now, so much the better.
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
fn who_runs(reached: Result<Resident, Failure>, process: Option<u32>) -> String {
    let status = reached.and_then(|mut resident| resident.ask("status", &Value::Null));
    let process = process.map_or_else(String::new, |process| format!(", process {process},"));
    match status {
        Ok(told) => {
            let since = span_words(told["seconds"].as_f64().unwrap_or(0.0));
            format!("{} has run for {since}{process}", words(&told["file"]))
        }
        Err(_) => format!("lantern{process} works"),
    }
}

/// Whatever used files can do must have been agreed to; the first file is the person's own, and
/// nobody else may write any of them.
pub fn refuse_unless_agreed(source: &Source, rules: &RuleSet) -> Result<(), Failure> {
    files::refuse_if_others_may_write(source)?;
    let agreement = Agreement::read();
    let missing = agreement.missing(source, rules);
    if missing.is_empty() {
        return Ok(());
    }
    for (file, power) in &missing {
        complain!("{}{file}{0:#} {}", style::WARNING, power_words(power));
    }
    Err(Failure::NotAgreed { path: source.name().to_owned() })
}
