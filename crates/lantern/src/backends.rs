//! Back ends by their names, and which one fits the session.

use std::env;

use lantern_backend::BackendError;
use lantern_script::Need;

use crate::arguments::{BackendChoice, BackendName};

impl BackendName {
    /// The back end that was chosen, or what fits the session.
    pub fn chosen(choice: BackendChoice) -> Result<BackendName, BackendError> {
        match choice {
            BackendChoice::Auto => BackendName::of_session(),
            BackendChoice::X11 => Ok(BackendName::X11),
            BackendChoice::Evdev => Ok(BackendName::Evdev),
            BackendChoice::Portal => Ok(BackendName::Portal),
            BackendChoice::Wlroots => Ok(BackendName::Wlroots),
            BackendChoice::Simulated => Ok(BackendName::Simulated),
        }
    }

    /// What fits the session: a Wayland session is one even where it has a display for old programs, as that
    /// sees none of the others.
    pub fn of_session() -> Result<BackendName, BackendError> {
        if is_wayland() {
            // The kernel's input supports most and needs no consent; the input method of the compositor comes
            // next. Else the portals give what they have; voice, devices, timers and `fire` need neither.
            Ok(if has_kernel_input() || !HAS_WAYLAND {
                BackendName::Evdev
            } else if compositor_has_input_methods() {
                BackendName::Wlroots
            } else {
                BackendName::Portal
            })
        } else if is_set("DISPLAY") {
            Ok(BackendName::X11)
        } else if has_kernel_input() {
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
            BackendName::Wlroots => "wlroots",
            BackendName::Simulated => "simulated",
        }
    }
}

/// Whether it is the session's to give, beside input, and this one does not.
pub fn needs_session(need: Need) -> bool {
    match need {
        Need::Places | Need::NewWindows | Need::Windows => !compositor_gives(Part::Windows),
        Need::Clipboard => !compositor_gives(Part::Clipboard),
        _ => false,
    }
}

/// A part of a Wayland session beside input.
#[derive(Clone, Copy)]
enum Part {
    Windows,
    Clipboard,
}

/// Whether the compositor of a Wayland session gives us a part of it.
#[cfg(feature = "wayland")]
fn compositor_gives(part: Part) -> bool {
    let offers = || is_wayland().then(|| lantern_wayland::session_offers().ok()).flatten();
    offers().is_some_and(|offers| match part {
        Part::Windows => offers.windows,
        Part::Clipboard => offers.clipboard,
    })
}

#[cfg(not(feature = "wayland"))]
fn compositor_gives(_: Part) -> bool {
    false
}

/// Whether this build can speak with compositors and portals.
const HAS_WAYLAND: bool = cfg!(feature = "wayland");

/// Whether the compositor lets others be the seat's input method, and make input.
#[cfg(feature = "wayland")]
pub fn compositor_has_input_methods() -> bool {
    lantern_wayland::wlroots_offers().unwrap_or(false)
}

#[cfg(not(feature = "wayland"))]
pub fn compositor_has_input_methods() -> bool {
    false
}

/// Whether the kernel's input can be used.
#[cfg(feature = "evdev")]
fn has_kernel_input() -> bool {
    lantern_evdev::output_exists().is_ok()
}

#[cfg(not(feature = "evdev"))]
fn has_kernel_input() -> bool {
    false
}

/// Whether this is a Wayland session.
pub fn is_wayland() -> bool {
    is_set("WAYLAND_DISPLAY") || env::var("XDG_SESSION_TYPE").is_ok_and(|kind| kind == "wayland")
}

/// Whether a variable of the environment says something.
pub fn is_set(variable: &str) -> bool {
    env::var_os(variable).is_some_and(|value| !value.is_empty())
}
