//! What the person has agreed to: the powers of sets that somebody else wrote, kept by the content
//! of their files. A set whose powers grew is asked about again.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use lantern_devices::home_folder;
use lantern_model::RuleSet;
use lantern_script::{Power, Source, powers};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use crate::failure::Failure;
use crate::foreign::shown;
use crate::style;
use crate::style::complain;

/// The file in which it is kept, version 1.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Record {
    version: u32,
    sets: BTreeMap<String, Agreed>,
}

/// What was agreed to for one file.
#[derive(Debug, Serialize, Deserialize)]
struct Agreed {
    /// The SHA-256 of its content.
    content: String,
    powers: Vec<String>,
}

/// A power as it is kept and shown.
pub fn power_words(power: &Power) -> String {
    if power.what.is_empty() {
        power.kind.words().to_owned()
    } else {
        format!("{} {}", power.kind.words(), shown(&power.what))
    }
}

/// Prints powers that were not agreed to, each with its file.
pub fn print_missing(missing: &[(&str, Power)]) {
    for (file, power) in missing {
        complain!("{}{}{0:#} {}", style::WARNING, shown(file), power_words(power));
    }
}

/// What the person has agreed to.
#[derive(Debug)]
pub struct Agreement {
    path: PathBuf,
    record: Record,
}

impl Agreement {
    /// Reads what was agreed to; nothing if there is no record, or none that can be read.
    pub fn read() -> Agreement {
        let path = home_folder("XDG_STATE_HOME", ".local/state")
            .unwrap_or_default()
            .join("cold-lantern")
            .join("agreed.json");
        let read = fs::read(&path).ok().and_then(|bytes| serde_json::from_slice(&bytes).ok());
        Agreement { path, record: read.unwrap_or_default() }
    }

    /// The powers of files that a set uses and that were not agreed to. The first file is the
    /// person's own.
    pub fn missing<'r>(&self, source: &Source, rules: &'r RuleSet) -> Vec<(&'r str, Power)> {
        let mut missing = Vec::new();
        if rules.files.len() == 1 {
            return missing;
        }
        for power in powers(rules) {
            let file = usize::from(power.place.file);
            let name = rules.files[file].as_str();
            if file == 0 {
                continue;
            }
            let agreed = self.record.sets.get(&key(name));
            let known = agreed.is_some_and(|agreed| {
                agreed.content == digest(source.text_of(file))
                    || agreed.powers.contains(&power_words(&power))
            });
            if !known {
                missing.push((name, power));
            }
        }
        missing
    }

    /// Keeps that the person agrees to all that a set can do.
    pub fn agree(&mut self, source: &Source, rules: &RuleSet) -> Result<(), Failure> {
        let all = powers(rules);
        for (file, name) in rules.files.iter().enumerate() {
            let own = all.iter().filter(|power| usize::from(power.place.file) == file);
            let agreed = Agreed {
                content: digest(source.text_of(file)),
                powers: own.map(power_words).collect(),
            };
            self.record.sets.insert(key(name), agreed);
        }
        self.record.version = 1;
        let failed = |source| Failure::Write { path: self.path.clone(), source };
        let folder = self.path.parent().unwrap_or(Path::new("."));
        fs::create_dir_all(folder).map_err(failed)?;
        let text = serde_json::to_string_pretty(&self.record).expect("it has only text for keys");
        let fresh = self.path.with_extension("json.new");
        fs::write(&fresh, text).and_then(|()| fs::rename(&fresh, &self.path)).map_err(failed)
    }
}

/// A file by its full path, as long as it has one.
fn key(name: &str) -> String {
    let path = Path::new(name);
    path.canonicalize().unwrap_or_else(|_| path.to_owned()).display().to_string()
}

fn digest(text: &str) -> String {
    Sha256::digest(text.as_bytes()).iter().map(|byte| format!("{byte:02x}")).collect()
}
