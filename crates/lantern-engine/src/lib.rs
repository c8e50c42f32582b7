//! The engine: which rule fires, what runs, what is held, and why.
//!
//! It decides everything and touches nothing. Events and the present time go in
//! ([`Engine::handle_event`], [`Engine::handle_deadline`]), effects come out
//! ([`Engine::poll_effect`]) and the moment at which it wants to be called again
//! ([`Engine::next_deadline`]). The same events at the same times give the same effects, always.

mod activation_policy;
mod active_rules;
mod binding_table;
mod blocked_rules;
mod context;
mod decision_log;
mod eligibility;
mod engine;
mod eval;
mod gesture_recognizer;
mod grab_planner;
mod id_map;
mod interpreter;
mod key_state;
mod key_stroke;
mod keys;
mod line_buffer;
mod line_rules;
mod outbox;
mod patterns;
mod payload;
mod prepared;
mod random;
mod schedule;
mod scope;
mod step_error;
mod timers;
mod trigger_index;
mod typed_text;
mod voice_control;

pub use blocked_rules::{BlockedRule, MissingKeyError};
pub use decision_log::{Decision, DecisionKind, StopCause};
pub use engine::{ControlError, Engine, RunStatus};
pub use interpreter::Owner;
pub use prepared::PreparedRules;
