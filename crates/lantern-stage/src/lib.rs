//! A test bench on a real X server: its own display, a window manager, and a terminal that reports what
//! it received. A simulated person presses keys on the server's keyboard, not through XTEST.
//!
//! Nothing here sleeps to wait: it waits for an event, a line or a byte, and panics after a time limit.

mod bench;
mod boards;
mod clipboard;
mod composer;
mod console;
mod display;
mod editor;
mod form;
mod person;
mod portal;
mod reader;
mod screen;
mod session;
mod talking;
mod target;
mod terminal;
mod waiting;
mod wayland;
mod wayland_person;

pub use bench::{PlayedDevice, PlayedDeviceKind};
pub use boards::{Plugged, VirtualDevices};
pub use composer::Composer;
pub use console::{Came, Console};
pub use display::{Display, Manager, Stage};
pub use editor::Editor;
pub use form::Form;
pub use person::Person;
pub use portal::{PortalKind, StandInPortal};
pub use reader::ScreenReader;
pub use screen::{Moments, ScreenWindow};
pub use talking::Talking;
pub use target::{ReceivedKey, Target};
pub use terminal::Terminal;
pub use waiting::{pass_time, wait_until};
pub use wayland::{WaylandReceiver, WaylandSession};
pub use wayland_person::WaylandPerson;

/// How long anything on the stage may take before the test fails, in milliseconds.
pub const PATIENCE_MS: u64 = 20_000;
