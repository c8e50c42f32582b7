//! Spoken phrases of a single word, which are said by chance.

use super::Checker;
use crate::Finding;
use crate::codes::Code;

/// Forms of one phrase that are looked at.
const FORMS: usize = 8;

impl Checker<'_> {
    pub(super) fn look_for_lonely_words(&self, findings: &mut Vec<Finding>) {
        if !self.set.settings.attention.is_empty() {
            return;
        }
        for spoken in self.phrases.iter().filter(|spoken| !spoken.phrase.takes_anything()) {
            if spoken.phrase.spoken_forms(FORMS).iter().any(|form| form.len() == 1) {
                findings.push(
                    Finding::new(
                        Code::LonelyWord,
                        spoken.span,
                        "a single word is often said by chance",
                    )
                    .label("one word alone")
                    .help("say more words, or set an `attention` word in `settings`"),
                );
            }
        }
    }
}
