//! The person's folders and the system's, by the XDG Base Directory Specification.

use std::env;
use std::path::{Path, PathBuf};

/// A folder of the XDG Base Directory Specification: the variable, or its default under the home.
///
/// Nothing if the person has no home.
pub fn home_folder(variable: &str, default: &str) -> Option<PathBuf> {
    let named = env::var_os(variable).map(PathBuf::from).filter(|path| path.is_absolute());
    named.or_else(|| env::var_os("HOME").map(|home| Path::new(&home).join(default)))
}

/// The person's folder and then the system's, the more important first.
fn folders(home: (&str, &str), system: (&str, &str)) -> Vec<PathBuf> {
    let listed = env::var_os(system.0).filter(|dirs| !dirs.is_empty());
    let listed = listed.unwrap_or_else(|| system.1.into());
    let others = env::split_paths(&listed).filter(|path| path.is_absolute());
    home_folder(home.0, home.1).into_iter().chain(others).collect()
}

pub(crate) fn data_folders() -> Vec<PathBuf> {
    folders(("XDG_DATA_HOME", ".local/share"), ("XDG_DATA_DIRS", "/usr/local/share:/usr/share"))
}

pub(crate) fn config_folders() -> Vec<PathBuf> {
    folders(("XDG_CONFIG_HOME", ".config"), ("XDG_CONFIG_DIRS", "/etc/xdg"))
}

/// A path, with `~` as the person's home.
pub(crate) fn home_path(path: &str) -> PathBuf {
    match (path.strip_prefix("~/"), env::var_os("HOME")) {
        (Some(rest), Some(home)) => Path::new(&home).join(rest),
        _ => PathBuf::from(path),
    }
}
