//! Everyday names of keys, and what the language calls them.
//!
//! Only messages use this table: a rule names each key by its one name.

use crate::{Key, Modifier, ModifierKey};

/// Everyday names in lower case without hyphens, each with the name in the language.
const SYNONYMS: &[(&str, &str)] = &[
    ("esc", "escape"),
    ("return", "enter"),
    ("ret", "enter"),
    ("del", "delete"),
    ("ins", "insert"),
    ("bksp", "backspace"),
    ("bs", "backspace"),
    ("backsp", "backspace"),
    ("spacebar", "space"),
    ("spc", "space"),
    ("blank", "space"),
    ("tabulator", "tab"),
    ("pgup", "page-up"),
    ("pgdn", "page-down"),
    ("pgdown", "page-down"),
    ("prior", "page-up"),
    ("uparrow", "up"),
    ("downarrow", "down"),
    ("leftarrow", "left"),
    ("rightarrow", "right"),
    ("win", "super"),
    ("windows", "super"),
    ("winkey", "super"),
    ("cmd", "super"),
    ("command", "super"),
    ("meta", "super"),
    ("logo", "super"),
    ("mod4", "super"),
    ("lwin", "left-super"),
    ("leftwin", "left-super"),
    ("rwin", "right-super"),
    ("rightwin", "right-super"),
    ("lsuper", "left-super"),
    ("rsuper", "right-super"),
    ("control", "ctrl"),
    ("ctl", "ctrl"),
    ("strg", "ctrl"),
    ("lctrl", "left-ctrl"),
    ("rctrl", "right-ctrl"),
    ("leftcontrol", "left-ctrl"),
    ("rightcontrol", "right-ctrl"),
    ("lcontrol", "left-ctrl"),
    ("rcontrol", "right-ctrl"),
    ("option", "alt"),
    ("opt", "alt"),
    ("mod1", "alt"),
    ("lalt", "left-alt"),
    ("ralt", "alt-gr"),
    ("rightalt", "alt-gr"),
    ("altgraph", "alt-gr"),
    ("lshift", "left-shift"),
    ("rshift", "right-shift"),
    ("caps", "caps-lock"),
    ("capital", "caps-lock"),
    ("num", "num-lock"),
    ("prtsc", "print-screen"),
    ("prtscr", "print-screen"),
    ("prtscn", "print-screen"),
    ("printscr", "print-screen"),
    ("print", "print-screen"),
    ("sysrq", "print-screen"),
    ("break", "pause"),
    ("apps", "menu"),
    ("dash", "minus"),
    ("hyphen", "minus"),
    ("equals", "equal"),
    ("dot", "period"),
    ("fullstop", "period"),
    ("apostrophe", "quote"),
    ("backtick", "backquote"),
    ("grave", "backquote"),
    ("forwardslash", "slash"),
    ("lbracket", "left-bracket"),
    ("rbracket", "right-bracket"),
    ("plus", "'+'"),
    ("asterisk", "'*'"),
    ("star", "'*'"),
    ("colon", "':'"),
    ("hash", "'#'"),
    ("underscore", "'_'"),
    ("tilde", "'~'"),
    ("question", "'?'"),
    ("exclamation", "'!'"),
    ("leftclick", "left-button"),
    ("leftmouse", "left-button"),
    ("mouseleft", "left-button"),
    ("lmb", "left-button"),
    ("mouse1", "left-button"),
    ("button1", "left-button"),
    ("rightclick", "right-button"),
    ("rightmouse", "right-button"),
    ("mouseright", "right-button"),
    ("rmb", "right-button"),
    ("mouse2", "right-button"),
    ("button3", "right-button"),
    ("middleclick", "middle-button"),
    ("middlemouse", "middle-button"),
    ("mousemiddle", "middle-button"),
    ("mmb", "middle-button"),
    ("mouse3", "middle-button"),
    ("button2", "middle-button"),
    ("mouse4", "back-button"),
    ("button8", "back-button"),
    ("mouseback", "back-button"),
    ("mouse5", "forward-button"),
    ("button9", "forward-button"),
    ("mouseforward", "forward-button"),
    ("scrollup", "wheel-up"),
    ("scrolldown", "wheel-down"),
    ("mousewheelup", "wheel-up"),
    ("mousewheeldown", "wheel-down"),
    ("volup", "volume-up"),
    ("voldown", "volume-down"),
    ("playpause", "play"),
    ("prevtrack", "previous-track"),
];

/// What the keys of the number pad are called elsewhere, behind a prefix such as `numpad`.
const PAD_SYNONYMS: &[(&str, &str)] = &[
    ("star", "pad-times"),
    ("asterisk", "pad-times"),
    ("multiply", "pad-times"),
    ("slash", "pad-divide"),
    ("dot", "pad-point"),
    ("decimal", "pad-point"),
    ("period", "pad-point"),
    ("return", "pad-enter"),
    ("add", "pad-plus"),
    ("subtract", "pad-minus"),
    ("dash", "pad-minus"),
    ("equals", "pad-equal"),
];
const PAD_PREFIXES: &[&str] = &["numpad", "keypad", "num", "kp", "np", "pad"];

