//! How rules, macros and values are written, as numbers: after a change of the file, what has the same
//! number goes on as it was.

use std::collections::BTreeSet;
use std::hash::{DefaultHasher, Hash, Hasher};

use super::Checker;
use crate::Span;

impl Checker<'_> {
    /// How a piece of text is written, blanks aside.
    pub(super) fn print_of(&self, span: Span) -> u64 {
        let mut hasher = DefaultHasher::new();
        for word in self.source.slice(span).split_whitespace() {
            word.hash(&mut hasher);
        }
        hasher.finish()
    }

    /// A rule or macro changes with the macros that it calls, straight or through others.
    pub(super) fn print_rules(&mut self) {
        let written: Vec<u64> = self.set.routines.iter().map(|routine| routine.print).collect();
        for id in 0..written.len() {
            if !self.set.routines[id].name.is_empty() {
                self.set.routines[id].print = self.print_with_called(written[id], id, &written);
            }
        }
        for rule in 0..self.set.rules.len() {
            let (own, body) = (self.set.rules[rule].print, self.set.rules[rule].body.0);
            self.set.rules[rule].print = self.print_with_called(own, body, &written);
        }
    }

    fn print_with_called(&self, own: u64, routine: usize, written: &[u64]) -> u64 {
        let mut seen = BTreeSet::new();
        let mut open = vec![routine];
        while let Some(routine) = open.pop() {
            let called = self.calls[routine].iter().map(|(id, _)| id.0);
            open.extend(called.filter(|id| seen.insert(*id)));
        }
        let mut hasher = DefaultHasher::new();
        own.hash(&mut hasher);
        for routine in seen {
            written[routine].hash(&mut hasher);
        }
        hasher.finish()
    }
}
