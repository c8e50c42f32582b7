//! How words sound: by the machine's pronunciation dictionary if it has one, by letter rules else.

use std::collections::BTreeSet;
use std::fs;

use lantern_speech::Pronunciations;

/// Pronunciation dictionaries that Debian's speech packages install.
const DICTIONARIES: [&str; 2] =
    ["/usr/share/pocketsphinx/model/en-us/cmudict-en-us.dict", "/usr/share/dict/cmudict"];

/// How these words sound, and the dictionary that was asked.
pub fn of(words: &BTreeSet<&str>) -> (Pronunciations, Option<String>) {
    for path in DICTIONARIES.iter().filter(|_| !words.is_empty()) {
        if let Ok(bytes) = fs::read(path) {
            let text = String::from_utf8_lossy(&bytes);
            let sounds = Pronunciations::with_dictionary(&text, |word| words.contains(word));
            return (sounds, Some((*path).to_owned()));
        }
    }
    (Pronunciations::of_words(words.iter().copied()), None)
}
