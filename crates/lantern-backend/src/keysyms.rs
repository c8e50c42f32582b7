//! Keysyms and the characters they stand for.

use xkeysym::Keysym;

/// The character that a keysym types, for those that type one (X protocol, appendix A).
pub fn keysym_character(keysym: u32) -> Option<char> {
    match keysym {
        0x20..=0x7e | 0xa0..=0xff => char::from_u32(keysym),
        0x0100_0000..=0x0110_ffff => char::from_u32(keysym - 0x0100_0000),
        // Above are keys that do something instead, and dead keys.
        0x100..FIRST_DEAD => Keysym::new(keysym).key_char().filter(|c| !c.is_control()),
        _ => None,
    }
}

/// The first keysym of a dead key.
const FIRST_DEAD: u32 = 0xfe50;
/// The combining characters of the dead keys, from the first on (X protocol, keysym encoding).
const ACCENTS: [char; 20] = [
    '\u{300}', '\u{301}', '\u{302}', '\u{303}', '\u{304}', '\u{306}', '\u{307}', '\u{308}',
    '\u{30a}', '\u{30b}', '\u{30c}', '\u{327}', '\u{328}', '\u{345}', '\u{3099}', '\u{309a}',
    '\u{323}', '\u{309}', '\u{31b}', '\u{338}',
];

/// The accent that a dead key puts on the letter after it.
pub fn dead_accent(keysym: u32) -> Option<char> {
    ACCENTS.get(usize::try_from(keysym.checked_sub(FIRST_DEAD)?).ok()?).copied()
}

/// The keysym that types a character; of control characters that of their key.
pub fn typed_keysym(character: char) -> u32 {
    match character {
        '\n' | '\r' => 0xff0d,
        '\t' => 0xff09,
        '\u{8}' => 0xff08,
        '\u{1b}' => 0xff1b,
        character => character_keysym(character),
    }
}

/// The keysym of a character (X protocol, appendix A).
pub fn character_keysym(character: char) -> u32 {
    match u32::from(character) {
        code @ (0x20..=0x7e | 0xa0..=0xff) => code,
        code => 0x0100_0000 + code,
    }
}
