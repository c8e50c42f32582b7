//! What the services of the program share: files of the person, the environment of started programs,
//! threads whose panics are caught, queues to the event loop.
//!
//! Owns no service and decides nothing.

mod child_environment;
mod event_queue;
mod folders;
mod panics;
mod program_path;
mod rate_limit;
mod retry;
mod stop_handle;

pub use child_environment::ChildEnvironment;
pub use event_queue::{EventQueue, EventSender, MOST_WAITING, wake};
pub use folders::{
    config_folders, data_folders, home_folder, home_path, open_regular, read_regular,
    read_regular_text, write_private,
};
pub use panics::{PanicMessage, catch, catch_in};
pub use program_path::is_program;
pub use rate_limit::{Allowance, Rate};
pub use retry::{ConnectionError, try_twice};
pub use stop_handle::StopHandle;
