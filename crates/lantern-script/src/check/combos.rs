//! Combinations of keys, lowered.

use lantern_model::code::{Expr, KeyCombinationExpr, KeyTerm};

use super::Checker;
use super::kinds::ValueKind;
use crate::Finding;
use crate::codes::Code;
use crate::tree::{KeyCombinationSyntax, KeyPart};

impl Checker<'_> {
    /// A combination in a step or a value.
    pub(super) fn lower_combo(&mut self, combo: &KeyCombinationSyntax) -> KeyCombinationExpr {
        self.check_step_on_layout(combo);
        let mut terms = Vec::with_capacity(combo.parts.len());
        for part in &combo.parts {
            match part {
                KeyPart::Key(key, _) => terms.push(KeyTerm::Key(*key)),
                KeyPart::Value(value) => {
                    let expr: Expr = self.lower_kind(value, ValueKind::Key, "a key");
                    terms.push(KeyTerm::Value(expr));
                }
                KeyPart::Set(_, span) => self.say(
                    Finding::new(
                        Code::Unexpected,
                        *span,
                        "a set of keys cannot be pressed at once",
                    )
                    .label("name one key")
                    .help(
                        "sets stand in a rule's head, with `as NAME` for the one that was pressed",
                    ),
                ),
                KeyPart::Unread(_) => {}
            }
        }
        KeyCombinationExpr(terms)
    }
}
