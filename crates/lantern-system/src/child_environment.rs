//! What child processes inherit of the environment.

use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::process::Command;
use std::sync::{Arc, PoisonError, RwLock};

/// The environment of child processes: that of this process without the variables that hold secrets.
/// Clones share it.
#[derive(Debug, Clone, Default)]
pub struct ChildEnvironment(Arc<RwLock<BTreeSet<String>>>);

impl ChildEnvironment {
    /// Sets the variables that no child inherits from now on.
    pub fn hide(&self, variables: BTreeSet<String>) {
        *self.0.write().unwrap_or_else(PoisonError::into_inner) = variables;
    }

    /// A command that runs in it.
    pub fn command(&self, program: impl AsRef<OsStr>) -> Command {
        let mut command = Command::new(program);
        for variable in &*self.0.read().unwrap_or_else(PoisonError::into_inner) {
            command.env_remove(variable);
        }
        command
    }
}
