//! What a desk reports to the engine.

use crate::{ArmedKey, EffectId, Key, Layout, Modifiers};

/// The program in front.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct App {
    /// The window's number on its desk, 0 for none.
    pub window: u64,
    /// What the program is known by, in lower case: entry id, window class, executable.
    pub names: Vec<String>,
    /// The window's title.
    pub title: String,
}

impl App {
    /// The name to show for it.
    pub fn name(&self) -> &str {
        self.names.first().map_or("nothing", String::as_str)
    }
}

/// Something a desk saw, or the end of something it was asked to do.
#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// An armed key went down, and the program in front did not get it.
    Pressed {
        /// The key of the board.
        key: Key,
        /// The modifier keys the person held. Where no armed combination tells sides apart, the
        /// left key stands for either.
        modifiers: Modifiers,
    },
    /// An armed key whose release matters went up.
    LetGo {
        /// The key of the board.
        key: Key,
    },
    /// The person's fingers moved a key that reached its program; only when asked for.
    Finger {
        /// The key of the board.
        key: Key,
        /// Whether it went down.
        down: bool,
    },
    /// Another program came to the front.
    Focus(App),
    /// The keyboard's layout, at the start and when it changes.
    Layout(Layout),
    /// Armed keys that somebody else holds, each with what is known of why.
    Refused(Vec<(ArmedKey, String)>),
    /// An effect is done, or failed with this reason.
    Outcome {
        /// Which effect.
        effect: EffectId,
        /// What became of it.
        result: Result<(), String>,
    },
}
