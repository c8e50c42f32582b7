//! Triggers that others may fire without meaning to: phrases of one word, phrases without an attention
//! word, and listeners without tokens.

use super::LintInput;
use crate::Finding;
use crate::codes::Code;

/// Forms of one phrase that are looked at.
const FORMS: usize = 8;

/// We turn away what is not sure enough; of another program nothing is known.
pub(super) fn missing_attention_word(input: &LintInput<'_>, findings: &mut Vec<Finding>) {
    if !input.lowered.set.settings.attention.is_empty() || input.lowered.phrases.is_empty() {
        return;
    }
    findings.extend(input.lowered.recognizer_span.map(|span| {
        let message = "nothing but this program holds other talk off";
        Finding::new(Code::NoAttentionWord, span, message)
            .label("it may take talk for a phrase")
            .help("set an `attention` word in `settings`, so that a radio fires nothing")
    }));
}

/// Listeners that every program of the person may call.
pub(super) fn missing_tokens(input: &LintInput<'_>, findings: &mut Vec<Finding>) {
    findings.extend(input.lowered.tokenless_listeners.iter().map(|span| {
        Finding::new(Code::NoToken, *span, "every program of yours may call here")
            .label("no token is asked for")
            .help("give each caller a token: `secret ilva-key = file \"ilva.key\"`, and `with token ilva = ilva-key` behind the address")
    }));
}

pub(super) fn single_word_phrases(input: &LintInput<'_>, findings: &mut Vec<Finding>) {
    if !input.lowered.set.settings.attention.is_empty() {
        return;
    }
    for spoken in input.lowered.phrases.iter().filter(|spoken| !spoken.phrase.takes_anything()) {
        if spoken.phrase.spoken_forms(FORMS).iter().any(|form| form.len() == 1) {
            findings.push(
                Finding::new(
                    Code::SingleWordPhrase,
                    spoken.span,
                    "a single word is often said by chance",
                )
                .label("one word alone")
                .help("say more words, or set an `attention` word in `settings`"),
            );
        }
    }
}
