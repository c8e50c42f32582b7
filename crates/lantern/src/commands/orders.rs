//! Orders to the one that runs: `fire`, `stop`, `pause`, `resume`, `end`, `reload`, `quit`.

use std::io;
use std::time::Duration;

use lantern_backend::HeldKeyReader;
use lantern_model::Value as Given;
use serde_json::{Value, json};

use crate::arguments::{
    BackendName, EndArguments, FireArguments, PauseArguments, ResumeArguments, StopArguments,
};
use crate::escaping::shown;
use crate::failure::{Failure, Status};
use crate::ipc::client::IpcClient;
use crate::output::say;
use crate::runtime::RuntimeFiles;
use crate::text::counted;

pub fn fire(arguments: &FireArguments) -> Result<Status, Failure> {
    let params = json!({ "name": arguments.name, "values": arguments.values });
    IpcClient::reach()?.ask("fire", &params)?;
    Ok(Status::Done)
}

pub fn stop(arguments: &StopArguments) -> Result<Status, Failure> {
    let params = match (&arguments.name, arguments.run) {
        (Some(name), _) => json!({ "name": name }),
        (None, Some(run)) => json!({ "run": run }),
        (None, None) => json!({}),
    };
    let mut client = match IpcClient::reach() {
        Ok(client) => client,
        Err(Failure::NobodyRuns { .. }) if arguments.all => return let_go(),
        Err(failure) => return Err(failure),
    };
    let stopped = client.ask("stop", &params)?;
    let count = stopped["stopped"].as_u64().unwrap_or(0);
    say!("{}", if count == 1 { "1 run ended".to_owned() } else { format!("{count} runs ended") });
    Ok(if count == 0 && !arguments.all { Status::Found } else { Status::Done })
}

/// Nothing runs, but what it pressed may still be down.
fn let_go() -> Result<Status, Failure> {
    let held = RuntimeFiles::of_session(BackendName::X11)?.held_keys();
    match HeldKeyReader::open(&held) {
        Ok(file) => lantern_x11::release_held(None, &file)?,
        // Without a list nothing was held.
        Err(error) if error.kind() == io::ErrorKind::NotFound => {}
        Err(source) => return Err(Failure::Read { path: held, source }),
    }
    say!("nothing runs; what was listed as held is let go");
    Ok(Status::Done)
}

/// A length of time, as a rule writes it.
pub fn read_span(span: &str) -> Result<Duration, Failure> {
    match lantern_script::parse_value(span) {
        Some(Given::Duration(span)) => Ok(span),
        _ => Err(Failure::WrongWords {
            message: format!("`{span}` is no length of time"),
            advice: "write it as in a rule: 90s, 20min, 1h".to_owned(),
        }),
    }
}

pub fn pause(arguments: &PauseArguments) -> Result<Status, Failure> {
    let span = arguments.span.as_deref().map(read_span).transpose()?;
    let seconds = span.map(|span| span.as_secs_f64());
    IpcClient::reach()?.ask("pause", &json!({ "name": arguments.name, "seconds": seconds }))?;
    let what = arguments.name.as_deref().unwrap_or("everything");
    let until = arguments.span.as_ref().map_or_else(String::new, |span| format!(" for {span}"));
    let name = arguments.name.as_ref().map_or_else(String::new, |name| format!(" {name}"));
    say!("{what} is paused{until}; `lantern resume{name}` continues");
    Ok(Status::Done)
}

pub fn resume(arguments: &ResumeArguments) -> Result<Status, Failure> {
    IpcClient::reach()?.ask("resume", &json!({ "name": arguments.name }))?;
    say!("{} goes on", arguments.name.as_deref().unwrap_or("everything"));
    Ok(Status::Done)
}

pub fn end(arguments: &EndArguments) -> Result<Status, Failure> {
    IpcClient::reach()?.ask("end", &json!({ "process": arguments.process }))?;
    say!("process {} is asked to end", arguments.process);
    Ok(Status::Done)
}

/// Ends the one that runs, and waits until it has ended.
pub fn quit() -> Result<Status, Failure> {
    let mut client = IpcClient::reach()?;
    let file = client.ask("status", &Value::Null)?["file"].as_str().unwrap_or_default().to_owned();
    client.ask("leave", &Value::Null)?;
    client.wait_for_end()?;
    say!("{} has ended; its keys are released", shown(&file));
    Ok(Status::Done)
}

pub fn reload() -> Result<Status, Failure> {
    let read = IpcClient::reach()?.ask_patiently("reload", &Value::Null)?;
    let file = read["file"].as_str().unwrap_or_default();
    let count = read["rules"].as_u64().unwrap_or_default() as usize;
    say!("{file} reloaded: {}", counted(count, "rule"));
    Ok(Status::Done)
}
