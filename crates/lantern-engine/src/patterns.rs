//! Regular expressions that conditions use, compiled once.

use std::cell::RefCell;
use std::collections::BTreeMap;

use regex::Regex;

use crate::step_error::Evaluated;

/// Most patterns that are kept. A pattern that is made at run time is another one each time.
const KEPT: usize = 64;

/// Maximum length of a pattern in bytes: it is compiled on the event loop.
const LONGEST: usize = 4096;

/// Compiled patterns by their text.
#[derive(Debug, Default)]
pub(crate) struct Patterns {
    known: RefCell<BTreeMap<String, Regex>>,
}

impl Patterns {
    /// Whether the pattern fits somewhere in a text.
    ///
    /// # Errors
    /// When the pattern is no regular expression.
    pub(crate) fn fits(&self, pattern: &str, text: &str) -> Evaluated<bool> {
        if let Some(regex) = self.known.borrow().get(pattern) {
            return Ok(regex.is_match(text));
        }
        if pattern.len() > LONGEST {
            return Err(format!(
                "this pattern has {} bytes; one has at most {LONGEST}",
                pattern.len()
            )
            .into());
        }
        let regex = Regex::new(pattern).map_err(|_| {
            format!("{:?} is no pattern", pattern.chars().take(80).collect::<String>())
        })?;
        let fits = regex.is_match(text);
        let mut known = self.known.borrow_mut();
        if known.len() >= KEPT {
            known.clear();
        }
        known.insert(pattern.to_owned(), regex);
        Ok(fits)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pattern_is_compiled_once_and_the_number_kept_is_bounded() {
        let patterns = Patterns::default();
        for _ in 0..100 {
            assert_eq!(patterns.fits("^core [0-9]+", "core 12"), Ok(true));
            assert_eq!(patterns.fits("^core [0-9]+", "drill 12"), Ok(false));
        }
        assert_eq!(patterns.known.borrow().len(), 1);
        for number in 0..KEPT + 20 {
            assert_eq!(patterns.fits(&format!("^{number}$"), &number.to_string()), Ok(true));
            assert!(patterns.known.borrow().len() <= KEPT);
        }
        assert!(patterns.fits("(core", "core").is_err());
        assert!(patterns.fits(&"x".repeat(LONGEST + 1), "core").is_err());
    }
}
