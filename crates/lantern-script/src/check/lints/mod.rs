//! What may run but is hardly meant: each file looks for findings of one sort in the checked rules.

mod alike;
mod circles;
mod lonely_word;
mod loops;
mod never;
mod plain_key;
mod presses;
mod slow_typing;

use super::Checker;
use crate::Finding;

impl Checker<'_> {
    /// Findings on the rules as a whole.
    pub(super) fn lints(&self) -> Vec<Finding> {
        let mut findings = Vec::new();
        self.look_for_never_firing(&mut findings);
        self.look_for_busy_loops(&mut findings);
        self.look_for_lonely_presses(&mut findings);
        self.look_for_plain_keys(&mut findings);
        self.look_for_slow_typing(&mut findings);
        self.look_for_circles(&mut findings);
        self.look_for_lonely_words(&mut findings);
        self.look_for_open_ears(&mut findings);
        self.look_for_open_doors(&mut findings);
        self.look_for_alike_phrases(&mut findings);
        self.look_for_alike_shapes(&mut findings);
        findings
    }
}
