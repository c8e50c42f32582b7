//! Keymaps made for a text: each of its characters has a key of its own, without modifiers.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use lantern_backend::keysyms::typed_keysym;

/// Keycodes that a keymap may give to characters: XKB has 8 to 255.
const MOST_CHARACTERS: usize = 240;
/// The first keycode of XKB; a keyboard sends codes that are smaller by this.
const FIRST_KEYCODE: usize = 8;

/// A part of a text with the keymap that types it.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct TypingKeymap {
    /// In the text format of XKB.
    pub(super) text: String,
    /// The codes to tap, in the order of the characters.
    pub(super) codes: Vec<u32>,
}

/// Divides a text into parts with so few different characters that each has a key.
pub(super) fn typing_keymaps(text: &str) -> Vec<TypingKeymap> {
    let mut parts = Vec::new();
    let mut keys: BTreeMap<char, u32> = BTreeMap::new();
    let mut codes = Vec::new();
    for character in text.chars() {
        if !keys.contains_key(&character) && keys.len() == MOST_CHARACTERS {
            parts.push(part(&std::mem::take(&mut keys), std::mem::take(&mut codes)));
        }
        // Code 0 is no key of a keyboard.
        let next = keys.len() as u32 + 1;
        codes.push(*keys.entry(character).or_insert(next));
    }
    if !codes.is_empty() {
        parts.push(part(&keys, codes));
    }
    parts
}

fn part(keys: &BTreeMap<char, u32>, codes: Vec<u32>) -> TypingKeymap {
    let mut keycodes = String::new();
    let mut symbols = String::new();
    for (character, code) in keys {
        let keycode = *code as usize + FIRST_KEYCODE;
        let symbol = typed_keysym(*character);
        writeln!(keycodes, "<K{code}> = {keycode};").expect("a string takes all");
        writeln!(symbols, "key <K{code}> {{ [ 0x{symbol:x} ] }};").expect("a string takes all");
    }
    let maximum = FIRST_KEYCODE + MOST_CHARACTERS + 1;
    let text = format!(
        "xkb_keymap {{\n\
         xkb_keycodes \"lantern\" {{ minimum = {FIRST_KEYCODE}; maximum = {maximum};\n{keycodes}}};\n\
         xkb_types \"lantern\" {{ type \"ONE_LEVEL\" {{ modifiers = none; level_name[Level1] = \"Any\"; }}; }};\n\
         xkb_compatibility \"lantern\" {{ }};\n\
         xkb_symbols \"lantern\" {{\n{symbols}}};\n\
         }};\n"
    );
    TypingKeymap { text, codes }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_character_has_one_key() {
        let parts = typing_keymaps("é1é\n");
        let [part] = parts.as_slice() else { panic!("one part is enough: {parts:?}") };
        assert_eq!(part.codes, [1, 2, 1, 3]);
        for symbol in ["0xe9", "0x31", "0xff0d"] {
            assert_eq!(part.text.matches(&format!("[ {symbol} ]")).count(), 1, "{}", part.text);
        }
    }

    #[test]
    fn a_text_with_many_characters_has_several_keymaps() {
        let text: String = ('\u{4e00}'..'\u{5000}').collect();
        let parts = typing_keymaps(&text);
        assert_eq!(parts.iter().map(|part| part.codes.len()).sum::<usize>(), 0x200);
        assert!(parts.iter().all(|part| part.codes.iter().all(|code| *code <= 240)));
        assert_eq!(typing_keymaps(""), []);
    }
}
