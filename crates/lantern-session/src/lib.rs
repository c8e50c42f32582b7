//! Services of the desktop session: starting programs, notifications, the screen lock, menus and buttons
//! by accessibility, input methods, shortcuts of the desktop.
//!
//! Owns the conversations over the session's buses. Each function blocks; the caller gives it a thread.

pub mod accessibility;
pub mod bus;
mod error;
pub mod input_methods;
pub mod notifications;
pub mod programs;
pub mod session_lock;
mod shortcuts;

pub use accessibility::{Front, NumberedElements, is_there as accessibility_is_there};
pub use error::SessionError;
pub use input_methods::InputMethods;
pub use notifications::service_name as notice_service;
pub use programs::{
    LaunchError, Launcher, StartRequest, find as find_program, handler as find_handler,
};
pub use shortcuts::{Change, Shortcut, shortcuts};
