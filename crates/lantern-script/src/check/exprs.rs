//! Expressions: names found, kinds compared, lowered.

use std::time::Duration;

use lantern_model::code::{
    AssignTarget, Expr, Function, KeyCombinationExpr, KeyTerm, Operator, WorldQuery,
};
use lantern_model::{KeyCombination, Value};

use super::Checker;
use super::kinds::{self, ValueKind};
use super::needs::Need;
use crate::codes::Code;
use crate::tree::{self, ExprSyntaxKind, TextPart};
use crate::{Finding, near_name};

/// What stands for an expression that could not be read; it never runs.
pub(super) fn nothing() -> Expr {
    Expr::Value(Value::Truth(false))
}

impl Checker<'_> {
    /// Lowers an expression. Also returns the kind of its value.
    pub(super) fn lower_expr(&mut self, expr: &tree::ExprSyntax) -> (Expr, ValueKind) {
        match &expr.kind {
            ExprSyntaxKind::Value(value) => (Expr::Value(value.clone()), ValueKind::of(value)),
            ExprSyntaxKind::Text(parts) => (self.lower_text(parts), ValueKind::Text),
            ExprSyntaxKind::Name(word) => self.lower_name(word, expr),
            ExprSyntaxKind::Key(combo) => {
                let combo = self.lower_combo(combo);
                (
                    fixed_combo(&combo).map_or(Expr::KeyCombination(combo), Expr::Value),
                    ValueKind::Key,
                )
            }
            // A range alone in brackets is the list itself.
            ExprSyntaxKind::List(values) => match values.as_slice() {
                [range] if matches!(range.kind, ExprSyntaxKind::Range(..)) => {
                    self.lower_expr(range)
                }
                values => {
                    let values = values.iter().map(|value| self.lower_expr(value).0).collect();
                    (Expr::List(values), ValueKind::List)
                }
            },
            ExprSyntaxKind::Not(inner) => {
                let inner = self.lower_kind(inner, ValueKind::Truth, "true or false after `not`");
                (Expr::Not(Box::new(inner)), ValueKind::Truth)
            }
            ExprSyntaxKind::Negate(inner) => {
                let inner = self.lower_kind(inner, ValueKind::Number, "a number after `-`");
                (Expr::Negate(Box::new(inner)), ValueKind::Number)
            }
            ExprSyntaxKind::Binary(operator, left, right) => {
                self.lower_binary(*operator, left, right)
            }
            ExprSyntaxKind::IsDown(combos) => {
                let combos = combos.iter().map(|combo| self.lower_combo(combo)).collect();
                (Expr::IsDown(combos), ValueKind::Truth)
            }
            ExprSyntaxKind::Call(name, arguments) => self.lower_function(name, arguments),
            ExprSyntaxKind::Range(first, last) => {
                let first = self.lower_kind(first, ValueKind::Number, "a number before `..`");
                let last = self.lower_kind(last, ValueKind::Number, "a number after `..`");
                (Expr::Range(Box::new(first), Box::new(last)), ValueKind::List)
            }
            ExprSyntaxKind::Unread => (nothing(), ValueKind::Any),
        }
    }

    pub(super) fn lower_text(&mut self, parts: &[TextPart]) -> Expr {
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

    fn lower_name(&mut self, word: &str, expr: &tree::ExprSyntax) -> (Expr, ValueKind) {
        if word == "held" {
            if !self.names.asks_held {
                self.say(
                    Finding::new(Code::NoSuchName, expr.span, "`held` has no meaning here")
                        .label("no key is followed")
                        .help("it is known in the steps of a rule that says `while held`"),
                );
            }
            return (Expr::Query(WorldQuery::Held), ValueKind::Truth);
        }
        let part = word.split_once('.').and_then(|(thing, part)| {
            WorldQuery::PARTS
                .into_iter()
                .find(|(first, second, _)| (*first, *second) == (thing, part))
        });
        if let Some((_, _, asked)) = part {
            if asked.is_pointer() {
                self.need(Need::Pointer, expr.span);
            }
            return (Expr::Query(asked), kind_of_asked(asked));
        }
        let Some(found) = self.find_value(word, expr.span) else {
            return (nothing(), ValueKind::Any);
        };
        let mut value = match found.target {
            AssignTarget::Local(slot) => Expr::Local(slot),
            AssignTarget::Global(index) => Expr::Global(index),
        };
        let mut kind = found.kind;
        for part in found.parts.split('.').filter(|part| !part.is_empty()) {
            kind = self.kind_of_field(kind, part, expr);
            value = Expr::Field(Box::new(value), part.to_owned());
        }
        (value, kind)
    }

    fn kind_of_field(&mut self, kind: ValueKind, part: &str, expr: &tree::ExprSyntax) -> ValueKind {
        let record = match kind {
            ValueKind::Any => return ValueKind::Any,
            ValueKind::Record(record) => &self.records[record],
            other => {
                let message = format!("{} has no parts", other.words());
                let finding = Finding::new(Code::WrongKind, expr.span, message);
                self.say(finding.label(format!("there is no `{part}` in it")));
                return ValueKind::Any;
            }
        };
        if let Some(kind) = record.get(part) {
            return *kind;
        }
        let names: Vec<&str> = record.keys().map(String::as_str).collect();
        let near = near_name(part, names.iter().copied());
        let finding =
            Finding::new(Code::NoSuchName, expr.span, format!("there is no part `{part}`"))
                .label("no such part")
                .help(format!("the parts are {}", names.join(", ")))
                .maybe_help(near.map(|near| format!("did you mean `{near}`?")));
        self.say(finding);
        ValueKind::Any
    }

    fn lower_function(
        &mut self,
        name: &tree::Name,
        arguments: &[tree::ExprSyntax],
    ) -> (Expr, ValueKind) {
        let lowered: Vec<(Expr, ValueKind)> =
            arguments.iter().map(|argument| self.lower_expr(argument)).collect();
        let found = Function::ALL.into_iter().find(|(word, ..)| *word == name.text);
        let Some((word, function, counts)) = found else {
            let known = Function::ALL.into_iter().map(|(word, ..)| word).chain(["is-down"]);
            let near =
                near_name(&name.text, known).map(|near| format!("did you mean `{near}(...)`?"));
            self.say(
                Finding::new(
                    Code::NoSuchName,
                    name.span,
                    format!("nothing to ask is named `{}`", name.text),
                )
                .label("not known")
                .help("a macro gives no value; call it as a step of its own")
                .maybe_help(near),
            );
            return (nothing(), ValueKind::Any);
        };
        if !counts.contains(&lowered.len()) {
            let wanted = match (counts.start(), counts.end()) {
                (1, 1) => "one value".to_owned(),
                (from, to) if from == to => format!("{from} values"),
                (from, to) => format!("{from} or {to} values"),
            };
            let message = format!("`{word}` takes {wanted}, not {}", lowered.len());
            self.say(Finding::new(Code::WrongCount, name.span, message).label("called here"));
            return (nothing(), ValueKind::Any);
        }
        let wanted = match function {
            Function::Random | Function::Round => Some(ValueKind::Number),
            Function::Upper | Function::Lower | Function::Trim | Function::Number => {
                Some(ValueKind::Text)
            }
            Function::Length
            | Function::First
            | Function::Last
            | Function::ShellWord
            | Function::PathSegment => None,
        };
        for ((_, kind), argument) in lowered.iter().zip(arguments) {
            let listed = matches!(kind, ValueKind::List | ValueKind::Text | ValueKind::Any);
            let fits = wanted.map_or(listed, |wanted| kind.fits(wanted));
            if !fits {
                let needed = wanted.map_or("a list or a text", ValueKind::words);
                let message = format!("`{word}` needs {needed}, not {}", kind.words());
                self.say(Finding::new(Code::WrongKind, argument.span, message).label(kind.words()));
            }
        }
        let kind = match function {
            Function::Random | Function::Round | Function::Length | Function::Number => {
                ValueKind::Number
            }
            Function::Upper
            | Function::Lower
            | Function::Trim
            | Function::ShellWord
            | Function::PathSegment => ValueKind::Text,
            Function::First | Function::Last => ValueKind::Any,
        };
        (Expr::Call(function, lowered.into_iter().map(|(expr, _)| expr).collect()), kind)
    }

    fn lower_binary(
        &mut self,
        operator: Operator,
        left: &tree::ExprSyntax,
        right: &tree::ExprSyntax,
    ) -> (Expr, ValueKind) {
        let (left_expr, left_kind) = self.lower_expr(left);
        let (right_expr, right_kind) = self.lower_expr(right);
        if let (Operator::Matches, Expr::Value(Value::Text(pattern))) = (operator, &right_expr) {
            self.check_pattern(pattern, right.span);
        }
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
            if left_kind == ValueKind::Key || right_kind == ValueKind::Key {
                finding = finding.help("a key as a value is written `key up`");
            } else if left_kind == ValueKind::Text || right_kind == ValueKind::Text {
                finding = finding.help("to put a value into a text write `\"{value}\"`");
            }
            self.say(finding);
            ValueKind::Any
        });
        (Expr::Binary(operator, Box::new(left_expr), Box::new(right_expr)), kind)
    }

    /// An expression that must give `wanted`.
    pub(super) fn lower_kind(
        &mut self,
        expr: &tree::ExprSyntax,
        wanted: ValueKind,
        what: &str,
    ) -> Expr {
        let (lowered, kind) = self.lower_expr(expr);
        if !kind.fits(wanted) {
            let finding = Finding::new(
                Code::WrongKind,
                expr.span,
                format!("expected {what}, found {}", kind.words()),
            )
            .label(kind.words());
            let finding = match (wanted, &lowered) {
                (ValueKind::Duration, Expr::Value(Value::Number(number))) => {
                    finding.help(format!("write the unit: `{number}ms` or `{number}s`"))
                }
                (ValueKind::Share, Expr::Value(Value::Number(number))) => {
                    let text = format!("{number}%");
                    finding.help(format!("write `{text}`")).fix(expr.span, text)
                }
                (ValueKind::Number, Expr::Value(Value::Duration(span))) => {
                    finding.help(format!("leave the unit away: `{}`", short_number(*span)))
                }
                (ValueKind::Key, Expr::Value(Value::Text(text))) => {
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
        expr: Option<&tree::ExprSyntax>,
        wanted: ValueKind,
        what: &str,
    ) -> Option<Expr> {
        expr.map(|expr| self.lower_kind(expr, wanted, what))
    }

    /// A text, or anything that can be shown as one.
    pub(super) fn lower_shown(&mut self, expr: &tree::ExprSyntax) -> Expr {
        self.lower_expr(expr).0
    }
}

fn short_number(span: Duration) -> f64 {
    if span.subsec_nanos() == 0 { span.as_secs_f64() } else { span.as_secs_f64() * 1000.0 }
}

fn fixed_combo(combo: &KeyCombinationExpr) -> Option<Value> {
    let keys = combo.0.iter().map(|term| match term {
        KeyTerm::Key(key) => Some(*key),
        KeyTerm::Value(_) => None,
    });
    keys.collect::<Option<Vec<_>>>().map(|keys| Value::Key(KeyCombination(keys)))
}

fn kind_of_asked(asked: WorldQuery) -> ValueKind {
    match asked {
        WorldQuery::Held | WorldQuery::PhysicalKeys => ValueKind::Truth,
        WorldQuery::WindowApp | WorldQuery::WindowTitle | WorldQuery::Weekday => ValueKind::Text,
        WorldQuery::TimeOfDay => ValueKind::Time,
        _ => ValueKind::Number,
    }
}
