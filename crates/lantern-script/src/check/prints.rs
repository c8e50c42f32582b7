//! Fingerprints of the text of rules, macros and values. After a change of the file, items with the same
//! fingerprint keep their state.

use std::hash::{DefaultHasher, Hash, Hasher};

use super::{Checker, graph};
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

    /// A rule or macro changes with the macros that it calls, directly or through others.
    pub(super) fn print_rules(&mut self) {
        let calls: Vec<Vec<usize>> = self
            .lowered
            .calls
            .iter()
            .map(|calls| calls.iter().map(|(id, _)| id.0).collect())
            .collect();
        let written: Vec<u64> =
            self.lowered.set.routines.iter().map(|routine| routine.fingerprint).collect();
        let called = prints_of_called(&calls, &written);
        for (routine, called) in self.lowered.set.routines.iter_mut().zip(&called) {
            if !routine.name.is_empty() {
                routine.fingerprint = hash_of(&(routine.fingerprint, called));
            }
        }
        for rule in &mut self.lowered.set.rules {
            rule.fingerprint = hash_of(&(rule.fingerprint, called[rule.body.0]));
        }
    }
}

/// For each routine, how it and all that it calls are written. Routines that call each other in a
/// ring have one number.
fn prints_of_called(calls: &[Vec<usize>], written: &[u64]) -> Vec<u64> {
    let component = graph::components(calls);
    let mut members = vec![Vec::new(); component.iter().max().map_or(0, |last| last + 1)];
    for (routine, number) in component.iter().enumerate() {
        members[*number].push(routine);
    }
    // What a component calls has a smaller number than itself.
    let mut prints: Vec<u64> = Vec::with_capacity(members.len());
    for (number, members) in members.iter().enumerate() {
        let mut own: Vec<u64> = members.iter().map(|routine| written[*routine]).collect();
        let called = members.iter().flat_map(|routine| &calls[*routine]);
        let outside = called.map(|routine| component[*routine]).filter(|other| *other != number);
        let mut outside: Vec<u64> = outside.map(|other| prints[other]).collect();
        own.sort_unstable();
        outside.sort_unstable();
        outside.dedup();
        prints.push(hash_of(&(own, outside)));
    }
    component.iter().map(|number| prints[*number]).collect()
}

fn hash_of(value: &impl Hash) -> u64 {
    let mut hasher = DefaultHasher::new();
    value.hash(&mut hasher);
    hasher.finish()
}
