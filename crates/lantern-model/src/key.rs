//! One key of the vocabulary, and sets of keys by kind and range.

use std::collections::BTreeMap;
use std::fmt;
use std::sync::LazyLock;

use crate::key_table::{KeyRow, ROWS};

/// What sort of key it is; a word that stands for all keys of the kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum KeyKind {
    /// `a` to `z`.
    Letter,
    /// `0` to `9` of the main row.
    Digit,
    /// Signs of the main block, and the space bar.
    Punctuation,
    /// The number pad.
    Pad,
    /// `f1` to `f24`.
    Function,
    /// Arrows, home, end and the page keys.
    Navigation,
    /// Enter, tab, escape, backspace and their like.
    Editing,
    /// Shift, ctrl, alt and super keys.
    Modifier,
    /// Caps, num and scroll lock.
    Lock,
    /// Sound, player, brightness and power keys.
    Media,
    /// Keys that open a program or steer a browser.
    Program,
    /// Keys of Japanese, Korean and other national keyboards.
    National,
    /// Mouse buttons.
    Mouse,
    /// Wheel directions.
    Wheel,
    /// Parts of a pen.
    Pen,
}

impl KeyKind {
    /// Every kind, in the order of the table.
    pub const ALL: [KeyKind; 15] = [
        KeyKind::Letter,
        KeyKind::Digit,
        KeyKind::Punctuation,
        KeyKind::Pad,
        KeyKind::Function,
        KeyKind::Navigation,
        KeyKind::Editing,
        KeyKind::Modifier,
        KeyKind::Lock,
        KeyKind::Media,
        KeyKind::Program,
        KeyKind::National,
        KeyKind::Mouse,
        KeyKind::Wheel,
        KeyKind::Pen,
    ];

    /// The kind's word, as written in a file and on the command line.
    pub const fn word(self) -> &'static str {
        match self {
            KeyKind::Letter => "letters",
            KeyKind::Digit => "digits",
            KeyKind::Punctuation => "punctuation",
            KeyKind::Pad => "pad",
            KeyKind::Function => "function",
            KeyKind::Navigation => "navigation",
            KeyKind::Editing => "editing",
            KeyKind::Modifier => "modifiers",
            KeyKind::Lock => "locks",
            KeyKind::Media => "media",
            KeyKind::Program => "programs",
            KeyKind::National => "national",
            KeyKind::Mouse => "mouse",
            KeyKind::Wheel => "wheel",
            KeyKind::Pen => "pen",
        }
    }

    /// The kind with that word.
    pub fn from_word(word: &str) -> Option<KeyKind> {
        KeyKind::ALL.into_iter().find(|kind| kind.word() == word)
    }

    /// All keys of the kind, in the table's order.
    pub fn keys(self) -> impl Iterator<Item = Key> {
        Key::all().filter(move |key| key.kind() == self)
    }
}

/// Why a range of keys is none.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum KeySetError {
    /// The two ends are of different kinds, or of a kind without an order.
    NoOrder {
        /// The first end.
        from: Key,
        /// The last end.
        to: Key,
    },
    /// The first end stands behind the last.
    Backwards {
        /// The first end.
        from: Key,
        /// The last end.
        to: Key,
    },
}

/// A key, button, wheel direction or pen part: a row of the vocabulary.
///
/// ```
/// use lantern_model::Key;
/// let plus = Key::named("pad-plus").unwrap();
/// assert_eq!(plus.code(), Some("NumpadAdd"));
/// assert_eq!(Key::from_kernel(78), Some(plus));
/// ```
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Key(u16);

impl Key {
    /// Every key, in the table's order.
    pub fn all() -> impl Iterator<Item = Key> {
        (0..ROWS.len()).map(|row| Key(row as u16))
    }

    /// The key with that name in the vocabulary.
    pub fn named(name: &str) -> Option<Key> {
        static BY_NAME: LazyLock<BTreeMap<&str, Key>> =
            LazyLock::new(|| Key::all().map(|key| (key.name(), key)).collect());
        BY_NAME.get(name).copied()
    }

    /// The key with that W3C UI Events code.
    pub fn from_code(code: &str) -> Option<Key> {
        Key::all().find(|key| key.code() == Some(code))
    }

