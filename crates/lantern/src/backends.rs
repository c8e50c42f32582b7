//! Back ends by their names, and which one fits the session.

use std::env;

use lantern_backend::BackendError;
use lantern_evdev::outlet_is_there;
use lantern_script::Need;
use lantern_wayland::{portal_offers, session_offers};

use crate::arguments::{BackendChoice, BackendName};

impl BackendName {
    /// The back end that was chosen, or what fits the session.
    pub fn chosen(choice: BackendChoice) -> Result<BackendName, BackendError> {
        match choice {
            BackendChoice::Auto => BackendName::of_session(),
            BackendChoice::X11 => Ok(BackendName::X11),
            BackendChoice::Evdev => Ok(BackendName::Evdev),
            BackendChoice::Portal => Ok(BackendName::Portal),
            BackendChoice::Simulated => Ok(BackendName::Simulated),
        }
    }

    /// What fits the session: a Wayland session is one even where it has a display for old programs, as that
    /// sees none of the others.
    pub fn of_session() -> Result<BackendName, BackendError> {
        if is_wayland() {
            let has_portal = || portal_offers().is_some_and(|has| has.shortcuts && has.input);
            // The kernel's input supports more and needs no consent; without access to it, the
            // portals.
            let kernel = outlet_is_there().is_ok() || !has_portal();
            Ok(if kernel { BackendName::Evdev } else { BackendName::Portal })
        } else if is_set("DISPLAY") {
            Ok(BackendName::X11)
        } else if outlet_is_there().is_ok() {
            Ok(BackendName::Evdev)
        } else {
            Err(BackendError::NoDisplay)
        }
    }

    /// What it is called in messages.
    pub const fn called(self) -> &'static str {
        match self {
            BackendName::X11 => "X11",
            BackendName::Evdev => "kernel",
            BackendName::Portal => "portal",
            BackendName::Simulated => "simulated",
        }
    }
}

/// Whether it is the session's to give, beside input, and this one does not.
pub fn needs_session(need: Need) -> bool {
    let offers = || is_wayland().then(|| session_offers().ok()).flatten();
    match need {
        Need::Places | Need::NewWindows | Need::Windows => {
            !offers().is_some_and(|offers| offers.windows)
        }
        Need::Clipboard => !offers().is_some_and(|offers| offers.clipboard),
        _ => false,
    }
}

/// Whether this is a Wayland session.
pub fn is_wayland() -> bool {
    is_set("WAYLAND_DISPLAY") || env::var("XDG_SESSION_TYPE").is_ok_and(|kind| kind == "wayland")
}

/// Whether a variable of the environment says something.
pub fn is_set(variable: &str) -> bool {
    env::var_os(variable).is_some_and(|value| !value.is_empty())
}
