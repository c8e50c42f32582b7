//! Text from outside, made fit to be shown: window titles, lines of devices, answers of programs,
//! names of files, what a rule's author wrote.

use std::borrow::Cow;

/// The text with every character escaped that a terminal or a reader would act on: controls, line
/// ends, marks that change the direction of writing. As in a rule: `\u{1b}`.
pub fn shown(text: &str) -> Cow<'_, str> {
    if !text.chars().any(acts) {
        return Cow::Borrowed(text);
    }
    let mut shown = String::with_capacity(text.len() + 16);
    text.chars().for_each(|c| push_shown(&mut shown, c));
    Cow::Owned(shown)
}

/// Appends a character, escaped if it acts.
pub fn push_shown(to: &mut String, c: char) {
    if acts(c) { to.extend(c.escape_unicode()) } else { to.push(c) }
}

/// Whether a character does something where it is written.
pub fn acts(c: char) -> bool {
    c.is_control()
        // Line and paragraph separators; marks, embeddings, overrides and isolates of direction; the
        // byte order mark. (Unicode Standard Annex 9; Unicode Technical Report 36.)
        || matches!(
            c,
            '\u{2028}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{200e}' | '\u{200f}' | '\u{61c}' | '\u{feff}'
        )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_acts_is_escaped_and_all_else_stays() {
        for plain in ["", "core 12", "Bohrkern §4 é Ж 🐧", "a\\nb"] {
            assert!(matches!(shown(plain), Cow::Borrowed(text) if text == plain));
        }
        assert_eq!(
            shown("a\u{1b}[8mb\r\n\u{7}\u{7f}\u{9b}"),
            "a\\u{1b}[8mb\\u{d}\\u{a}\\u{7}\\u{7f}\\u{9b}"
        );
        assert_eq!(shown("\u{202e}erod\u{2028}"), "\\u{202e}erod\\u{2028}");
    }
}
