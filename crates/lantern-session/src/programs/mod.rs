//! Programs: finding them as the desktop's standards say, starting them, seeing them end.
//!
//! What must be looked up in files is looked up on a service's thread (`entries`, `handlers`);
//! the starting itself ([`Launcher`]) is the event loop's, which sees the programs end.

mod entries;
mod error;
mod file_address;
mod handlers;
mod launch;
mod output;

pub use entries::{StartRequest, find, installed_names};
pub use error::LaunchError;
pub use handlers::handler;
pub use launch::Launcher;
