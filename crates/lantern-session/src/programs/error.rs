//! Why a program could not be found or started.

use std::path::PathBuf;

use lantern_model::CommandError;

/// Why a program could not be started.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum LaunchError {
    /// Nothing was named.
    #[error("no program is named")]
    Nothing,
    /// Neither a desktop entry nor a program has this name.
    #[error("there is no program or desktop entry `{name}`")]
    NotFound {
        /// The name.
        name: String,
    },
    /// A desktop entry says nothing to start.
    #[error("the desktop entry {path} names no program")]
    EmptyEntry {
        /// The entry's file.
        path: PathBuf,
    },
    /// It needs a terminal, and none is known.
    #[error("`{name}` needs a terminal, and no terminal program was found; set TERMINAL to one")]
    NoTerminal {
        /// The program.
        name: String,
    },
    /// Nothing is set to open it.
    #[error(
        "no program is set to open {target} ({kind}); set one with `xdg-mime default ENTRY.desktop {kind}`"
    )]
    NoHandler {
        /// The file or address.
        target: String,
        /// Its MIME type.
        kind: String,
    },
    /// Too many programs run that were started by rules.
    #[error("{most} programs that rules started are still running, and no more are started")]
    TooMany {
        /// The limit.
        most: usize,
    },
    /// Programs are started too fast.
    #[error("rules start more than {most} programs a second")]
    TooOften {
        /// The limit.
        most: u32,
    },
    /// It is there, but cannot be started.
    #[error("cannot start `{name}`: {source}")]
    StartRequest {
        /// The program.
        name: String,
        /// Why.
        source: std::io::Error,
    },
}

impl From<LaunchError> for CommandError {
    fn from(error: LaunchError) -> CommandError {
        let detail = error.to_string();
        match error {
            LaunchError::Nothing
            | LaunchError::NotFound { .. }
            | LaunchError::EmptyEntry { .. }
            | LaunchError::NoTerminal { .. }
            | LaunchError::NoHandler { .. } => CommandError::not_found(detail),
            LaunchError::TooMany { .. } | LaunchError::TooOften { .. } => {
                CommandError::refused(detail)
            }
            LaunchError::StartRequest { .. } => CommandError::failed(detail),
        }
    }
}
