//! Lints: what may run but is hardly meant. Each is a function from the lowered set to findings.

mod alike;
mod busy_loops;
mod call_cycles;
mod exposed_triggers;
mod never_firing;
mod plain_key;
mod slow_typing;
mod trigger_cycles;
mod unreleased_presses;

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
    never_firing::never_firing,
    busy_loops::busy_loops,
    unreleased_presses::unreleased_presses,
    plain_key::plain_keys_taken,
    slow_typing::slow_typing,
    trigger_cycles::trigger_cycles,
    exposed_triggers::single_word_phrases,
    exposed_triggers::missing_attention_word,
    exposed_triggers::missing_tokens,
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
