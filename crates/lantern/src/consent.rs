//! Consent: the permissions of used files that the person has agreed to, by the content of the
//! files. A set with more permissions needs consent again.

use std::collections::BTreeMap;
use std::io::{BufReader, Read};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use lantern_model::RuleSet;
use lantern_script::{Power, Source, given_values, powers};
use lantern_system::{home_folder, open_regular, write_private};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use crate::escaping::shown;
use crate::failure::Failure;
use crate::files::{RulesRead, is_trusted};
use crate::policy::Policy;
use crate::style;
use crate::text::power_words;

/// Most bytes of the record.
const MOST: u64 = 16 << 20;

/// The file in which it is kept, version 1.
#[derive(Debug, Default, Serialize, Deserialize)]
struct ConsentFile {
    version: u32,
    sets: BTreeMap<String, FileConsent>,
}

/// What was agreed to for one file.
#[derive(Debug, Serialize, Deserialize)]
struct FileConsent {
    /// The SHA-256 of its content.
    content: String,
    /// What the files that use it gave it by `with`.
    #[serde(default)]
    given: Vec<String>,
    powers: Vec<String>,
}

/// Powers that were not agreed to, each with its file, as a person reads them.
pub fn missing_lines(missing: &[(&str, Power)]) -> Vec<String> {
    let line = |(file, power): &(&str, Power)| {
        format!("{}{}{0:#} {}", style::WARNING, shown(file), power_words(power))
    };
    missing.iter().map(line).collect()
}

/// What the person has agreed to.
#[derive(Debug)]
pub struct Consent {
    /// Nothing where the person has no home.
    path: Option<PathBuf>,
    record: ConsentFile,
}

impl Consent {
    /// Reads what was agreed to; nothing if there is no record, or none that can be read.
    pub fn read() -> Consent {
        let path = home_folder("XDG_STATE_HOME", ".local/state")
            .map(|folder| folder.join("cold-lantern").join("agreed.json"));
        let read = path.as_deref().and_then(read_record);
        Consent { path, record: read.unwrap_or_default() }
    }

    /// The powers of files that a set uses and that were not agreed to. The first file is the
    /// person's own.
    pub fn missing<'r>(&self, source: &Source, rules: &'r RuleSet) -> Vec<(&'r str, Power)> {
        let mut missing = Vec::new();
        if rules.files.len() == 1 {
            return missing;
        }
        // Whether a file has the content and the values that were agreed to, looked at once.
        let mut same = BTreeMap::new();
        for power in powers(rules) {
            let file = usize::from(power.place.file);
            let name = rules.files[file].as_str();
            if file == 0 {
                continue;
            }
            let agreed = self.record.sets.get(&key(name));
            let words = power_words(&power);
            // What is not wholly known before it runs may be anything in another file, or with other
            // values.
            let mut is_same = |agreed: &FileConsent| {
                *same.entry(file).or_insert_with(|| {
                    agreed.content == digest(source.text_of(file))
                        && agreed.given == given_values(rules, file)
                })
            };
            let known = agreed.is_some_and(|agreed| {
                agreed.powers.contains(&words) && (!words.contains('…') || is_same(agreed))
            });
            if !known {
                missing.push((name, power));
            }
        }
        missing
    }

    /// Keeps that the person agrees to all that a set can do.
    ///
    /// # Errors
    /// When the person has no home, or the record cannot be written.
    pub fn agree(&mut self, source: &Source, rules: &RuleSet) -> Result<(), Failure> {
        let path = self.path.clone().ok_or(Failure::NoHome)?;
        let all = powers(rules);
        // Drawings stand behind the files of rules, and do nothing themselves.
        let files = rules.files.iter().enumerate().take(source.names().count());
        for (file, name) in files {
            let own = all.iter().filter(|power| usize::from(power.place.file) == file);
            let agreed = FileConsent {
                content: digest(source.text_of(file)),
                given: given_values(rules, file),
                powers: own.map(power_words).collect(),
            };
            self.record.sets.insert(key(name), agreed);
        }
        self.record.version = 1;
        let failed = |source| Failure::Write { path: path.clone(), source };
        let text = serde_json::to_string_pretty(&self.record).expect("it has only text for keys");
        write_private(&path, text.as_bytes()).map_err(failed)
    }
}

/// The record in a file. Nothing if another user may have written it.
fn read_record(path: &Path) -> Option<ConsentFile> {
    let file = open_regular(path).ok()?;
    let about = file.metadata().ok()?;
    if !is_trusted(&about) || about.mode() & 0o022 != 0 {
        return None;
    }
    serde_json::from_reader(BufReader::new(file.take(MOST))).ok()
}

/// A file by its full path, as long as it has one.
fn key(name: &str) -> String {
    let path = Path::new(name);
    path.canonicalize().unwrap_or_else(|_| path.to_owned()).display().to_string()
}

fn digest(text: &str) -> String {
    Sha256::digest(text.as_bytes()).iter().map(|byte| format!("{byte:02x}")).collect()
}

/// Everything that used files can do needs consent. The first file is the person's own, and no
/// other user may write any of them. What the administrator forbids is refused in every file.
pub fn refuse_unless_agreed(read: &RulesRead, rules: &RuleSet) -> Result<(), ConsentRefusal> {
    let source = &read.source;
    let refused = |failure| ConsentRefusal { missing: Vec::new(), failure };
    crate::files::refuse_if_others_may_write(read).map_err(refused)?;
    Policy::read().and_then(|policy| policy.refuse_forbidden(rules)).map_err(refused)?;
    let agreement = Consent::read();
    let missing = agreement.missing(source, rules);
    if missing.is_empty() {
        return Ok(());
    }
    let failure = Failure::NotAgreed { path: source.name().to_owned() };
    Err(ConsentRefusal { missing: missing_lines(&missing), failure })
}

/// Why rules are not taken, with the powers that were not agreed to.
#[derive(Debug)]
pub struct ConsentRefusal {
    missing: Vec<String>,
    failure: Failure,
}

impl ConsentRefusal {
    /// Prints the powers; gives what is to be reported behind them.
    pub fn print_missing(self) -> Failure {
        self.missing.iter().for_each(|line| crate::output::complain!("{line}"));
        self.failure
    }
}
