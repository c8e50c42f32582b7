//! Rules on lines of one device: which of them a line fits.

use std::collections::BTreeMap;

use lantern_model::{LineTest, TriggerRef, Value};
use regex::{Regex, RegexSet, RegexSetBuilder};

use crate::payload::text;

/// Maximum size in bytes of the automaton that all patterns of a device make together. Above it each
/// pattern is tried on its own.
pub(crate) const SET_SIZE: usize = 32 << 20;

/// The rules on lines of one device. A line is searched once for all their patterns.
#[derive(Debug, Default)]
pub(crate) struct LineRules {
    rules: Vec<LineRule>,
    /// The patterns of `rules` in their order, once [`LineRules::join_patterns`] was called.
    patterns: Option<RegexSet>,
}

#[derive(Debug)]
struct LineRule {
    trigger: TriggerRef,
    test: Test,
}

#[derive(Debug)]
enum Test {
    Any,
    /// The line is this, without spaces around it.
    Is(String),
    Contains(String),
    /// The line fits the pattern, which has this place among the patterns.
    Matches(Regex, usize),
}

impl LineRules {
    /// Adds a rule. A test that is no pattern is never met; the checker refuses it.
    pub(crate) fn add(&mut self, trigger: TriggerRef, test: Option<&LineTest>) {
        let place = self.patterns().count();
        let test = match test {
            None => Test::Any,
            Some(LineTest::Is(wanted)) => Test::Is(wanted.trim().to_owned()),
            Some(LineTest::Contains(part)) => Test::Contains(part.clone()),
            Some(LineTest::Matches(pattern)) => match Regex::new(pattern) {
                Ok(regex) => Test::Matches(regex, place),
                Err(_) => return,
            },
        };
        self.rules.push(LineRule { trigger, test });
    }

    /// Prepares the search for all patterns at once, if their automaton has at most `size` bytes.
    pub(crate) fn join_patterns(&mut self, size: usize) {
        let patterns: Vec<String> = self.patterns().map(|regex| regex.to_string()).collect();
        let mut builder = RegexSetBuilder::new(patterns);
        self.patterns = builder.size_limit(size).dfa_size_limit(size).build().ok();
    }

    /// The rules that a line fits, in their order, each with what the line gives it.
    pub(crate) fn fitting<'a>(
        &'a self,
        line: &'a str,
    ) -> impl Iterator<Item = (TriggerRef, BTreeMap<String, Value>)> + 'a {
        let found = self.patterns.as_ref().map(|patterns| patterns.matches(line));
        let trimmed = line.trim();
        self.rules.iter().filter_map(move |rule| {
            let mut fields = BTreeMap::new();
            let fits = match &rule.test {
                Test::Any => true,
                Test::Is(wanted) => trimmed == wanted,
                Test::Contains(part) => line.contains(part.as_str()),
                Test::Matches(regex, place) => {
                    found.as_ref().is_none_or(|found| found.matched(*place))
                        && take_parts(regex, line, &mut fields)
                }
            };
            fits.then(|| {
                fields.entry("text".to_owned()).or_insert_with(|| text(line));
                (rule.trigger, fields)
            })
        })
    }

    fn patterns(&self) -> impl Iterator<Item = &Regex> {
        self.rules.iter().filter_map(|rule| match &rule.test {
            Test::Matches(regex, _) => Some(regex),
            _ => None,
        })
    }
}

/// Puts what the pattern's groups took into `fields`; whether the pattern fits.
fn take_parts(regex: &Regex, line: &str, fields: &mut BTreeMap<String, Value>) -> bool {
    let Some(captures) = regex.captures(line) else { return false };
    for (number, name) in regex.capture_names().enumerate().skip(1) {
        let name = match name {
            Some(name) => name.replace('_', "-"),
            None => format!("part-{number}"),
        };
        let taken = captures.get(number).map_or("", |taken| taken.as_str());
        fields.insert(name, text(taken));
    }
    true
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rules(tests: &[Option<LineTest>]) -> LineRules {
        let mut rules = LineRules::default();
        for (number, test) in tests.iter().enumerate() {
            let trigger = TriggerRef { rule: lantern_model::RuleId(number), trigger: 0 };
            rules.add(trigger, test.as_ref());
        }
        rules
    }

    #[test]
    fn a_line_is_searched_for_all_patterns_at_once_or_for_each_where_they_are_too_large() {
        let matches = |pattern: &str| Some(LineTest::Matches(pattern.to_owned()));
        let tests = [
            matches("^core (?<number>[0-9]+)"),
            Some(LineTest::Contains("ore".to_owned())),
            matches("^drill"),
            matches("([0-9])$"),
            Some(LineTest::Is("core 12".to_owned())),
            None,
        ];
        let mut rules = rules(&tests);
        for size in [0, SET_SIZE] {
            rules.join_patterns(size);
            assert_eq!(rules.patterns.is_some(), size > 0);
            let found: Vec<_> = rules.fitting("core 12").collect();
            let fit: Vec<usize> = found.iter().map(|(trigger, _)| trigger.rule.0).collect();
            assert_eq!(fit, [0, 1, 3, 4, 5]);
            assert_eq!(found[0].1["number"], text("12"));
            assert_eq!(found[2].1["part-1"], text("2"));
            assert!(found.iter().all(|(_, fields)| fields["text"] == text("core 12")));
        }
    }
}
