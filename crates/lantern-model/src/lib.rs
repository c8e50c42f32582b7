//! The data types that all parts of Cold Lantern share.
//!
//! Time ([`Time`]), keys and their names, and keyboard layouts; what a back end reports ([`Event`]) and
//! what it is asked to do ([`Effect`]); the checked rules ([`RuleSet`]) between a file and the engine.
//!
//! Decides nothing: `lantern-script` reads the language, `lantern-engine` runs the rules, and the back
//! ends (`lantern-backend`) read and send input.

mod clock;
pub mod code;
mod command;
mod command_error;
mod device;
mod effect;
mod event;
mod key;
mod key_combination;
mod key_synonyms;
mod key_table;
mod layout;
mod layouts;
mod listening;
mod modifiers;
mod rules;
mod shape;
mod time;
mod trigger;
mod value;

pub use clock::{TimeOfDay, WallTime};
pub use command::{Command, CommandKind, OutputLevel, VolumeChange};
pub use command_error::{CommandError, CommandErrorKind, CommandResult};
pub use device::{
    Broker, ConnectionState, Device, DeviceId, DeviceKind, Secret, SecretTemplate,
    SecretTemplatePart, topic_fits,
};
pub use effect::{
    Corner, Effect, EffectId, EffectKind, GrabSet, Hint, HintContent, HintPlace, InputAction,
    InputBatch, KeyGrab, ReplayKey, RunId,
};
pub use event::{App, Event, Rect, Refusal};
pub use key::{Key, KeyKind, KeySetError};
pub use key_combination::{KeyCombination, KeySpec};
pub use key_synonyms::{is_combination, key_synonym};
pub use layout::{KeyRepeat, Layout, LayoutGroup, ShiftLevel};
pub use listening::{ActivePhrase, ListenMode, Listening, MicrophoneState};
pub use modifiers::{HeldModifiers, Modifier, ModifierKey, ModifierSet};
pub use rules::{
    Global, Parameter, ReentryPolicy, Routine, RoutineId, Rule, RuleId, RuleSet, Settings,
    SourceLocation, TriggerRef,
};
pub use shape::{Point, Shape, ShapeDescription, ShapeTolerance, StrokePath};
pub use time::Time;
pub use trigger::{ContextFilter, LayerId, LineTest, PressKind, Remap, Trigger, TriggerKind};
pub use value::Value;
