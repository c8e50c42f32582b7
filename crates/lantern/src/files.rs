//! Files of rules and scenes, read with care: size, text, and the files they name.

use std::collections::BTreeSet;
use std::fs::{self, File, Metadata};
use std::io::{self, Read};
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};

use lantern_script::{Checked, NoDrawings, Outside, Source, check_with, wanted_files};
use lantern_system::{home_folder, open_regular};

use crate::failure::Failure;
use crate::{drawings, pronunciation};

/// The person's own rules, in the folder of configuration files.
pub const OWN_RULES: &str = "cold-lantern/main.lantern";

/// A set of rules as it was read.
pub struct RulesRead {
    /// The texts of its files.
    pub source: Source,
    /// What the checker says.
    pub checked: Checked,
    /// Owner and permissions of each file, of the opened file: its path may lead to another one by
    /// now.
    opened: Vec<(PathBuf, Metadata)>,
}

/// Reads a text file that the person named; it may be a pipe.
pub fn read_source(path: &Path) -> Result<Source, Failure> {
    Ok(read_opened(path, File::open(path))?.0)
}

fn read_opened(path: &Path, file: io::Result<File>) -> Result<(Source, Metadata), Failure> {
    let failed = |source| Failure::Read { path: path.to_owned(), source };
    let file = file.map_err(failed)?;
    let about = file.metadata().map_err(failed)?;
    let size = about.len();
    if size > Source::LARGEST as u64 {
        return Err(too_large(path, size));
    }
    // A pipe has no size before it is read.
    let mut bytes = Vec::new();
    file.take(Source::LARGEST as u64 + 1).read_to_end(&mut bytes).map_err(failed)?;
    if bytes.len() > Source::LARGEST {
        return Err(too_large(path, bytes.len() as u64));
    }
    match String::from_utf8(bytes) {
        Ok(text) => Ok((Source::new(path.display().to_string(), text), about)),
        Err(error) => {
            let at = error.utf8_error().valid_up_to();
            let line = error.as_bytes()[..at].iter().filter(|byte| **byte == b'\n').count() + 1;
            Err(Failure::NotText { path: path.to_owned(), at, line })
        }
    }
}

fn too_large(path: &Path, size: u64) -> Failure {
    Failure::TooLarge { path: path.to_owned(), size: size >> 20, most: Source::LARGEST >> 20 }
}

/// Reads and checks a file of rules with those it uses.
pub fn read_rules(path: &Path) -> Result<RulesRead, Failure> {
    check_opened(path, File::open(path))
}

/// The same while rules are at work, where nothing may be waited for.
pub fn read_rules_again(path: &Path) -> Result<RulesRead, Failure> {
    check_opened(path, open_regular(path))
}

fn check_opened(path: &Path, file: io::Result<File>) -> Result<RulesRead, Failure> {
    let (source, about) = read_opened(path, file)?;
    Ok(check_source(source, vec![(path.to_owned(), about)]))
}

/// Checks a text as if it stood in that file.
pub fn check_text(path: &Path, text: &str) -> (Source, Checked) {
    let source = Source::new(path.display().to_string(), text);
    let RulesRead { source, checked, .. } = check_source(source, Vec::new());
    (source, checked)
}

fn check_source(mut source: Source, mut opened: Vec<(PathBuf, Metadata)>) -> RulesRead {
    let mut at = 0;
    while at < source.names().count() {
        for wanted in wanted_files(&source, at) {
            // One that cannot be read is a finding where it is named.
            if source.names().count() < Source::MOST_FILES
                && let Ok((used, about)) =
                    read_opened(Path::new(&wanted), open_regular(Path::new(&wanted)))
            {
                opened.push((PathBuf::from(&wanted), about));
                source.add(wanted, used.text());
            }
        }
        at += 1;
    }
    let outside = Outside {
        pronounce: &|words| pronunciation::of(words).0,
        drawings: &|name| {
            drawings::read(Path::new(name)).map_err(|error| NoDrawings(error.to_string()))
        },
    };
    let checked = check_with(&source, &outside);
    RulesRead { source, checked, opened }
}

