//! Programs by their name.

use std::env;
use std::path::Path;

/// Whether a program of that name can be started.
pub fn is_program(name: &str) -> bool {
    use rustix::fs::{Access, access};
    let can_start = |path: &Path| path.is_file() && access(path, Access::EXEC_OK).is_ok();
    if name.contains('/') {
        return can_start(Path::new(name));
    }
    let folders = env::var_os("PATH").unwrap_or_default();
    env::split_paths(&folders).any(|folder| can_start(&folder.join(name)))
}