    /// The key with that Linux input event code.
    pub fn from_kernel(kernel: u16) -> Option<Key> {
        static BY_KERNEL: LazyLock<Vec<Option<Key>>> =
            LazyLock::new(|| by_number(|key| key.kernel()));
        BY_KERNEL.get(usize::from(kernel)).copied().flatten()
    }

    /// The key with that X pointer button number.
    pub fn from_button(button: u8) -> Option<Key> {
        static BY_BUTTON: LazyLock<Vec<Option<Key>>> =
            LazyLock::new(|| by_number(|key| key.button().map(u16::from)));
        BY_BUTTON.get(usize::from(button)).copied().flatten()
    }

    fn row(self) -> &'static KeyRow {
        &ROWS[usize::from(self.0)]
    }

    /// The row's number in the table, from 0.
    pub fn index(self) -> usize {
        usize::from(self.0)
    }

    /// Our name for it.
    pub fn name(self) -> &'static str {
        self.row().name
    }

    /// What is printed on the cap of a US keyboard.
    pub fn label(self) -> &'static str {
        self.row().label
    }

    /// Its W3C UI Events code; keys of a mouse or pen have none.
    pub fn code(self) -> Option<&'static str> {
        Some(self.row().code).filter(|code| !code.is_empty())
    }

    /// The X keysym on a US keyboard; keys of a mouse or pen have none.
    pub fn keysym(self) -> Option<u32> {
        Some(self.row().keysym).filter(|keysym| *keysym != 0)
    }

    /// The Linux input event code; wheel directions have none.
    pub fn kernel(self) -> Option<u16> {
        Some(self.row().kernel).filter(|kernel| *kernel != 0)
    }

    /// The X pointer button number, for mouse buttons and the wheel.
    pub fn button(self) -> Option<u8> {
        if !matches!(self.kind(), KeyKind::Mouse | KeyKind::Wheel) {
            return None;
        }
        Some(match self.name() {
            "left-button" => 1,
            "middle-button" => 2,
            "right-button" => 3,
            "wheel-up" => 4,
            "wheel-down" => 5,
            "wheel-left" => 6,
            "wheel-right" => 7,
            "back-button" => 8,
            "forward-button" => 9,
            _ => return None,
        })
    }

    /// What sort of key it is.
    pub fn kind(self) -> KeyKind {
        self.row().kind
    }

    /// Whether it is a mouse button, wheel direction or pen part.
    pub fn is_pointer(self) -> bool {
        matches!(self.kind(), KeyKind::Mouse | KeyKind::Wheel | KeyKind::Pen)
    }

    /// The character a US keyboard gives for it, for keys named after what they type.
    pub fn character(self) -> Option<char> {
        match self.kind() {
            KeyKind::Letter | KeyKind::Digit | KeyKind::Punctuation => {
                self.keysym().and_then(char::from_u32)
            }
            _ => None,
        }
    }

    /// The keys from `from` to `to`, both included, within one kind.
    ///
    /// # Errors
    /// When the ends are of different kinds, of a kind without an order, or the wrong way round.
    pub fn range(from: Key, to: Key) -> Result<Vec<Key>, KeySetError> {
        let ordered = [KeyKind::Letter, KeyKind::Digit, KeyKind::Function, KeyKind::Pad];
        let numbered = |key: Key| key.kind() != KeyKind::Pad || key.label().parse::<u8>().is_ok();
        let fits = ordered.contains(&from.kind()) && numbered(from) && numbered(to);
        if from.kind() != to.kind() || !fits {
            return Err(KeySetError::NoOrder { from, to });
        }
        if from > to {
            return Err(KeySetError::Backwards { from, to });
        }
        Ok((from.0..=to.0).map(Key).collect())
    }
}

/// The keys by a number of theirs.
fn by_number(number: impl Fn(Key) -> Option<u16>) -> Vec<Option<Key>> {
    let mut keys = Vec::new();
    for key in Key::all() {
        let Some(number) = number(key).map(usize::from) else { continue };
        keys.resize(keys.len().max(number + 1), None);
        keys[number].get_or_insert(key);
    }
    keys
}

impl fmt::Debug for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

impl fmt::Display for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}
