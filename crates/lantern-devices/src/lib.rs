//! Services for rules besides the back end: programs, sound, speech, notifications, menus, devices.
//!
//! Owns the starting of programs and the conversations with the sound server, the notification service, the accessibility bus and
//! the speech programs. Each runs on a thread of its own, started when it is first needed, so that
//! none of them ever holds up a key; what becomes of an order comes back through [`Services`]. Decides
//! nothing. The program's event loop is the only caller.

mod accessibility;
mod bus;
mod child_environment;
mod connections;
mod error;
mod event_queue;
mod folders;
mod http_server;
mod input_methods;
mod notifications;
mod panics;
mod playing;
mod programs;
mod rate_limit;
mod services;
mod session_lock;
mod shortcuts;
mod simulators;
mod sockets;
mod sound;
mod sound_file;
mod speech;
mod speech_recognition;

pub use accessibility::{Front, NumberedElements, is_there as accessibility_is_there};
pub use child_environment::ChildEnvironment;
pub use connections::{
    CallAnswer, CalledRule, ConfiguredDevice, LinkError, Port, ports, read_port,
};
pub use error::ServiceError;
pub use folders::{home_folder, open_regular, read_regular, read_regular_text, write_private};
pub use input_methods::InputMethods;
pub use notifications::service_name as notice_service;
pub use programs::{
    LaunchError, Launcher, StartRequest, find as find_program, handler as find_handler,
};
pub use services::{JobResult, ServiceReport, Services};
pub use shortcuts::{Change, Shortcut, shortcuts};
pub use simulators::{Pedals, serve_fans};
pub use sound::{OutputLevel, SoundServer};
pub use speech::program as speech_program;
pub use speech_recognition::{
    AudioSource, HearingEvent, LastUtterance, Recognizer, UtteranceResult, read_taught,
    taught_path, write_taught,
};