/// The name that the language has for a key with the everyday name `word`, or for a combination that is
/// joined by hyphens: `esc` is `escape`, `numpad1` is `pad-1`, `ctrl-c` is `ctrl+c`.
///
/// None if `word` names nothing, or is itself the name of a key.
pub fn key_synonym(word: &str) -> Option<String> {
    let lower = word.to_lowercase();
    if is_key(word) {
        return None;
    }
    if is_key(&lower) {
        return Some(lower);
    }
    let plain: String = lower.chars().filter(|c| !matches!(c, '-' | '_' | ' ')).collect();
    one_key(&plain).or_else(|| hyphenated(&lower))
}

/// Whether a key, a modifier or a kind of key has this name.
fn is_key(word: &str) -> bool {
    Modifier::from_word(word).is_some() || Key::named(word).is_some()
}

fn one_key(plain: &str) -> Option<String> {
    let listed = |table: &[(&str, &str)], word: &str| {
        table.iter().find(|(other, _)| *other == word).map(|(_, name)| (*name).to_owned())
    };
    if let Some(name) = listed(SYNONYMS, plain) {
        return Some(name);
    }
    let without_hyphens = |key: &Key| key.name().replace('-', "") == plain;
    let has_code = |key: &Key| key.code().is_some_and(|code| code.to_lowercase() == plain);
    if let Some(key) = Key::all().find(|key| without_hyphens(key) || has_code(key)) {
        return Some(key.name().to_owned());
    }
    if let Some(arrow) = plain.strip_prefix("arrow") {
        return Key::named(arrow).map(|key| key.name().to_owned());
    }
    PAD_PREFIXES.iter().filter_map(|prefix| plain.strip_prefix(prefix)).find_map(|rest| {
        listed(PAD_SYNONYMS, rest)
            .or_else(|| Key::named(&format!("pad-{rest}")).map(|key| key.name().to_owned()))
    })
}

/// `ctrl-c` as `ctrl+c`: modifiers, then a key.
fn hyphenated(word: &str) -> Option<String> {
    let own = |part: &str| {
        if is_key(part) { Some(part.to_owned()) } else { one_key(part) }
    };
    let is_modifier = |name: &str| {
        Modifier::from_word(name).is_some()
            || Key::named(name).is_some_and(|key| ModifierKey::of(key).is_some())
    };
    let parts: Vec<String> = word.split(['-', '_']).map(own).collect::<Option<_>>()?;
    let (_, modifiers) = parts.split_last()?;
    let is_combination = !modifiers.is_empty() && modifiers.iter().all(|name| is_modifier(name));
    is_combination.then(|| parts.join("+"))
}

/// Whether `text` is a key or a combination as the language writes it: `ctrl+alt+f12`, `ctrl+'+'`.
pub fn is_combination(text: &str) -> bool {
    let character = text.rsplit_once('\'').and_then(|(before, _)| before.rsplit_once('\''));
    let (names, last) = match character {
        Some((before, inner)) => (before, Some(inner)),
        None => (text, None),
    };
    let is_character = last.is_none_or(|inner| inner.chars().count() == 1);
    match names.strip_suffix('+') {
        Some(names) if last.is_some() => is_character && names.split('+').all(is_key),
        None if last.is_some() => is_character && names.is_empty(),
        _ => names.split('+').all(is_key),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn everyday_names_lead_to_keys() {
        let cases = [
            ("esc", "escape"),
            ("Return", "enter"),
            ("pgdn", "page-down"),
            ("numpad1", "pad-1"),
            ("num1", "pad-1"),
            ("kp-enter", "pad-enter"),
            ("pad-star", "pad-times"),
            ("arrow-left", "left"),
            ("mouse4", "back-button"),
            ("leftctrl", "left-ctrl"),
            ("keyq", "q"),
            ("digit1", "1"),
            ("F1", "f1"),
            ("ctrl-c", "ctrl+c"),
            ("control-shift-esc", "ctrl+shift+escape"),
        ];
        for (word, name) in cases {
            assert_eq!(key_synonym(word).as_deref(), Some(name), "{word}");
        }
    }

    #[test]
    fn names_of_keys_and_other_words_have_no_synonym() {
        for word in ["a", "page-up", "ctrl", "core-depth", "a-b", "drawer", ""] {
            assert_eq!(key_synonym(word), None, "{word}");
        }
    }

    #[test]
    fn every_synonym_names_a_key_and_is_none() {
        for (word, name) in SYNONYMS.iter().chain(PAD_SYNONYMS) {
            assert!(is_combination(name), "{word}: {name}");
        }
        for (word, _) in SYNONYMS {
            assert!(!is_key(word), "{word} is the name of a key");
        }
    }
}
