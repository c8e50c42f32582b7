//! A keyboard layout: which key gives which character, and with what held.

use std::collections::BTreeMap;
use std::time::Duration;

use crate::{Key, KeyCombination, KeySpec, Modifier, ModifierKey};

/// What must be held for a key to give a character.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[repr(u8)]
pub enum ShiftLevel {
    /// Nothing.
    Plain = 0,
    /// Shift.
    Shift = 1,
    /// The third-level key (AltGr).
    Third = 2,
    /// Shift and the third-level key.
    ShiftThird = 3,
}

impl ShiftLevel {
    /// Every level, cheapest to type first.
    pub const ALL: [ShiftLevel; 4] =
        [ShiftLevel::Plain, ShiftLevel::Shift, ShiftLevel::Third, ShiftLevel::ShiftThird];

    /// The level that needs these.
    pub const fn from_modifiers(shift: bool, third: bool) -> ShiftLevel {
        match (shift, third) {
            (false, false) => ShiftLevel::Plain,
            (true, false) => ShiftLevel::Shift,
            (false, true) => ShiftLevel::Third,
            (true, true) => ShiftLevel::ShiftThird,
        }
    }

    /// The modifier keys it takes.
    pub const fn modifier_keys(self) -> &'static [ModifierKey] {
        match self {
            ShiftLevel::Plain => &[],
            ShiftLevel::Shift => &[ModifierKey::LeftShift],
            ShiftLevel::Third => &[ModifierKey::AltGr],
            ShiftLevel::ShiftThird => &[ModifierKey::LeftShift, ModifierKey::AltGr],
        }
    }
}

/// One group of a layout, such as the Latin one of a Latin and Cyrillic pair.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct LayoutGroup {
    caps: BTreeMap<Key, [Option<char>; 4]>,
    spelling: BTreeMap<char, (ShiftLevel, Key)>,
}

impl LayoutGroup {
    /// A group from what each key gives at each level.
    pub fn new(caps: BTreeMap<Key, [Option<char>; 4]>) -> LayoutGroup {
        let mut spelling: BTreeMap<char, (ShiftLevel, Key)> = BTreeMap::new();
        for (key, levels) in &caps {
            for (level, character) in ShiftLevel::ALL.into_iter().zip(levels) {
                let Some(character) = character else { continue };
                let candidate = (level, *key);
                spelling
                    .entry(*character)
                    .and_modify(|known| *known = candidate.min(*known))
                    .or_insert(candidate);
            }
        }
        LayoutGroup { caps, spelling }
    }

    /// The character `key` gives at `level`.
    pub fn character(&self, key: Key, level: ShiftLevel) -> Option<char> {
        self.caps.get(&key)?[level as usize]
    }

    /// The key and level that give `character`, the cheapest if several do; the end of a line, a tab, a
    /// backspace and an escape are keys of every keyboard.
    pub fn key_for(&self, character: char) -> Option<(Key, ShiftLevel)> {
        let everywhere = key_of_control(character).map(|key| (key, ShiftLevel::Plain));
        everywhere.or_else(|| self.spelling.get(&character).map(|(level, key)| (*key, *level)))
    }

    fn is_latin(&self) -> bool {
        ('a'..='z').all(|character| self.spelling.contains_key(&character))
    }
}

/// The key that a character without a shape is.
fn key_of_control(character: char) -> Option<Key> {
    Key::named(match character {
        '\n' | '\r' => "enter",
        '\t' => "tab",
        '\u{8}' => "backspace",
        '\u{1b}' => "escape",
        _ => return None,
    })
}

/// How a held key repeats.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct KeyRepeat {
    /// From the press to the first repeat.
    pub delay: Duration,
    /// From one repeat to the next.
    pub interval: Duration,
}

impl Default for KeyRepeat {
    fn default() -> Self {
        KeyRepeat { delay: Duration::from_millis(500), interval: Duration::from_millis(40) }
    }
}

