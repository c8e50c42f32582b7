//! Desks by their names, and which one fits the session.

use std::env;

use lantern_desk::{DeskError, outlet_is_there};

use crate::arguments::DeskName;

impl DeskName {
    /// What fits the session: a Wayland session is one even where it has a display for old programs, as that
    /// sees none of the others.
    pub fn of_session() -> Result<DeskName, DeskError> {
        if is_wayland() {
            Ok(DeskName::Evdev)
        } else if is_set("DISPLAY") {
            Ok(DeskName::X11)
        } else if outlet_is_there().is_ok() {
            Ok(DeskName::Evdev)
        } else {
            Err(DeskError::NoDisplay)
        }
    }

    /// What it is called in messages.
    pub const fn called(self) -> &'static str {
        match self {
            DeskName::X11 => "X11",
            DeskName::Evdev => "kernel",
            DeskName::Simulated => "simulated",
        }
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
