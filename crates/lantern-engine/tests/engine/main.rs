//! The engine from the outside: a timeline in, the effects out.

mod hands;
mod holding;
mod properties;
mod rules;
mod steps;
mod theatre;
mod why;
