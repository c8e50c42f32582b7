//! Events: what back ends and services report to the engine.

use std::time::Duration;

use crate::{
    CommandResult, ConnectionState, EffectId, HeldModifiers, Key, KeyGrab, Layout, MicrophoneState,
    Point, WallTime,
};

/// A part of a screen, in its pixels.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Rect {
    /// Its left edge.
    pub x: i32,
    /// Its upper edge.
    pub y: i32,
    /// How wide it is.
    pub width: i32,
    /// How high it is.
    pub height: i32,
}

impl Rect {
    /// Whether a pixel lies in it.
    pub fn contains(&self, (x, y): (i32, i32)) -> bool {
        (self.x..self.x + self.width).contains(&x) && (self.y..self.y + self.height).contains(&y)
    }
}

/// The program in front.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct App {
    /// The window's number on its back end, 0 for none.
    pub window: u64,
    /// Names of the program in lower case: entry id, window class, executable.
    pub names: Vec<String>,
    /// The window's title.
    pub title: String,
    /// The program's process, if known.
    pub process: Option<u32>,
    /// Position and size of the window, if known.
    pub bounds: Option<Rect>,
}

impl App {
    /// The name to show for it.
    pub fn name(&self) -> &str {
        self.names.first().map_or("nothing", String::as_str)
    }

    /// Whether it is known by that name, in lower case.
    pub fn is_named(&self, name: &str) -> bool {
        self.names.iter().any(|known| known == name)
    }
}

/// Why a grab was refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Refusal {
    /// Another program has grabbed the key.
    HeldByOther,
    /// The keyboard has no such key.
    NotOnKeyboard,
    /// The desktop, asked for the combination, did not grant it.
    NotGranted,
}

/// Something that happened, or the outcome of an effect.
#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// A grabbed key went down; the program in front did not receive it.
    Pressed {
        /// The key of the keyboard.
        key: Key,
        /// The modifier keys the person held. Unless a grab is side-specific, the left key stands for
        /// either side.
        modifiers: HeldModifiers,
    },
    /// A grabbed key whose release is reported went up.
    Released {
        /// The key of the keyboard.
        key: Key,
    },
    /// The person pressed or released a key, grabbed or not; only if [`crate::GrabSet::raw_keys`]. Comes
    /// before the press it belongs to.
    RawKey {
        /// The key of the keyboard.
        key: Key,
        /// Whether it went down.
        down: bool,
    },
    /// Name of the input device that the next keys come from; only if
    /// [`crate::GrabSet::source_devices`].
    ActiveDevice(String),
    /// The process whose password field has the keyboard focus; none if no such field is known.
    PasswordField(Option<u32>),
    /// Whether an input method is active, which may compose other characters from typed ones.
    InputMethod(bool),
    /// The person typed a character into the program in front. `None`: the text before the cursor is
    /// no longer what was typed. Only if [`crate::GrabSet::text_input`].
    TextInput(Option<char>),
    /// Position of the pointer; only if [`crate::GrabSet::pointer_position`].
    Pointer(i32, i32),
    /// The screens, the first one first, at the start and when they change.
    Screens(Vec<Rect>),
    /// Another window came to the front, or the one in front has another title.
    Focus(App),
    /// A window opened.
    WindowOpened(App),
    /// The keyboard's layout, at the start and when it changes.
    Layout(Layout),
    /// Whether the screen is locked or the session not the active one.
    Locked(bool),
    /// The wall clock, at the start and after each jump.
    WallClock(WallTime),
    /// The session has started: the state of the desktop is known.
    Started,
    /// An active phrase was recognised.
    Heard {
        /// Its words.
        words: String,
        /// Confidence, from 0 to 1.
        score: f64,
        /// Time since its beginning.
        began: Duration,
    },
    /// Speech that is no active phrase.
    Misheard {
        /// The best match; empty for none.
        words: String,
        /// Confidence of that match, from 0 to 1.
        score: f64,
        /// Why it was rejected.
        why: String,
    },
    /// The microphone was opened or closed, or cannot be opened.
    MicrophoneState(MicrophoneState),
    /// Positions of the pointer since the last such event, while a gesture may be drawn; only if
    /// [`crate::GrabSet::pointer_path`]. The first after a press is the position of the press.
    PointerPath(Vec<Point>),
    /// A scene reports a gesture that was drawn with a key or button held.
    Gesture {
        /// The shape's name.
        shape: String,
        /// What was held.
        key: Key,
        /// Where it was drawn.
        bounds: Rect,
        /// Likeness to the shape, from 0 to 1.
        score: f64,
    },
    /// A device was connected or disconnected.
    ConnectionState {
        /// The device's name in the file.
        device: String,
        /// How it stands with it.
        state: ConnectionState,
    },
    /// Bytes came from a device, in whatever pieces.
    Bytes {
        /// The device's name in the file.
        device: String,
        /// The bytes.
        bytes: Vec<u8>,
    },
    /// A message came from a broker.
    Message {
        /// The broker's name in the file.
        device: String,
        /// Its topic.
        topic: String,
        /// Its text.
        text: String,
    },
    /// An HTTP request to a listener.
    Call {
        /// The number by which it is answered; 0 if the caller does not wait.
        call: u64,
        /// The listener's name in the file.
        device: String,
        /// Name of the caller in the listener's list; empty for a listener without tokens.
        caller: String,
        /// The path that was called.
        path: String,
        /// What was sent along.
        text: String,
    },
    /// Grabs that the server refused, each with the reason.
    GrabsRefused(Vec<(KeyGrab, Refusal)>),
    /// Grabs that another program held and released; they are in force now.
    GrabsFreed(Vec<KeyGrab>),
    /// An effect has been carried out, perhaps with a value, or has failed.
    Outcome {
        /// Which effect.
        effect: EffectId,
        /// The value, or the reason of the failure.
        result: CommandResult,
    },
}
