//! Failures and stops as notices of the desktop: a session started at login has no terminal.

use std::collections::BTreeMap;
use std::time::Duration;

use lantern_engine::{Decision, DecisionKind, Engine};
use lantern_model::{RuleId, RuleSet, Time};

use crate::text::describe;

/// A rule that fails again within this time gets no other notice.
const BETWEEN_NOTICES: Duration = Duration::from_secs(60);

/// What a person gets notices of.
#[derive(Debug, Default)]
pub(super) struct NewNotices {
    /// Each a summary, a line feed, and more words.
    pub(super) texts: Vec<String>,
    /// Whether the panic combination is among the decisions, with a notice or without.
    pub(super) is_panic: bool,
}

/// Which decisions were made into notices so far.
#[derive(Debug, Default)]
pub(super) struct DecisionNotices {
    /// The number of the last decision that was looked at.
    last_decision: u64,
    /// The last notice of each rule; of the panic combination without a rule.
    sent: BTreeMap<Option<RuleId>, Time>,
}

impl DecisionNotices {
    /// The notices about the decisions since the last call.
    pub(super) fn take(&mut self, engine: &Engine) -> NewNotices {
        let after = std::mem::replace(&mut self.last_decision, engine.last_decision());
        let mut new = NewNotices::default();
        if after == self.last_decision {
            return new;
        }
        for decision in engine.decisions_after(after) {
            new.is_panic |= matches!(decision.kind, DecisionKind::Panic { .. });
            new.texts.extend(self.notice_of(decision, engine.rules()));
        }
        new
    }

    fn notice_of(&mut self, decision: &Decision, rules: &RuleSet) -> Option<String> {
        let text = match &decision.kind {
            DecisionKind::Failed { .. } if rules.settings.shows_notices => {
                let rule = decision.rule.and_then(|rule| rules.get(rule))?;
                let what = describe(&decision.kind, rules);
                format!("{} failed\n{what}", rule.label)
            }
            DecisionKind::Panic { .. } => {
                let panic = &rules.settings.panic;
                format!(
                    "Everything is stopped and paused\n\
                     To continue hold {panic} for two seconds, or run `lantern resume`."
                )
            }
            DecisionKind::Resumed => {
                // The next stop gets a notice, however soon it comes.
                self.sent.remove(&None);
                return Some("Rules are active again\nThe panic combination was held.".to_owned());
            }
            _ => return None,
        };
        let about = decision.rule;
        let is_due =
            self.sent.get(&about).is_none_or(|last| decision.time.since(*last) >= BETWEEN_NOTICES);
        is_due.then(|| {
            self.sent.insert(about, decision.time);
            text
        })
    }
}
