//! The words of `lantern keys` that name keys: names, kinds, ranges and combinations.

use lantern_model::{Key, KeyKind, Modifier, ModifierSet, key_synonym};
use lantern_script::{near_name, range_advice};

use crate::arguments::KeysArguments;
use crate::failure::Failure;

/// The keys that a command line asks about.
#[derive(Debug)]
pub struct KeyQuery {
    /// The keys, each once, in the order of the command line.
    pub keys: Vec<Key>,
    /// The modifiers that must be held with them, if a combination was named.
    pub modifiers: Option<ModifierSet>,
}

impl KeyQuery {
    /// Reads the names, ranges, kinds and combinations of the command line.
    ///
    /// # Errors
    /// When a word names no key, or combinations differ in their modifiers.
    pub fn read(arguments: &KeysArguments) -> Result<KeyQuery, Failure> {
        let mut query = KeyQuery { keys: Vec::new(), modifiers: None };
        if arguments.wanted.is_empty() {
            query.keys.extend(Key::all());
        }
        let words = arguments.wanted.iter().flat_map(|words| words.split(','));
        for word in words.map(str::trim) {
            let keys = match word.rsplit_once('+').filter(|(modifiers, _)| !modifiers.is_empty()) {
                Some((modifiers, key)) => {
                    let families = families_of(modifiers)?;
                    if query.modifiers.is_some_and(|before| before != families) {
                        return Err(Failure::WrongWords {
                            message: "combinations of one call must have the same modifiers"
                                .to_owned(),
                            advice: "ask for each on its own: `lantern keys ctrl+i --free`"
                                .to_owned(),
                        });
                    }
                    query.modifiers = Some(families);
                    resolve(key.trim_matches(['[', ']']))?
                }
                None => resolve(word)?,
            };
            for key in keys {
                if !query.keys.contains(&key) {
                    query.keys.push(key);
                }
            }
        }
        for word in arguments.except.iter().flat_map(|words| words.split(',')) {
            let left_out = resolve(word.trim())?;
            query.keys.retain(|key| !left_out.contains(key));
        }
        Ok(query)
    }
}

/// Modifiers joined by `+`, of either side.
fn families_of(words: &str) -> Result<ModifierSet, Failure> {
    words.split('+').try_fold(ModifierSet::NONE, |families, word| {
        let family =
            Modifier::from_word(&word.to_lowercase()).ok_or_else(|| Failure::WrongWords {
                message: format!("`{word}` is no modifier"),
                advice: match key_synonym(word) {
                    Some(name) => format!("the modifier is called `{name}`"),
                    None => "modifiers are ctrl, alt, shift and super: ctrl+alt+i".to_owned(),
                },
            })?;
        Ok(families.with(family))
    })
}

/// The keys that a word of the command line means.
fn resolve(word: &str) -> Result<Vec<Key>, Failure> {
    if let Some(kind) = KeyKind::from_word(word) {
        return Ok(kind.keys().collect());
    }
    if let Some((from, to)) = word.split_once("..") {
        let (from, to) = (one_key(from)?, one_key(to)?);
        return Key::range(from, to).map_err(|error| {
            let (message, advice) = range_advice(&error);
            Failure::WrongWords { message, advice }
        });
    }
    Ok(vec![one_key(word)?])
}

/// The key of that name or W3C code.
///
/// # Errors
/// When no key is called so; the advice names a similar one.
pub fn one_key(word: &str) -> Result<Key, Failure> {
    let lower = word.to_lowercase();
    Key::named(&lower).or_else(|| Key::from_code(word)).ok_or_else(|| {
        let kinds = KeyKind::ALL.map(KeyKind::word);
        let near = near_name(&lower, Key::all().map(Key::name).chain(kinds));
        Failure::WrongWords {
            message: format!("there is no key or kind of key `{word}`"),
            advice: match (key_synonym(word), near) {
                (Some(name), _) => format!("the key is called `{name}`"),
                (None, Some(near)) => format!("did you mean `{near}`?"),
                (None, None) => format!("kinds are {}; ranges are written c..k", kinds.join(", ")),
            },
        }
    })
}

/// Replaces the two characters `\n` by a line feed and `\t` by a tab.
pub fn unescape(text: &str) -> String {
    text.replace("\\n", "\n").replace("\\t", "\t")
}
