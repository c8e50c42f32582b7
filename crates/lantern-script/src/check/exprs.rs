//! Expressions: names found, kinds compared, lowered.

use std::time::Duration;

use lantern_model::code::{ComboExpr, Expr, KeyTerm, Operator};
use lantern_model::{Combo, Value};

use super::Checker;
use super::kinds::{self, Kind};
use super::names::FoundValue;
use crate::Finding;
use crate::codes::Code;
use crate::tree::{self, ExprKind, TextPart};

/// What stands for an expression that could not be read; it never runs.
pub(super) fn nothing() -> Expr {
    Expr::Value(Value::Truth(false))
}

impl Checker<'_> {
    /// An expression and the kind of its value, as far as it is known.
    pub(super) fn lower_expr(&mut self, expr: &tree::Expr) -> (Expr, Kind) {
        match &expr.kind {
            ExprKind::Value(value) => (Expr::Value(value.clone()), Kind::of(value)),
            ExprKind::Text(parts) => (self.lower_text(parts), Kind::Text),
            ExprKind::Name(word) => self.lower_name(word, expr),
            ExprKind::Key(combo) => {
                let combo = self.lower_combo(combo);
                (fixed_combo(&combo).map_or(Expr::Combo(combo), Expr::Value), Kind::Key)
            }
            ExprKind::List(values) => {
                let values = values.iter().map(|value| self.lower_expr(value).0).collect();
                (Expr::List(values), Kind::List)
            }
            ExprKind::Not(inner) => {
                let inner = self.lower_kind(inner, Kind::Truth, "true or false after `not`");
                (Expr::Not(Box::new(inner)), Kind::Truth)
            }
            ExprKind::Negate(inner) => {
                let inner = self.lower_kind(inner, Kind::Number, "a number after `-`");
                (Expr::Negate(Box::new(inner)), Kind::Number)
            }
            ExprKind::Binary(operator, left, right) => self.lower_binary(*operator, left, right),
            ExprKind::IsDown(combos) => {
                let combos = combos.iter().map(|combo| self.lower_combo(combo)).collect();
                (Expr::IsDown(combos), Kind::Truth)
            }
            ExprKind::Unread => (nothing(), Kind::Any),
        }
    }

    fn lower_text(&mut self, parts: &[TextPart]) -> Expr {
        match parts {
            [] => Expr::Value(Value::Text(String::new())),
            [TextPart::Literal(text)] => Expr::Value(Value::Text(text.clone())),
            parts => Expr::Text(
                parts
                    .iter()
                    .map(|part| match part {
                        TextPart::Literal(text) => Expr::Value(Value::Text(text.clone())),
                        TextPart::Value(value) => self.lower_expr(value).0,
                    })
                    .collect(),
            ),
        }
    }

    fn lower_name(&mut self, word: &str, expr: &tree::Expr) -> (Expr, Kind) {
        if word == "held" {
            if !self.names.asks_held {
                self.say(
                    Finding::new(Code::NoSuchName, expr.span, "`held` has no meaning here")
                        .label("no key is followed")
                        .help("it is known in the steps of a rule that says `while held`"),
                );
            }
            return (Expr::Held, Kind::Truth);
        }
        match self.find_value(word, expr.span) {
            Some(FoundValue::Local(slot, kind)) => (Expr::Local(slot), kind),
            Some(FoundValue::Global(index, kind)) => (Expr::Global(index), kind),
            None => (nothing(), Kind::Any),
        }
    }

    fn lower_binary(
        &mut self,
        operator: Operator,
        left: &tree::Expr,
        right: &tree::Expr,
    ) -> (Expr, Kind) {
        let (left_expr, left_kind) = self.lower_expr(left);
        let (right_expr, right_kind) = self.lower_expr(right);
        let kind = kinds::binary(operator, left_kind, right_kind).unwrap_or_else(|| {
            let message = format!(
                "`{}` does not go between {} and {}",
                operator.symbol(),
                left_kind.words(),
                right_kind.words()
            );
            let mut finding = Finding::new(Code::WrongKind, right.span, message)
                .label(right_kind.words())
                .other(left.span, left_kind.words());
            if left_kind == Kind::Key || right_kind == Kind::Key {
                finding = finding.help("a key as a value is written `key up`");
            } else if left_kind == Kind::Text || right_kind == Kind::Text {
                finding = finding.help("to put a value into a text write `\"{value}\"`");
            }
            self.say(finding);
            Kind::Any
        });
        (Expr::Binary(operator, Box::new(left_expr), Box::new(right_expr)), kind)
    }

    /// An expression that must give `wanted`.
    pub(super) fn lower_kind(&mut self, expr: &tree::Expr, wanted: Kind, what: &str) -> Expr {
        let (lowered, kind) = self.lower_expr(expr);
        if !kind.fits(wanted) {
            let finding = Finding::new(
                Code::WrongKind,
                expr.span,
                format!("expected {what}, found {}", kind.words()),
            )
            .label(kind.words());
            let finding = match (wanted, &lowered) {
                (Kind::Duration, Expr::Value(Value::Number(number))) => {
                    finding.help(format!("write the unit: `{number}ms` or `{number}s`"))
                }
                (Kind::Number, Expr::Value(Value::Duration(span))) => {
                    finding.help(format!("leave the unit away: `{}`", short_number(*span)))
                }
                (Kind::Key, Expr::Value(Value::Text(text))) => {
                    finding.help(format!("a key is written `key {text}`"))
                }
                _ => finding,
            };
            self.say(finding);
        }
        lowered
    }

    /// An optional expression that must give `wanted`.
    pub(super) fn lower_optional(
        &mut self,
        expr: Option<&tree::Expr>,
        wanted: Kind,
        what: &str,
    ) -> Option<Expr> {
        expr.map(|expr| self.lower_kind(expr, wanted, what))
    }

    /// A text, or anything that can be shown as one.
    pub(super) fn lower_shown(&mut self, expr: &tree::Expr) -> Expr {
        self.lower_expr(expr).0
    }
}

fn short_number(span: Duration) -> f64 {
    if span.subsec_nanos() == 0 { span.as_secs_f64() } else { span.as_secs_f64() * 1000.0 }
}

fn fixed_combo(combo: &ComboExpr) -> Option<Value> {
    let keys = combo.0.iter().map(|term| match term {
        KeyTerm::Key(key) => Some(*key),
        KeyTerm::Value(_) => None,
    });
    keys.collect::<Option<Vec<_>>>().map(|keys| Value::Key(Combo(keys)))
}
