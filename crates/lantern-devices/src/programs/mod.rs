//! Programs: finding them as the desktop's standards say, starting them, seeing them end.
//!
//! What must be looked up in files is looked up on a service's thread ([`entries`], [`handlers`]);
//! the starting itself ([`Launcher`]) is the event loop's, which sees the programs end.

mod entries;
mod handlers;
mod launch;

pub use entries::{Start, find};
pub use handlers::handler;
pub use launch::{LaunchError, Launcher};

use std::env;
use std::path::{Path, PathBuf};

/// A folder of the XDG Base Directory Specification: the variable, or its default under the home.
fn home_folder(variable: &str, default: &str) -> Option<PathBuf> {
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

fn data_folders() -> Vec<PathBuf> {
    folders(("XDG_DATA_HOME", ".local/share"), ("XDG_DATA_DIRS", "/usr/local/share:/usr/share"))
}

fn config_folders() -> Vec<PathBuf> {
    folders(("XDG_CONFIG_HOME", ".config"), ("XDG_CONFIG_DIRS", "/etc/xdg"))
}

/// A path, with `~` as the person's home.
pub(crate) fn home_path(path: &str) -> PathBuf {
    match (path.strip_prefix("~/"), env::var_os("HOME")) {
        (Some(rest), Some(home)) => Path::new(&home).join(rest),
        _ => PathBuf::from(path),
    }
}

/// Whether a program of that name can be started.
pub(crate) fn is_program(name: &str) -> bool {
    use rustix::fs::{Access, access};
    let can_start = |path: &Path| path.is_file() && access(path, Access::EXEC_OK).is_ok();
    if name.contains('/') {
        return can_start(Path::new(name));
    }
    let folders = env::var_os("PATH").unwrap_or_default();
    env::split_paths(&folders).any(|folder| can_start(&folder.join(name)))
}
