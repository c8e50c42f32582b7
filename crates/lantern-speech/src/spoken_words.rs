//! Words of recognised text.

/// What was heard as words in lower case, without the signs around them.
pub fn heard_words(heard: &str) -> Vec<String> {
    let mut words = Vec::new();
    let pieces = heard.split(|c: char| c.is_whitespace() || matches!(c, '-' | '–' | '—' | '…'));
    for piece in pieces {
        let sign = |c: char| !c.is_alphanumeric();
        let trimmed = piece.trim_matches(|c: char| sign(c) && c != '%');
        let percent = trimmed.ends_with('%');
        let word = trimmed.trim_matches(sign);
        if !word.is_empty() {
            words.push(word.to_lowercase());
        }
        if percent {
            words.push("percent".to_owned());
        }
    }
    words
}
