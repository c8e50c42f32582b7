//! Why the policy of the machine's administrator cannot be used.

use std::io;

/// Why a policy cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum PolicyError {
    /// The file cannot be read.
    #[error("{0}")]
    Read(#[from] io::Error),
    /// It is no JSON of the right form.
    #[error("{0}")]
    Form(#[from] serde_json::Error),
    /// It names something that is no power.
    #[error("there is no power `{name}`; the powers are {known}")]
    NoSuchPower {
        /// The name in the file.
        name: String,
        /// The names of all powers.
        known: String,
    },
}
