//! Lints: what may run but is hardly meant. Each is a function from the lowered set to findings.

mod alike;
mod call_cycles;
mod circles;
mod lonely_word;
mod loops;
mod never;
mod plain_key;
mod presses;
mod slow_typing;

use std::collections::BTreeSet;

use super::names::Names;
use super::{LoweredSet, Outside};
use crate::Finding;

pub(super) use call_cycles::call_cycles;

/// What a lint looks at.
pub(super) struct LintInput<'a> {
    pub lowered: &'a LoweredSet,
    pub names: &'a Names,
    /// Words of parts that could not be read; what they may have named is not reported missing.
    pub broken: &'a BTreeSet<String>,
    pub outside: Outside<'a>,
}

/// Adds what it finds.
type Lint = fn(&LintInput<'_>, &mut Vec<Finding>);

/// Every lint, in the order in which they run.
const LINTS: &[Lint] = &[
    never::never_firing,
    loops::busy_loops,
    presses::unreleased_presses,
    plain_key::plain_keys_taken,
    slow_typing::slow_typing,
    circles::trigger_cycles,
    lonely_word::single_word_phrases,
    lonely_word::missing_attention_word,
    lonely_word::missing_tokens,
    alike::alike_phrases,
    alike::alike_shapes,
];

/// The findings of all lints.
pub(super) fn lints(input: &LintInput<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for lint in LINTS {
        lint(input, &mut findings);
    }
    findings
}
