//! `lantern voice`: what is heard, and how sure.

mod alike;
mod hear;
mod teach;
mod trial;
mod wrong;

use crate::arguments::VoiceCommand;
use crate::failure::{Failure, Status};

pub fn run(command: VoiceCommand) -> Result<Status, Failure> {
    match command {
        VoiceCommand::Hear(arguments) => hear::run(&arguments),
        VoiceCommand::Try(arguments) => trial::run(&arguments),
        VoiceCommand::Teach(arguments) => teach::run(&arguments),
        VoiceCommand::Wrong(arguments) => wrong::run(&arguments),
        VoiceCommand::Alike(arguments) => alike::run(arguments),
    }
}