/// The keyboard as it stands: its groups, the one in force, and how keys repeat.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Layout {
    /// The groups, at least one.
    pub groups: Vec<LayoutGroup>,
    /// The index of the group in force.
    pub active: usize,
    /// Whether the right alt key is a third-level key rather than an alt key.
    pub alt_gr_is_level3: bool,
    /// How a held key repeats.
    pub repeat: KeyRepeat,
    /// The highest Linux input event code the keyboard can send; X keyboards end at 247.
    pub last_kernel_code: u16,
}

impl Layout {
    /// A plain US keyboard, with alt-gr as a second alt key.
    pub fn us() -> Layout {
        Layout {
            groups: vec![LayoutGroup::new(us_caps())],
            active: 0,
            alt_gr_is_level3: false,
            repeat: KeyRepeat::default(),
            last_kernel_code: 0x2ff,
        }
    }

    /// The group in force.
    pub fn group(&self) -> &LayoutGroup {
        &self.groups[self.active.min(self.groups.len() - 1)]
    }

    /// The key of the keyboard that `key` means, if this keyboard has it.
    ///
    /// A name that is a character means the key that gives it in the group in force, else in the
    /// first Latin group, else the key at its place on a US keyboard.
    pub fn resolve(&self, key: KeySpec) -> Option<Key> {
        match key {
            KeySpec::Named(key) => match key.character() {
                Some(character) => self.place_of_character(character).or(Some(key)),
                None => Some(key).filter(|key| self.has(*key)),
            },
            KeySpec::Placed(key) => Some(key).filter(|key| self.has(*key)),
            KeySpec::Character(character) => self.group().key_for(character).map(|(key, _)| key),
            KeySpec::Either(family) => Some(family.default_key().key()),
        }
    }

    fn place_of_character(&self, character: char) -> Option<Key> {
        let latin = || self.groups.iter().find(|group| group.is_latin())?.key_for(character);
        self.group().key_for(character).or_else(latin).map(|(key, _)| key)
    }

    fn has(&self, key: Key) -> bool {
        key.is_pointer() || key.kernel().is_none_or(|kernel| kernel <= self.last_kernel_code)
    }

    /// The keys to press, in order, for `combo`; the part this keyboard lacks if it cannot be done.
    ///
    /// # Errors
    /// The first key of `combo` that this keyboard does not have.
    pub fn press_order(&self, combo: &KeyCombination) -> Result<Vec<Key>, KeySpec> {
        let mut keys: Vec<Key> = Vec::with_capacity(combo.0.len());
        let mut add = |key: Key| {
            if !keys.contains(&key) {
                keys.push(key);
            }
        };
        for part in &combo.0 {
            if let KeySpec::Character(character) = part {
                let (_, level) = self.group().key_for(*character).ok_or(*part)?;
                level.modifier_keys().iter().for_each(|side| add(side.key()));
            }
            add(self.resolve(*part).ok_or(*part)?);
        }
        Ok(keys)
    }

    /// The family a side belongs to on this keyboard.
    pub fn modifier(&self, side: ModifierKey) -> Modifier {
        side.modifier(self.alt_gr_is_level3)
    }
}

/// What each key gives at each level.
pub(crate) type Caps = BTreeMap<Key, [Option<char>; 4]>;

/// What the keys of a US keyboard give.
pub(crate) fn us_caps() -> Caps {
    Key::all()
        .filter_map(|key| Some((key, key.character()?)))
        .map(|(key, plain)| (key, [Some(plain), Some(us_shifted(plain)), None, None]))
        .collect()
}

fn us_shifted(plain: char) -> char {
    const PAIRS: [(char, char); 21] = [
        ('1', '!'),
        ('2', '@'),
        ('3', '#'),
        ('4', '$'),
        ('5', '%'),
        ('6', '^'),
        ('7', '&'),
        ('8', '*'),
        ('9', '('),
        ('0', ')'),
        ('-', '_'),
        ('=', '+'),
        ('[', '{'),
        (']', '}'),
        ('\\', '|'),
        (';', ':'),
        ('\'', '"'),
        ('`', '~'),
        (',', '<'),
        ('.', '>'),
        ('/', '?'),
    ];
    let pair = PAIRS.iter().find(|(from, _)| *from == plain);
    pair.map_or_else(|| plain.to_ascii_uppercase(), |(_, shifted)| *shifted)
}
