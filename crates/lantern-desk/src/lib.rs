//! Back ends: they see the person's input and send ours.
//!
//! Owns the [`Backend`] contract and its implementations: [`SimulatedBackend`], a small desktop
//! with no display, [`X11Backend`] and others. A back end decides nothing: it withholds grabbed
//! keys, performs effects and reports events. Also keeps the list of held keys that outlives a
//! crash ([`HeldKeyWriter`]).

mod backend;
mod canvas;
mod copied_contents;
mod dialog;
mod evdev;
mod held_keys;
mod keysyms;
mod paste;
mod portal;
mod simulated;
mod tally;
mod wayland;
mod x11;

pub use backend::{Backend, BackendError};
pub use copied_contents::CopiedContents;
pub use dialog::{Dialog, DialogAnswer, DialogChoice};
pub use evdev::{
    DeviceSelection, DeviceSummary, EvdevBackend, UDEV_RULE, input_devices, outlet_is_there,
    screen_size, system_layout,
};
pub use held_keys::{Heartbeat, HeldKeyReader, HeldKeyWriter, HeldMarks};
pub use portal::{PortalBackend, PortalOffers, RequestedShortcut, portal_offers};
pub use simulated::{OutputKind, SimulatedBackend, SimulatedOutput};
pub use wayland::{CompositorOffers, WaylandBackend, session_offers};
pub use x11::{
    CapturedCombination, DisplayDiagnostics, Listener, Observation, ObservedKey, Progress, Watched,
    X11Backend, ask_person, capture, guard_held, keep_copied, keyboard_is_held, list_windows,
    pick_place, release_held, survey,
};
