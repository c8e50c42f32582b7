//! `lantern keys`: the vocabulary of keys, or parts of it.

use lantern_model::{Key, KeyKind};
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
struct Report {
    version: u32,
    keys: Vec<KeyData>,
}

pub fn run(arguments: &KeysArguments) -> Result<Status, Failure> {
    if let Some(combination) = &arguments.take {
        return take::run(combination);
    }
    let mut keys: Vec<Key> = Vec::new();
    if arguments.wanted.is_empty() {
        keys.extend(Key::all());
    }
    for word in arguments.wanted.iter().flat_map(|words| words.split(',')) {
        for key in resolve(word.trim())? {
            if !keys.contains(&key) {
                keys.push(key);
            }
        }
    }
    for word in arguments.except.iter().flat_map(|words| words.split(',')) {
        let left_out = resolve(word.trim())?;
        keys.retain(|key| !left_out.contains(key));
    }
    if let Some(file) = &arguments.bound {
        return bound::run(arguments, file.clone(), &keys, false);
    }
    if let Some(file) = &arguments.free {
        return bound::run(arguments, file.clone(), &keys, true);
    }
    if arguments.json {
        print_json(&Report { version: 1, keys: keys.iter().map(|key| key_data(*key)).collect() });
    } else if let Some(separator) = &arguments.separator {
        let names: Vec<&str> = keys.iter().map(|key| key.name()).collect();
        crate::style::say!("{}", names.join(&unescape(separator)));
    } else {
        print_table(&keys);
    }
    Ok(if keys.is_empty() { Status::Found } else { Status::Done })
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
fn unescape(text: &str) -> String {
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
