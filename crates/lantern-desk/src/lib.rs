//! Desks: where the person's input is seen and ours is made.
//!
//! Owns the [`Desk`] contract and what fulfils it: [`SimulatedDesk`], a small desktop with no
//! display, and [`X11Desk`], the real one. A desk decides nothing: it withholds what it was armed
//! with, does what it is told, and reports what it sees. Also keeps the list of held keys that
//! outlives a crash ([`HeldKeys`]).

mod copied;
mod desk;
mod drawing;
mod evdev;
mod held;
mod keysyms;
mod paste;
mod portal;
mod question;
mod simulated;
mod tally;
mod wayland;
mod x11;

pub use copied::Copied;
pub use desk::{Desk, DeskError};
pub use evdev::{
    DeviceSelection, DeviceSummary, EvdevDesk, UDEV_RULE, input_devices, outlet_is_there,
    screen_size, system_layout,
};
pub use held::{HeldFile, HeldKeys, HeldMarks, Pulse};
pub use portal::{PortalDesk, PortalOffers, Wanted, portal_offers};
pub use question::{Answer, Choice, Question};
pub use simulated::{Output, SimulatedDesk, What};
pub use wayland::{Offers, SessionDesk, session_offers};
pub use x11::{
    Captured, Listener, Progress, Seen, Sight, Survey, Watched, X11Desk, ask_person, capture,
    guard_held, keep_copied, keyboard_is_held, list_windows, pick_place, release_held, survey,
};
