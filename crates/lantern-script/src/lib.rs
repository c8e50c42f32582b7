//! The Lantern language: from the text a person writes to rules that may run.
//!
//! Owns the form of the language ([`lex`], [`parse`]), its meaning ([`check`]), everything that can
//! be wrong in a file ([`Finding`], [`codes`]), how that is shown ([`render`]), and rehearsal
//! scenes ([`scene`]). It knows nothing of how rules run and reads no files: texts are handed in.

mod check;
pub mod codes;
mod finding;
mod format;
mod lexer;
mod parser;
mod powers;
mod render;
mod scene_model;
mod single;
mod source;
mod token;
pub mod tree;

pub use check::{
    Checked, Drawings, Need, NoDrawings, Outside, check, check_with, lacking_on_layout,
    wanted_files,
};
pub use finding::{Finding, Fix, distance, near_name};
pub use format::format;
pub use lexer::lex;
pub use parser::{keys::range_advice, parse, words::RESERVED as RESERVED_WORDS};
pub use powers::{Power, PowerKind, given_values, powers};
pub use render::render;
pub use single::{parse_combo, parse_value};
pub use source::{Source, Span};
pub use token::{Sign, Token, TokenKind};

pub mod scene {
    //! Rehearsal scenes: their form, and reading one.

    pub use crate::parser::scene::parse_scene;
    pub use crate::scene_model::*;
}
