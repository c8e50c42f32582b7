//! Speaking, through whichever speech program the system has.

use std::process::{Command, Stdio};

use rustix::process::{Pid, PidfdFlags, Signal, pidfd_open, pidfd_send_signal};

use crate::AudioError;
use lantern_system::ChildEnvironment;
use lantern_system::StopHandle;
use lantern_system::is_program;

/// A program that speaks the text after its arguments and ends when it was said.
struct SpeechSynthesizer {
    name: &'static str,
    arguments: &'static [&'static str],
    /// What makes it silent, if ending it is not enough.
    silence: Option<&'static str>,
}

/// The best first.
const SPEAKERS: [SpeechSynthesizer; 4] = [
    SpeechSynthesizer { name: "spd-say", arguments: &["--wait", "--"], silence: Some("--cancel") },
    SpeechSynthesizer { name: "espeak-ng", arguments: &["--"], silence: None },
    SpeechSynthesizer { name: "espeak", arguments: &["--"], silence: None },
    SpeechSynthesizer { name: "flite", arguments: &["-t"], silence: None },
];

/// The speech program that is there, if any.
pub fn program() -> Option<&'static str> {
    found().map(|speaker| speaker.name)
}

fn found() -> Option<SpeechSynthesizer> {
    SPEAKERS.into_iter().find(|speaker| is_program(speaker.name))
}

/// Says the text, to its end or until it is stopped.
pub fn say(
    text: &str,
    environment: &ChildEnvironment,
    stop: &StopHandle,
) -> Result<(), AudioError> {
    let SpeechSynthesizer { name: program, arguments, silence } =
        found().ok_or(AudioError::NoSpeech)?;
    let failed = |why: String| AudioError::Speech { program, why };
    let spoken = environment
        .command(program)
        .args(arguments)
        .arg(text)
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        .spawn()
        .map_err(|error| failed(error.to_string()))?;
    let handle = pidfd_open(Pid::from_child(&spoken), PidfdFlags::empty());
    let handle = handle.map_err(|error| failed(error.to_string()))?;
    stop.by(move || {
        // One that has ended already needs no ending.
        let _ = pidfd_send_signal(&handle, Signal::KILL);
        if let Some(silence) = silence {
            let _ = Command::new(program).arg(silence).status();
        }
    });
    let ended = spoken.wait_with_output().map_err(|error| failed(error.to_string()))?;
    if stop.is_wanted() {
        return Err(AudioError::Stopped);
    }
    if ended.status.success() {
        return Ok(());
    }
    let complaint = String::from_utf8_lossy(&ended.stderr);
    Err(failed(complaint.lines().next().unwrap_or("it gave no reason").to_owned()))
}
