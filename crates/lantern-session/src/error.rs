//! Why a service of the session did not do what was asked.

use lantern_system::ConnectionError;

use crate::programs::LaunchError;

/// Why a service of the session did not do what was asked.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SessionError {
    /// There is no session bus.
    #[error("there is no session bus")]
    NoBus,
    /// No notification service runs.
    #[error("no notification service runs in this session")]
    NoNotices,
    /// There is no accessibility bus.
    #[error("the accessibility bus cannot be reached")]
    NoAccessibility,
    /// The program tells nothing of its menus and buttons.
    #[error("{program} tells nothing of its menus and buttons")]
    Silent {
        /// The program in front.
        program: String,
    },
    /// There is no such entry.
    #[error("{program} has no `{entry}`{among}")]
    NoEntry {
        /// The program in front.
        program: String,
        /// What was looked for.
        entry: String,
        /// What is there instead, as words to add.
        among: String,
    },
    /// An entry is there, but cannot be chosen now.
    #[error("`{entry}` cannot be chosen now")]
    Greyed {
        /// The entry.
        entry: String,
    },
    /// Nothing there can be pressed.
    #[error("{program} shows nothing that can be pressed")]
    NothingToPress {
        /// The program in front.
        program: String,
    },
    /// So many numbers are not on the screen.
    #[error("{program} has no number {number}; the last is {most}")]
    NoNumber {
        /// The program in front.
        program: String,
        /// What was asked for.
        number: usize,
        /// How many there are.
        most: usize,
    },
    /// The bus refused, or broke off.
    #[error("{0}")]
    Bus(#[from] zbus::Error),
    /// A program cannot be started.
    #[error(transparent)]
    Launch(#[from] LaunchError),
}

impl SessionError {
    /// What the person can do about it, if anything is known.
    pub fn hint(&self) -> Option<&'static str> {
        Some(match self {
            SessionError::NoBus => {
                "start lantern in the session, where DBUS_SESSION_BUS_ADDRESS is set"
            }
            SessionError::NoNotices => "install and start a notification daemon (dunst, for one)",
            SessionError::NoAccessibility => "install at-spi2-core",
            SessionError::Silent { .. } => {
                "start the program after at-spi2-core is installed, with NO_AT_BRIDGE unset"
            }
            _ => return None,
        })
    }

    /// Everything in one line.
    pub fn line(&self) -> String {
        match self.hint() {
            Some(hint) => format!("{self}; {hint}"),
            None => self.to_string(),
        }
    }
}

impl ConnectionError for SessionError {
    fn is_broken(&self) -> bool {
        matches!(self, SessionError::Bus(zbus::Error::InputOutput(_)))
    }
}
