//! The words every part of Cold Lantern shares.
//!
//! Owns the vocabulary: [`Time`], keys and their names, keyboard layouts, what a desk reports
//! ([`Event`]), what it is asked to do ([`Effect`]) and the checked rules ([`RuleSet`]) that lie
//! between a file and the engine. It decides nothing: the language is read in `lantern-script`,
//! rules are run in `lantern-engine`, the world is touched in `lantern-desk`.

pub mod code;
mod combo;
mod effect;
mod event;
mod key;
mod key_table;
mod layout;
mod modifiers;
mod rules;
mod time;
mod value;

pub use combo::{Combo, KeyRef};
pub use effect::{Act, Armed, ArmedKey, Effect, EffectId, HintPlace, InputStep, Order, RunId};
pub use event::{App, Event};
pub use key::{Key, KeyKind, KeySetError};
pub use layout::{Group, Layout, Level, Repeat};
pub use modifiers::{Families, Family, Modifiers, Side};
pub use rules::{
    Again, Global, Manner, Parameter, Place, Routine, RoutineId, Rule, RuleSet, Settings, Trigger,
};
pub use time::Time;
pub use value::Value;
