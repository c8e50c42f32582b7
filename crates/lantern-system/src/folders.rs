//! The person's folders and the system's, by the XDG Base Directory Specification.

use std::env;
use std::fs::{DirBuilder, File, OpenOptions};
use std::io::{self, Read, Write};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use rustix::fs::OFlags;

/// A folder of the XDG Base Directory Specification: the variable, or its default under the home.
///
/// Nothing if the person has no home.
pub fn home_folder(variable: &str, default: &str) -> Option<PathBuf> {
    let named = env::var_os(variable).map(PathBuf::from).filter(|path| path.is_absolute());
    let home = || env::var_os("HOME").map(PathBuf::from).filter(|home| home.is_absolute());
    named.or_else(|| home().map(|home| home.join(default)))
}

/// Opens a file that another file names. A pipe or a device is refused: to open or to read it could
/// wait for ever, or never end.
///
/// # Errors
/// When it is not there, may not be read, or is no regular file.
pub fn open_regular(path: &Path) -> io::Result<File> {
    // Not to wait for the other end of a pipe, and not to take a terminal as ours.
    let flags = OFlags::NONBLOCK | OFlags::NOCTTY;
    let file = OpenOptions::new().read(true).custom_flags(flags.bits() as i32).open(path)?;
    if file.metadata()?.is_file() {
        Ok(file)
    } else {
        Err(io::Error::new(io::ErrorKind::InvalidInput, "it is no regular file"))
    }
}

/// Reads a file that another file names, `most` bytes at the most.
///
/// # Errors
/// As [`open_regular`], and when it is larger.
pub fn read_regular(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    open_regular(path)?.take(most + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > most {
        let why = format!("it is larger than {most} bytes");
        return Err(io::Error::new(io::ErrorKind::FileTooLarge, why));
    }
    Ok(bytes)
}

/// The same for a file of text.
///
/// # Errors
/// As [`read_regular`], and when it is not UTF-8.
pub fn read_regular_text(path: &Path, most: u64) -> io::Result<String> {
    let wrong = |_| io::Error::new(io::ErrorKind::InvalidData, "it is not UTF-8 text");
    String::from_utf8(read_regular(path, most)?).map_err(wrong)
}

/// Writes a file that only the person may read, the whole at once: at every moment its path has the old
/// content or the new. Folders that are missing are created for the person alone.
///
/// # Errors
/// When the folder or the file cannot be written.
pub fn write_private(path: &Path, bytes: &[u8]) -> io::Result<()> {
    if let Some(folder) = path.parent() {
        DirBuilder::new().recursive(true).mode(0o700).create(folder)?;
    }
    let beside = path.with_extension("new");
    let mut options = OpenOptions::new();
    options.write(true).create(true).truncate(true).mode(0o600);
    options.open(&beside)?.write_all(bytes)?;
    std::fs::rename(&beside, path)
}

/// The person's folder and then the system's, the more important first.
fn folders(home: (&str, &str), system: (&str, &str)) -> Vec<PathBuf> {
    let listed = env::var_os(system.0).filter(|dirs| !dirs.is_empty());
    let listed = listed.unwrap_or_else(|| system.1.into());
    let others = env::split_paths(&listed).filter(|path| path.is_absolute());
    home_folder(home.0, home.1).into_iter().chain(others).collect()
}

/// The folders of data files, the person's own first (XDG Base Directory Specification).
pub fn data_folders() -> Vec<PathBuf> {
    folders(("XDG_DATA_HOME", ".local/share"), ("XDG_DATA_DIRS", "/usr/local/share:/usr/share"))
}

/// The folders of configuration files, the person's own first (XDG Base Directory Specification).
pub fn config_folders() -> Vec<PathBuf> {
    folders(("XDG_CONFIG_HOME", ".config"), ("XDG_CONFIG_DIRS", "/etc/xdg"))
}

/// A path, with `~` as the person's home.
pub fn home_path(path: &str) -> PathBuf {
    match (path.strip_prefix("~/"), env::var_os("HOME")) {
        (Some(rest), Some(home)) => Path::new(&home).join(rest),
        _ => PathBuf::from(path),
    }
}
