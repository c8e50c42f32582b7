//! Programs: finding them as the desktop's standards say, starting them, seeing them end.
//!
//! What must be looked up in files is looked up on a service's thread ([`entries`], [`handlers`]);
//! the starting itself ([`Launcher`]) is the event loop's, which sees the programs end.

mod entries;
mod handlers;
mod launch;
mod output;

pub use entries::{StartRequest, find};
pub use handlers::handler;
pub use launch::{LaunchError, Launcher};

use std::env;
use std::path::Path;

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
