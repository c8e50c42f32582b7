//! What a desk, an ear or a device reports to the engine.

use std::time::Duration;

use crate::{
    ConnectionState, EffectId, HeldModifiers, Key, KeyGrab, Layout, MicrophoneState, Point, Value,
    WallTime,
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
    /// The window's number on its desk, 0 for none.
    pub window: u64,
    /// What the program is known by, in lower case: entry id, window class, executable.
    pub names: Vec<String>,
    /// The window's title.
    pub title: String,
    /// The program's process, if the desk tells.
    pub process: Option<u32>,
    /// Where the window is, if the desk tells.
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

/// Why an armed key cannot be had.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Refusal {
    /// Another program holds it.
    HeldByOther,
    /// No key of the keyboard is it.
    NotOnKeyboard,
}

/// Something that was seen or heard, or the end of something that was asked for.
#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// An armed key went down, and the program in front did not get it.
    Pressed {
        /// The key of the board.
        key: Key,
        /// The modifier keys the person held. Where no armed combination tells sides apart, the
        /// left key stands for either.
        modifiers: HeldModifiers,
    },
    /// A withheld key whose release matters went up.
    Released {
        /// The key of the board.
        key: Key,
    },
    /// The person's fingers moved a key, withheld or not; only when asked for. It comes before
    /// the press it belongs to.
    RawKey {
        /// The key of the board.
        key: Key,
        /// Whether it went down.
        down: bool,
    },
    /// The input device that the next keys come from, by the name it gives; only when asked for.
    ActiveDevice(String),
    /// The process whose password field has the keyboard; nothing if none has, as far as is known.
    PasswordField(Option<u32>),
    /// Whether an input method is at work, which may make something else of what is typed.
    InputMethod(bool),
    /// The person typed a character into the program in front, or did something (`None`) after
    /// which what was typed before no longer stands left of the cursor; only when asked for.
    TextInput(Option<char>),
    /// Where the pointer is; only when asked for.
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
    /// What the wall clock shows, at the start and whenever it jumps.
    WallClock(WallTime),
    /// The program is at work: everything else about the desk is known.
    Started,
    /// A phrase was heard.
    Heard {
        /// Its words.
        words: String,
        /// How sure the ear is, from 0 to 1.
        score: f64,
        /// How long ago it began.
        began: Duration,
    },
    /// Something was said that is no phrase that counts.
    Misheard {
        /// The phrase it is most like; empty for none.
        words: String,
        /// How sure that would be, from 0 to 1.
        score: f64,
        /// Why it does not count.
        why: String,
    },
    /// The ear is open or closed now, or cannot be opened.
    MicrophoneState(MicrophoneState),
    /// Where the pointer went since this was told last, while a shape may be drawn; only when asked
    /// for. The first place after a press is where it was pressed.
    PointerPath(Vec<Point>),
    /// Somebody else says that a shape was drawn with a key or button held.
    Gesture {
        /// The shape's name.
        shape: String,
        /// What was held.
        key: Key,
        /// Where it was drawn.
        bounds: Rect,
        /// How like the shape it is, from 0 to 1.
        score: f64,
    },
    /// A device is there from now on, or went away.
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
    /// Somebody called us.
    Call {
        /// The number by which it is answered; 0 if nobody waits.
        call: u64,
        /// The listener's name in the file.
        device: String,
        /// Who calls, by the name the listener gives them; empty if anybody may.
        caller: String,
        /// The path that was called.
        path: String,
        /// What was sent along.
        text: String,
    },
    /// Armed keys that cannot be had, each with why.
    GrabsRefused(Vec<(KeyGrab, Refusal)>),
    /// Armed keys that somebody else held and let go; they are ours now.
    GrabsFreed(Vec<KeyGrab>),
    /// An effect is done, perhaps with a value, or failed with this reason.
    Outcome {
        /// Which effect.
        effect: EffectId,
        /// What became of it.
        result: Result<Option<Value>, String>,
    },
}
