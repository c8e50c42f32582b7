//! The engine: which rule fires, what runs, what is held, and why.
//!
//! It decides everything and touches nothing. Events and the present time go in
//! ([`Engine::handle_event`], [`Engine::handle_deadline`]), effects come out
//! ([`Engine::poll_effect`]) and the moment at which it wants to be called again
//! ([`Engine::next_deadline`]). The same events at the same times give the same effects, always.

mod activation;
mod attention;
mod binding_table;
mod blocked_rules;
mod blocks;
mod chords;
mod commands;
mod context;
mod control;
mod decision_log;
mod drawing;
mod engine;
mod eval;
mod held_keys;
mod input;
mod input_arbiter;
mod key_recognizer;
mod key_stroke;
mod line_buffer;
mod line_rules;
mod patterns;
mod pending_press;
mod pointer;
mod prepared;
mod random;
mod reload;
mod runs;
mod schedule;
mod sequences;
mod steps;
mod timers;
mod trigger_index;
mod typed_text;

pub use blocked_rules::BlockedRule;
pub use control::{ControlError, RunStatus};
pub use decision_log::{Decision, DecisionKind, StopCause};
pub use engine::Engine;
pub use held_keys::Owner;
pub use prepared::PreparedRules;
