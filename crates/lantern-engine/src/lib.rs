//! The engine: which rule fires, what runs, what is held, and why.
//!
//! It decides everything and touches nothing. Events and the present time go in
//! ([`Engine::handle_event`], [`Engine::handle_deadline`]), effects come out
//! ([`Engine::poll_effect`]) and the moment at which it wants to be called again
//! ([`Engine::next_deadline`]). The same events at the same times give the same effects, always.

mod alarms;
mod attention;
mod blocks;
mod chords;
mod context;
mod control;
mod deeds;
mod drawing;
mod engine;
mod eval;
mod firing;
mod hearing;
mod input;
mod key_stroke;
mod ledger;
mod letters;
mod line_rules;
mod lines;
mod nearest;
mod patterns;
mod pointer;
mod prepared;
mod presses;
mod random;
mod reasons;
mod reload;
mod runs;
mod sequences;
mod steps;
mod timers;
mod turns;
mod undecided;
mod watch;

pub use control::{ControlError, RunStatus};
pub use engine::Engine;
pub use ledger::Owner;
pub use nearest::BlockedRule;
pub use prepared::PreparedRules;
pub use reasons::{Decision, DecisionKind, StopCause};
