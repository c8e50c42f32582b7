//! `lantern voice`: what is recognised, and how sure that is.

#[cfg(feature = "audio")]
mod alike;
#[cfg(feature = "audio")]
mod hear;
#[cfg(feature = "audio")]
mod teach;
#[cfg(feature = "audio")]
mod trial;
#[cfg(feature = "audio")]
mod wrong;

use crate::arguments::VoiceCommand;
use crate::failure::{Failure, Status};

#[cfg(feature = "audio")]
pub fn run(command: VoiceCommand) -> Result<Status, Failure> {
    match command {
        VoiceCommand::Hear(arguments) => hear::run(&arguments),
        VoiceCommand::Try(arguments) => trial::run(&arguments),
        VoiceCommand::Teach(arguments) => teach::run(&arguments),
        VoiceCommand::Wrong(arguments) => wrong::run(&arguments),
        VoiceCommand::Alike(arguments) => alike::run(arguments),
    }
}

/// Says that the program was built without speech.
#[cfg(not(feature = "audio"))]
pub fn run(_: VoiceCommand) -> Result<Status, Failure> {
    Err(Failure::NotBuilt { what: "speech", feature: "audio" })
}
