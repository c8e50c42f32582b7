//! Values a rule works with.

use std::collections::BTreeMap;
use std::fmt;
use std::time::Duration;

use crate::{KeyCombination, TimeOfDay};

/// A value at run time.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// A number.
    Number(f64),
    /// A text.
    Text(String),
    /// True or false.
    Truth(bool),
    /// A length of time.
    Duration(Duration),
    /// A share, `10%`, kept as 0.1.
    Share(f64),
    /// A key or keys pressed together.
    Key(KeyCombination),
    /// A time of day.
    Time(TimeOfDay),
    /// Several values.
    List(Vec<Value>),
    /// Values by their names.
    Record(BTreeMap<String, Value>),
}

impl Value {
    /// The kind's name in messages, with its article.
    pub const fn kind(&self) -> &'static str {
        match self {
            Value::Number(_) => "a number",
            Value::Text(_) => "a text",
            Value::Truth(_) => "true or false",
            Value::Duration(_) => "a duration",
            Value::Share(_) => "a share",
            Value::Key(_) => "a key",
            Value::Time(_) => "a time of day",
            Value::List(_) => "a list",
            Value::Record(_) => "a record",
        }
    }
}

impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            // Nine places hide what binary fractions cannot say: 0.1 * 3 is shown as 0.3.
            Value::Number(number) => write!(f, "{}", (number * 1e9).round() / 1e9),
            Value::Text(text) => f.write_str(text),
            Value::Truth(truth) => write!(f, "{truth}"),
            Value::Duration(span) => fmt_duration(*span, f),
            Value::Share(share) => write!(f, "{}%", (share * 1e9).round() / 1e7),
            Value::Key(combo) => write!(f, "{combo}"),
            Value::Time(time) => write!(f, "{time}"),
            Value::Record(fields) => {
                for (index, (name, value)) in fields.iter().enumerate() {
                    if index > 0 {
                        f.write_str(", ")?;
                    }
                    write!(f, "{name} {value}")?;
                }
                Ok(())
            }
            Value::List(values) => {
                for (index, value) in values.iter().enumerate() {
                    if index > 0 {
                        f.write_str(", ")?;
                    }
                    write!(f, "{value}")?;
                }
                Ok(())
            }
        }
    }
}

fn fmt_duration(span: Duration, f: &mut fmt::Formatter<'_>) -> fmt::Result {
    let millis = span.as_secs_f64() * 1000.0;
    match span.as_millis() {
        0..1_000 => write!(f, "{millis}ms"),
        1_000..60_000 => write!(f, "{}s", millis / 1000.0),
        60_000..3_600_000 => write!(f, "{}min", millis / 60_000.0),
        _ => write!(f, "{}h", millis / 3_600_000.0),
    }
}
