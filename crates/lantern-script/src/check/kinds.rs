//! Kinds of values that are known before the rules run.

use lantern_model::Value;
use lantern_model::code::Operator;

/// What sort of value an expression gives.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum ValueKind {
    Number,
    Text,
    Truth,
    Duration,
    Share,
    Key,
    Time,
    List,
    /// A record, by the number of its description.
    Record(usize),
    /// Known only when it runs.
    Any,
}

impl ValueKind {
    pub(super) fn of(value: &Value) -> ValueKind {
        match value {
            Value::Number(_) => ValueKind::Number,
            Value::Text(_) => ValueKind::Text,
            Value::Truth(_) => ValueKind::Truth,
            Value::Duration(_) => ValueKind::Duration,
            Value::Share(_) => ValueKind::Share,
            Value::Key(_) => ValueKind::Key,
            Value::Time(_) => ValueKind::Time,
            Value::List(_) => ValueKind::List,
            Value::Record(_) => ValueKind::Any,
        }
    }

    pub(super) fn words(self) -> &'static str {
        match self {
            ValueKind::Number => "a number",
            ValueKind::Text => "a text",
            ValueKind::Truth => "true or false",
            ValueKind::Duration => "a duration",
            ValueKind::Share => "a share",
            ValueKind::Key => "a key",
            ValueKind::Time => "a time of day",
            ValueKind::List => "a list",
            ValueKind::Record(_) => "a record",
            ValueKind::Any => "a value",
        }
    }

    pub(super) fn fits(self, wanted: ValueKind) -> bool {
        let records = matches!((self, wanted), (ValueKind::Record(_), ValueKind::Record(_)));
        self == wanted || self == ValueKind::Any || wanted == ValueKind::Any || records
    }
}

/// The kind of `left operator right`, or nothing if it cannot be.
pub(super) fn binary(operator: Operator, left: ValueKind, right: ValueKind) -> Option<ValueKind> {
    use ValueKind::{Any, Duration, List, Number, Share, Text, Time, Truth};
    if left == Any && right == Any {
        return Some(result_of(operator));
    }
    let known = if left == Any { right } else { left };
    let same = left.fits(right);
    match operator {
        Operator::And | Operator::Or => (left.fits(Truth) && right.fits(Truth)).then_some(Truth),
        Operator::Equal | Operator::Unequal => same.then_some(Truth),
        Operator::Less | Operator::LessOrEqual | Operator::Greater | Operator::GreaterOrEqual => {
            (same && matches!(known, Number | Duration | Share | Time)).then_some(Truth)
        }
        Operator::Add => {
            (same && matches!(known, Number | Duration | Share | Text)).then_some(known)
        }
        Operator::Subtract => (same && matches!(known, Number | Duration | Share)).then_some(known),
        Operator::Multiply => match (left, right) {
            (Duration, Number | Any) | (Number | Any, Duration) => Some(Duration),
            (Share, Number | Any) | (Number | Any, Share) => Some(Share),
            (Number, Any) | (Any, Number) => Some(Any),
            (Number, Number) => Some(Number),
            _ => None,
        },
        Operator::Divide => match (left, right) {
            (Duration, Duration) | (Number, Number) => Some(Number),
            (Duration, Number) => Some(Duration),
            (Share, Number) => Some(Share),
            (Any, Number | Duration) | (Number | Duration | Share, Any) => Some(Any),
            _ => None,
        },
        Operator::Remainder => (left.fits(Number) && right.fits(Number)).then_some(Number),
        Operator::Matches => (left.fits(Text) && right.fits(Text)).then_some(Truth),
        Operator::Contains => {
            (left == List || left == Any || left == Text && right.fits(Text)).then_some(Truth)
        }
    }
}

fn result_of(operator: Operator) -> ValueKind {
    match operator {
        Operator::Add | Operator::Subtract | Operator::Multiply | Operator::Divide => {
            ValueKind::Any
        }
        Operator::Remainder => ValueKind::Number,
        _ => ValueKind::Truth,
    }
}
