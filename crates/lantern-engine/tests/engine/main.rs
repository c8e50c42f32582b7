//! The engine from the outside: a timeline in, the effects out.

mod any_rules;
mod blocks;
mod control;
mod drawing;
mod extremes;
mod hands;
mod hearing;
mod holding;
mod presses;
mod properties;
mod reload;
mod rules;
mod steps;
mod theatre;
mod timelines;
mod why;
