//! `lantern keys`: the vocabulary of keys, or parts of it.

use lantern_model::{Key, KeyKind, Modifier, ModifierSet};
use lantern_script::{near_name, range_advice};
use serde::Serialize;

use crate::arguments::KeysArguments;
use crate::commands::{bound, print_json, take};
use crate::failure::{Failure, Status};
use crate::{style, table};

/// A key as data, version 1.
#[derive(Serialize)]
struct KeyData {
    name: &'static str,
    kind: &'static str,
    label: &'static str,
    code: Option<&'static str>,
    keysym: Option<u32>,
    kernel: Option<u16>,
    button: Option<u8>,
}

#[derive(Serialize)]
struct KeysReport {
    version: u32,
    keys: Vec<KeyData>,
}

pub fn run(arguments: &KeysArguments) -> Result<Status, Failure> {
    if let Some(combination) = &arguments.take {
        return take::run(combination);
    }
    let wanted = Wanted::read(arguments)?;
    let file = arguments.bound.as_ref().or(arguments.free.as_ref());
    if let Some(file) = file {
        return bound::run(arguments, file.clone(), &wanted);
    }
    let keys = wanted.keys;
    if arguments.json {
        print_json(&KeysReport {
            version: 1,
            keys: keys.iter().map(|key| key_data(*key)).collect(),
        });
    } else if let Some(separator) = &arguments.separator {
        let names: Vec<&str> = keys.iter().map(|key| key.name()).collect();
        crate::style::say!("{}", names.join(&unescape(separator)));
    } else {
        print_table(&keys);
    }
    Ok(if keys.is_empty() { Status::Found } else { Status::Done })
}

/// The keys that a command line asks about.
#[derive(Debug)]
pub struct Wanted {
    pub keys: Vec<Key>,
    /// The modifiers that must be held with them, if a combination was named.
    pub modifiers: Option<ModifierSet>,
}

impl Wanted {
    fn read(arguments: &KeysArguments) -> Result<Wanted, Failure> {
        let mut wanted = Wanted { keys: Vec::new(), modifiers: None };
        if arguments.wanted.is_empty() {
            wanted.keys.extend(Key::all());
        }
        let words = arguments.wanted.iter().flat_map(|words| words.split(','));
        for word in words.map(str::trim) {
            let keys = match word.rsplit_once('+').filter(|(modifiers, _)| !modifiers.is_empty()) {
                Some((modifiers, key)) => {
                    let families = families_of(modifiers)?;
                    if wanted.modifiers.is_some_and(|before| before != families) {
                        return Err(Failure::WrongWords {
                            message: "combinations of one call must have the same modifiers"
                                .to_owned(),
                            advice: "ask for each on its own: `lantern keys ctrl+i --free`"
                                .to_owned(),
                        });
                    }
                    wanted.modifiers = Some(families);
                    resolve(key.trim_matches(['[', ']']))?
                }
                None => resolve(word)?,
            };
            for key in keys {
                if !wanted.keys.contains(&key) {
                    wanted.keys.push(key);
                }
            }
        }
        for word in arguments.except.iter().flat_map(|words| words.split(',')) {
            let left_out = resolve(word.trim())?;
            wanted.keys.retain(|key| !left_out.contains(key));
        }
        Ok(wanted)
    }
}

/// Modifiers joined by `+`, of either side.
fn families_of(words: &str) -> Result<ModifierSet, Failure> {
    words.split('+').try_fold(ModifierSet::NONE, |families, word| {
        let family =
            Modifier::from_word(&word.to_lowercase()).ok_or_else(|| Failure::WrongWords {
                message: format!("`{word}` is no modifier"),
                advice: "modifiers are ctrl, alt, shift and super, as in ctrl+alt+i".to_owned(),
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

pub fn one_key(word: &str) -> Result<Key, Failure> {
    let lower = word.to_lowercase();
    Key::named(&lower).or_else(|| Key::from_code(word)).ok_or_else(|| {
        let kinds = KeyKind::ALL.map(KeyKind::word);
        let near = near_name(&lower, Key::all().map(Key::name).chain(kinds));
        Failure::WrongWords {
            message: format!("there is no key or kind of key `{word}`"),
            advice: match near {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("kinds are {}; ranges are written c..k", kinds.join(", ")),
            },
        }
    })
}

/// `\n` and `\t` as a shell hands them over.
pub fn unescape(text: &str) -> String {
    text.replace("\\n", "\n").replace("\\t", "\t")
}

fn key_data(key: Key) -> KeyData {
    KeyData {
        name: key.name(),
        kind: key.kind().word(),
        label: key.label(),
        code: key.code(),
        keysym: key.keysym(),
        kernel: key.kernel(),
        button: key.button(),
    }
}

fn print_table(keys: &[Key]) {
    let heads = ["name", "cap", "kind", "W3C code", "keysym", "kernel"];
    let rows: Vec<Vec<String>> = keys
        .iter()
        .map(|key| {
            vec![
                key.name().to_owned(),
                key.label().to_owned(),
                key.kind().word().to_owned(),
                key.code().unwrap_or("-").to_owned(),
                key.keysym().map_or("-".to_owned(), |keysym| format!("0x{keysym:04x}")),
                key.kernel().map_or("-".to_owned(), |kernel| kernel.to_string()),
            ]
        })
        .collect();
    table::print(&heads, &rows);
    crate::style::complain!("{}{} keys{0:#}", style::FAINT, keys.len());
}
