//! Kinds of values that are known before the rules run.

use lantern_model::Value;
use lantern_model::code::Operator;

/// What sort of value an expression gives.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
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

impl Kind {
    pub(super) fn of(value: &Value) -> Kind {
        match value {
            Value::Number(_) => Kind::Number,
            Value::Text(_) => Kind::Text,
            Value::Truth(_) => Kind::Truth,
            Value::Duration(_) => Kind::Duration,
            Value::Share(_) => Kind::Share,
            Value::Key(_) => Kind::Key,
            Value::Time(_) => Kind::Time,
            Value::List(_) => Kind::List,
            Value::Record(_) => Kind::Any,
        }
    }

    pub(super) fn words(self) -> &'static str {
        match self {
            Kind::Number => "a number",
            Kind::Text => "a text",
            Kind::Truth => "true or false",
            Kind::Duration => "a duration",
            Kind::Share => "a share",
            Kind::Key => "a key",
            Kind::Time => "a time of day",
            Kind::List => "a list",
            Kind::Record(_) => "a record",
            Kind::Any => "a value",
        }
    }

    pub(super) fn fits(self, wanted: Kind) -> bool {
        let records = matches!((self, wanted), (Kind::Record(_), Kind::Record(_)));
        self == wanted || self == Kind::Any || wanted == Kind::Any || records
    }
}

/// The kind of `left operator right`, or nothing if it cannot be.
pub(super) fn binary(operator: Operator, left: Kind, right: Kind) -> Option<Kind> {
    use Kind::{Any, Duration, List, Number, Share, Text, Time, Truth};
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

fn result_of(operator: Operator) -> Kind {
    match operator {
        Operator::Add | Operator::Subtract | Operator::Multiply | Operator::Divide => Kind::Any,
        Operator::Remainder => Kind::Number,
        _ => Kind::Truth,
    }
}
