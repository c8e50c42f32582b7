//! Keys and texts held against a layout.

use lantern_model::{KeyCombination, KeySpec, TriggerKind};

use super::Checker;
use crate::codes::Code;
use crate::tree::{self, ExprSyntaxKind, TextPart};
use crate::{Finding, Span};

impl Checker<'_> {
    /// Says which keys of a trigger the layout lacks.
    pub(super) fn check_cause_on_layout(&mut self, cause: &TriggerKind, span: Span) {
        match cause {
            TriggerKind::Key { combo, .. } => self.check_combo_on_layout(combo, span),
            TriggerKind::Keys { combos, .. } => {
                combos.iter().for_each(|combo| self.check_combo_on_layout(combo, span));
            }
            TriggerKind::Typed(text) => self.check_text_on_layout(text, span),
            _ => {}
        }
    }

    fn check_combo_on_layout(&mut self, combo: &KeyCombination, span: Span) {
        let Some((layout, name)) = &self.layout else { return };
        if let Err(key) = layout.press_order(combo) {
            let message = format!("the layout {name} has no key for {key}");
            self.say(
                Finding::new(Code::NotOnLayout, span, message)
                    .label("not on this keyboard")
                    .help("name a position on the keyboard, such as <KeyQ>, or another key"),
            );
        }
    }

    /// Says which keys of a step the layout lacks; a character alone is typed without a key.
    pub(super) fn check_step_on_layout(&mut self, combo: &tree::KeyCombinationSyntax) {
        if let Some(fixed) = combo.fixed()
            && !matches!(fixed.0.as_slice(), [KeySpec::Character(_)])
        {
            self.check_combo_on_layout(&fixed, combo.span);
        }
    }

    /// Says which characters of a typed text the layout lacks.
    pub(super) fn check_typed_on_layout(&mut self, text: &tree::ExprSyntax) {
        if let ExprSyntaxKind::Text(parts) = &text.kind {
            for part in parts {
                if let TextPart::Literal(literal) = part {
                    self.check_text_on_layout(literal, text.span);
                }
            }
        }
    }

    fn check_text_on_layout(&mut self, text: &str, span: Span) {
        let Some((layout, name)) = &self.layout else { return };
        let mut lacking: Vec<char> =
            text.chars().filter(|c| layout.group().key_for(*c).is_none()).collect();
        lacking.sort_unstable();
        lacking.dedup();
        if !lacking.is_empty() {
            let shown: Vec<String> = lacking.iter().map(|c| format!("`{c}`")).collect();
            let message = format!("the layout {name} does not type {}", shown.join(", "));
            self.say(
                Finding::new(Code::NotOnLayout, span, message)
                    .label("typed by lending keys, which slow programs may miss")
                    .help("`paste` brings any text at once, whatever the layout"),
            );
        }
    }
}
