//! The characters left of the cursor that abbreviations need.

use zeroize::Zeroize;

/// The last characters that the person typed: no more than the longest abbreviation and the character
/// before it. Forgotten characters are overwritten in memory.
#[derive(Debug, Default)]
pub(crate) struct TypedText {
    characters: Vec<char>,
    most: usize,
}

impl TypedText {
    /// Keeps as many characters as abbreviations of this length need.
    pub(crate) fn for_length(longest: usize) -> TypedText {
        let most = longest + 1;
        // It never grows beyond, so that no copy of it stays behind.
        TypedText { characters: Vec::with_capacity(most), most }
    }

    /// The person typed a character.
    pub(crate) fn push(&mut self, character: char) {
        if self.most == 0 {
            return;
        }
        if self.characters.len() == self.most {
            self.characters.rotate_left(1);
            self.drop_last();
        }
        self.characters.push(character);
    }

    /// The person removed the last character.
    pub(crate) fn drop_last(&mut self) {
        if let Some(last) = self.characters.last_mut() {
            last.zeroize();
        }
        self.characters.pop();
    }

    /// What was typed before no longer stands left of the cursor.
    pub(crate) fn forget(&mut self) {
        self.characters.zeroize();
    }

    /// Whether they end with a text that begins a word.
    pub(crate) fn end_with_word(&self, text: &[char]) -> bool {
        let before = self.characters.strip_suffix(text);
        before.is_some_and(|before| before.last().is_none_or(|last| !last.is_alphanumeric()))
    }
}

impl Drop for TypedText {
    fn drop(&mut self) {
        self.forget();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn chars(text: &str) -> Vec<char> {
        text.chars().collect()
    }

    #[test]
    fn the_end_counts_where_it_begins_a_word() {
        let mut characters = TypedText::for_length(3);
        chars("see ;é1").into_iter().for_each(|character| characters.push(character));
        assert!(characters.end_with_word(&chars(";é1")));
        assert!(characters.end_with_word(&chars("é1")));
        assert!(!characters.end_with_word(&chars("1")), "é is a letter");
        assert!(!characters.end_with_word(&chars("see ;é1")), "that long no abbreviation is");
        characters.drop_last();
        assert!(characters.end_with_word(&chars("é")) && !characters.end_with_word(&chars("é1")));
        characters.forget();
        assert!(!characters.end_with_word(&chars("é")));
        characters.drop_last();
    }

    #[test]
    fn forgotten_characters_are_overwritten_and_no_more_are_kept_than_needed() {
        let mut characters = TypedText::for_length(2);
        let place = characters.characters.as_ptr();
        chars("hunter").into_iter().for_each(|character| characters.push(character));
        assert_eq!(characters.characters, chars("ter"));
        characters.forget();
        assert!(characters.characters.is_empty() && characters.characters.capacity() == 3);
        assert_eq!(characters.characters.as_ptr(), place, "it never moved");
    }

    #[test]
    fn without_abbreviations_nothing_is_kept() {
        let mut characters = TypedText::default();
        characters.push('a');
        assert!(characters.characters.is_empty());
    }
}
