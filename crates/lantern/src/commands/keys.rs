//! `lantern keys`: the vocabulary of keys, or parts of it.

use lantern_model::Key;
use serde::Serialize;

use crate::arguments::KeysArguments;
use crate::commands::key_words::{KeyQuery, unescape};
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
    let query = KeyQuery::read(arguments)?;
    let file = arguments.bound.as_ref().or(arguments.free.as_ref());
    if let Some(file) = file {
        return bound::run(arguments, file.clone(), &query);
    }
    let keys = query.keys;
    if arguments.json {
        print_json(&KeysReport {
            version: 1,
            keys: keys.iter().map(|key| key_data(*key)).collect(),
        });
    } else if let Some(separator) = &arguments.separator {
        let names: Vec<&str> = keys.iter().map(|key| key.name()).collect();
        crate::output::say!("{}", names.join(&unescape(separator)));
    } else {
        print_table(&keys);
    }
    Ok(if keys.is_empty() { Status::Found } else { Status::Done })
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
    crate::output::complain!("{}{} keys{0:#}", style::FAINT, keys.len());
}
