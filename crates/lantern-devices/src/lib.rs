//! What rules ask of the machine besides its desk: programs, sound, speech, notices, menus, devices.
//!
//! Owns the starting of programs and the conversations with the sound server, the notification service, the accessibility bus and
//! the speech programs. Each runs on a thread of its own, started when it is first needed, so that
//! none of them ever holds up a key; what becomes of an order comes back through [`Services`]. Decides
//! nothing. The program's event loop is the only caller.

mod allowance;
mod bus;
mod caught;
mod children;
mod ears;
mod elements;
mod error;
mod folders;
mod http_server;
mod links;
mod methods;
mod news;
mod notices;
mod playing;
mod presence;
mod programs;
mod services;
mod shortcuts;
mod sockets;
mod sound;
mod sound_file;
mod speech;
mod standins;

pub use children::ChildEnvironment;
pub use ears::{
    AudioSource, HearingEvent, LastUtterance, Recognizer, UtteranceResult, read_taught,
    taught_path, write_taught,
};
pub use elements::{Front, NumberedElements, is_there as accessibility_is_there};
pub use error::ServiceError;
pub use folders::{home_folder, open_regular, read_regular, read_regular_text, write_private};
pub use links::{CallAnswer, CalledRule, ConfiguredDevice, LinkError, Port, ports, read_port};
pub use methods::InputMethods;
pub use notices::service_name as notice_service;
pub use programs::{
    LaunchError, Launcher, StartRequest, find as find_program, handler as find_handler,
};
pub use services::{JobResult, ServiceReport, Services};
pub use shortcuts::{Change, Shortcut, shortcuts};
pub use sound::{OutputLevel, SoundServer};
pub use speech::program as speech_program;
pub use standins::{Pedals, serve_fans};