/// Refuses rules that another user than the person and root owns or may write, or whose folders such a
/// user owns or may write: rules act in the person's name.
pub fn refuse_if_others_may_write(read: &RulesRead) -> Result<(), Failure> {
    // Files of one folder share all that lead to it.
    let mut folders = BTreeSet::new();
    for (name, about) in &read.opened {
        let kind = about.file_type();
        // Terminals and other devices have permissions of their own.
        if !kind.is_file() && !kind.is_fifo() {
            continue;
        }
        if !is_trusted(about) {
            return Err(Failure::NotYours { path: name.clone(), owner: about.uid() });
        }
        if about.mode() & 0o022 != 0 {
            return Err(Failure::OthersMayWrite { path: name.clone() });
        }
        let full = name.canonicalize().unwrap_or_else(|_| name.clone());
        folders.extend(full.ancestors().skip(1).map(Path::to_owned));
    }
    for folder in folders {
        let Ok(about) = fs::metadata(&folder) else { continue };
        if !is_trusted(&about) {
            return Err(Failure::NotYours { path: folder, owner: about.uid() });
        }
        if lets_others_replace(&about) {
            return Err(Failure::OthersMayWrite { path: folder });
        }
    }
    Ok(())
}

/// Whether a file or folder belongs to the person or to root.
pub fn is_trusted(about: &Metadata) -> bool {
    let person = rustix::process::geteuid().as_raw();
    [person, 0].contains(&about.uid())
}

/// Whether others may put another file in the place of one in a folder. In one with the sticky bit
/// they may not. A group with the person's own number is the person's alone by custom.
fn lets_others_replace(folder: &Metadata) -> bool {
    let (mode, is_sticky) = (folder.mode(), folder.mode() & 0o1000 != 0);
    let own_group =
        folder.gid() == rustix::process::getegid().as_raw() && folder.gid() == folder.uid();
    !is_sticky && (mode & 0o002 != 0 || mode & 0o020 != 0 && !own_group)
}

/// The file that was named, or the person's own.
pub fn rules_path(named: Option<PathBuf>) -> Result<PathBuf, Failure> {
    if let Some(path) = named {
        return Ok(path);
    }
    let path = home_folder("XDG_CONFIG_HOME", ".config").unwrap_or_default().join(OWN_RULES);
    if fs::exists(&path).unwrap_or(false) { Ok(path) } else { Err(Failure::NoFile { path }) }
}

/// Writes a file beside the old one and puts it in its place, so that none is ever half written.
pub fn replace_text(path: &Path, text: &str) -> Result<(), Failure> {
    let failed = |source| Failure::Write { path: path.to_owned(), source };
    // A link stays one: what it leads to is replaced.
    let real = path.canonicalize().map_err(failed)?;
    let mut name = real.file_name().unwrap_or_default().to_owned();
    name.push(".new");
    let fresh = real.with_file_name(name);
    let written = fs::metadata(&real)
        .and_then(|old| {
            fs::write(&fresh, text)?;
            fs::set_permissions(&fresh, old.permissions())
        })
        .and_then(|()| fs::rename(&fresh, &real));
    written.map_err(|source| {
        // What could not be put in place is not left lying about.
        let _ = fs::remove_file(&fresh);
        failed(source)
    })
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use super::*;

    #[test]
    fn the_file_that_was_read_is_judged_and_not_what_lies_at_its_path_by_then() {
        let folder = tempfile::tempdir().expect("a folder can be made");
        let [path, other] = ["bench.lantern", "other.lantern"].map(|name| folder.path().join(name));
        for (path, mode) in [(&path, 0o666), (&other, 0o600)] {
            fs::write(path, "when key f9 => log \"nine\"\n").expect("it can be written");
            fs::set_permissions(path, PermissionsExt::from_mode(mode)).expect("it is ours");
        }
        let read = read_rules(&path).expect("it can be read");
        fs::rename(&other, &path).expect("both are ours");
        let refused = refuse_if_others_may_write(&read);
        assert!(matches!(refused, Err(Failure::OthersMayWrite { path: named }) if named == path));
        let read = read_rules(&path).expect("it can be read");
        assert!(refuse_if_others_may_write(&read).is_ok());
    }
}
