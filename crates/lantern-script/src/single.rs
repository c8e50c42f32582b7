//! A combination or a value on its own, as a command line gives it.

use std::fmt;

use lantern_model::code::Expr;
use lantern_model::{KeyCombination, TriggerKind, Value};

use crate::{Source, check};

/// Why a text is no combination, and what to write instead; one line for people.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CombinationError(String);

impl fmt::Display for CombinationError {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(&self.0)
    }
}

impl std::error::Error for CombinationError {}

/// Reads a combination as a rule writes it.
///
/// ```
/// assert_eq!(lantern_script::parse_combo("ctrl+page-up").unwrap().to_string(), "ctrl+page-up");
/// assert!(lantern_script::parse_combo("ctrl+pageup").unwrap_err().to_string().contains("page-up"));
/// ```
///
/// # Errors
/// When the text is no combination; the error says what to write instead.
pub fn parse_combo(text: &str) -> Result<KeyCombination, CombinationError> {
    let text = text.trim();
    let rule = format!("when key {text} => log \"\"\n");
    let checked = check(&Source::new("", rule));
    let cause = checked.rules.filter(|_| is_alone(text)).and_then(|rules| {
        let rule = rules.rules.into_iter().next().filter(|rule| rule.condition.is_none())?;
        rule.triggers.into_iter().next().map(|trigger| trigger.kind)
    });
    match cause {
        Some(TriggerKind::Key { combo, .. }) => Ok(combo),
        _ => {
            let found = checked.findings.first();
            let why = found.map_or("no combination", |finding| finding.message.as_str());
            let help = found.and_then(|finding| finding.help.as_deref());
            Err(CombinationError(
                help.map_or_else(
                    || format!("{text}: {why}"),
                    |help| format!("{text}: {why}; {help}"),
                ),
            ))
        }
    }
}

/// Reads a number, truth, share, duration or time as the language writes it; nothing if it is none of
/// them.
///
/// ```
/// use lantern_model::Value;
/// assert_eq!(lantern_script::parse_value("12.5"), Some(Value::Number(12.5)));
/// assert_eq!(lantern_script::parse_value("core 12"), None);
/// ```
pub fn parse_value(text: &str) -> Option<Value> {
    let text = text.trim();
    let checked =
        check(&Source::new("", format!("let x = {text}\nwhen started => log \"{{x}}\"\n")));
    let rules = checked.rules.filter(|_| is_alone(text))?;
    match rules.globals.into_iter().next()?.initial {
        Expr::Value(value) => Some(value),
        _ => None,
    }
}

fn is_alone(text: &str) -> bool {
    !text.contains(['\n', '\r', ';', '{', '#'])
}
