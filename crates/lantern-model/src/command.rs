//! What a rule asks of programs, devices and the person: a verb, its words, and what it takes.

use std::time::Duration;

use crate::{DeviceId, EffectId, Value};

/// What is to be done. What the words of a deed mean stands with each.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CommandKind {
    /// Start a desktop entry or program and let it be. Words: its name. Gives its process id.
    Launch,
    /// Start a program and wait for its end. Words: it and its arguments. Gives what it printed.
    Run,
    /// Give a line to the shell and wait for its end. Words: the line. Gives what it printed.
    Shell,
    /// Open an address or file with the program for it. Words: it.
    Open,
    /// End what was launched under that name.
    End(String),
    /// End the program that this effect started.
    EndStarted(EffectId),
    /// Bring a program to the front. Words: its name.
    Focus,
    /// Bring this window to the front.
    FocusWindow(u64),
    /// Close a program's window. Words: its name.
    Close,
    /// Choose an entry of the program's menus. Words: the titles on the way.
    ChooseMenuEntry,
    /// Number what can be pressed in the window in front, for the person to pick one. Words: none, or
    /// the number to pick of those that are shown.
    Tally,
    /// Put a text into the program in front by the clipboard, which keeps what it held. Words: it.
    Paste,
    /// What text the clipboard holds.
    ReadClipboard,
    /// Which input method would make something else of what is typed now. Gives its name; nothing if none
    /// would.
    QueryInputMethod,
    /// Show a notice. Words: its text.
    Notify,
    /// Say a text aloud. Words: it.
    Say,
    /// Play a sound. Words: its file, or several to choose from.
    Play,
    /// Change how loud it is, by or to the share in `value`.
    Volume(VolumeChange),
    /// Ask the person for a text. Words: the question.
    Ask,
    /// Ask the person for yes or no. Words: the question.
    Confirm,
    /// Let the person pick one of the list in `value`. Words: the question.
    Pick,
    /// Send a text to a device. Words: it.
    Send(DeviceId),
    /// Publish a message. Words: topic and text.
    Publish {
        /// The broker.
        broker: DeviceId,
        /// Whether the broker keeps it for who comes later.
        retained: bool,
    },
    /// Read from a web device. Words: the path. Gives what it answered.
    Get(DeviceId),
    /// Write to a web device. Words: the path; `value` is the body.
    Put(DeviceId),
    /// Send to a web device. Words: the path; `value` is the body.
    Post(DeviceId),
}

impl CommandKind {
    /// The step's words in a file.
    pub const fn keyword(&self) -> &'static str {
        match self {
            CommandKind::Launch => "launch",
            CommandKind::Run => "run",
            CommandKind::Shell => "shell",
            CommandKind::Open => "open",
            CommandKind::End(_) | CommandKind::EndStarted(_) => "end",
            CommandKind::Focus | CommandKind::FocusWindow(_) => "focus",
            CommandKind::Close => "close",
            CommandKind::ChooseMenuEntry => "choose",
            CommandKind::Tally => "tally",
            CommandKind::Paste => "paste",
            CommandKind::ReadClipboard => "read clipboard",
            CommandKind::QueryInputMethod => "type",
            CommandKind::Notify => "notify",
            CommandKind::Say => "say",
            CommandKind::Play => "play",
            CommandKind::Volume(_) => "volume",
            CommandKind::Ask => "ask",
            CommandKind::Confirm => "confirm",
            CommandKind::Pick => "pick",
            CommandKind::Send(_) => "send",
            CommandKind::Publish { .. } => "publish",
            CommandKind::Get(_) => "get",
            CommandKind::Put(_) => "put",
            CommandKind::Post(_) => "post",
        }
    }

    /// Whether it acts on the program in front, as a key does.
    pub const fn is_input(&self) -> bool {
        matches!(self, CommandKind::Paste | CommandKind::ChooseMenuEntry)
    }
}

/// How the volume changes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum VolumeChange {
    /// Louder by a share.
    Up,
    /// Softer by a share.
    Down,
    /// To a share.
    Set,
    /// Silent.
    Mute,
    /// No longer silent.
    Unmute,
    /// Silent if it was not.
    ToggleMute,
}

impl VolumeChange {
    /// The change's words in a file.
    pub const fn words(self) -> &'static str {
        match self {
            VolumeChange::Up => "up",
            VolumeChange::Down => "down",
            VolumeChange::Set => "set",
            VolumeChange::Mute => "mute",
            VolumeChange::Unmute => "unmute",
            VolumeChange::ToggleMute => "toggle mute",
        }
    }
}

/// A verb with everything it takes. It has an outcome.
#[derive(Debug, Clone, PartialEq)]
pub struct Command {
    /// What is to be done.
    pub kind: CommandKind,
    /// What the verb's words are.
    pub arguments: Vec<String>,
    /// What else it takes.
    pub value: Option<Value>,
    /// The longest it may take.
    pub timeout: Option<Duration>,
}

/// How loud the output is.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct OutputLevel {
    /// From 0 to 1; a server may allow more.
    pub share: f64,
    /// Whether nothing is heard all the same.
    pub muted: bool,
}
