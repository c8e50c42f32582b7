//! What may run but is hardly meant: each file looks for findings of one sort in the checked rules.

mod circles;
mod loops;
mod never;
mod phrases;
mod presses;
mod typing;

use super::Checker;

impl Checker<'_> {
    /// Looks at the rules as a whole, once nothing stands against running them.
    pub(super) fn check_lints(&mut self) {
        let mut findings = Vec::new();
        self.look_for_never_firing(&mut findings);
        self.look_for_busy_loops(&mut findings);
        self.look_for_lonely_presses(&mut findings);
        self.look_for_slow_typing(&mut findings);
        self.look_for_circles(&mut findings);
        self.look_for_alike_phrases(&mut findings);
        self.findings.append(&mut findings);
    }
}
