//! The values that triggers bring.

use std::collections::BTreeMap;

use lantern_model::Value;

/// A record of these parts.
pub(crate) fn record(
    parts: impl IntoIterator<Item = (&'static str, Value)>,
) -> BTreeMap<String, Value> {
    parts.into_iter().map(|(name, value)| (name.to_owned(), value)).collect()
}

/// A text.
pub(crate) fn text(text: &str) -> Value {
    Value::Text(text.to_owned())
}
