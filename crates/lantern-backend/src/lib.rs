//! The contract of back ends, which see the person's input and send ours, and what back ends share.
//!
//! Owns [`Backend`], [`SimulatedBackend`] (a small desktop without a display), the list of held keys that
//! outlives a crash ([`HeldKeyWriter`]), and what several back ends draw, ask or convert. A back end decides
//! nothing: it withholds grabbed keys, performs effects and reports events. Each has a crate of its own.

mod backend;
pub mod canvas;
pub mod copied_contents;
pub mod dialog;
mod held_keys;
mod input_sink;
mod key_filter;
pub mod keysyms;
mod paste;
mod simulated;
mod system_layout;
mod tally;

pub use backend::{Ability, Backend, BackendError, without_session};
pub use copied_contents::CopiedContents;
pub use dialog::{Dialog, DialogAnswer, DialogChoice};
pub use held_keys::{Heartbeat, HeldKeyReader, HeldKeyWriter, HeldMarks};
pub use input_sink::{InputSink, send_batch};
pub use key_filter::{ForwardedKey, KeyFilter, is_caps_lock};
pub use paste::PasteKeys;
pub use simulated::{OutputKind, SimulatedBackend, SimulatedOutput};
pub use system_layout::{layout_of_keymap, system_keymap, system_layout};
pub use tally::Tally;
