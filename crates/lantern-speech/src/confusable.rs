//! Words that are easily taken for another: those of a dictionary that differ from it by about one sound.
//!
//! A recogniser that knows a word and not its neighbours hears it wherever one of these is said.

use std::collections::BTreeSet;

use crate::likeness::distance_within;
use crate::pronunciation::{Phoneme, Pronunciations, entries};

/// So far away a neighbour is at the least and at the most, by the measure of [`crate::likeness`]: closer ones
/// cannot be told from the word itself.
const NEAREST: u16 = 5;
const FARTHEST: u16 = 7;
/// So many are enough; short words have hundreds.
const MOST: usize = 16;

/// The neighbours of a word, the nearest first; `dictionary` is the text of one in the CMU form.
///
/// ```
/// let dictionary = "core K AO R\ncorn K AO R N\ngore G AO R\nlandon L AE N D AH N\n";
/// assert_eq!(lantern_speech::confusable_words(dictionary, "core"), ["corn"]);
/// ```
pub fn confusable_words(dictionary: &str, word: &str) -> Vec<String> {
    let sounds_of = |letters: &str| {
        letters.split_whitespace().map(Phoneme::from_letters).collect::<Option<Vec<Phoneme>>>()
    };
    let own = entries(dictionary).filter(|(known, _)| *known == word);
    let mut own: Vec<Vec<Phoneme>> = own.filter_map(|(_, letters)| sounds_of(letters)).collect();
    if own.is_empty() {
        own.push(Pronunciations::by_rules().of_word(word));
    }
    let mut near = BTreeSet::new();
    for (known, letters) in entries(dictionary) {
        // Most of a dictionary is longer or shorter by more than a sound.
        let length = letters.split_whitespace().count();
        if own.iter().all(|own| own.len().abs_diff(length) > 1) {
            continue;
        }
        let Some(sounds) = sounds_of(letters) else { continue };
        let distances = own.iter().map(|own| distance_within(own, &sounds, FARTHEST));
        let distance = distances.flatten().min();
        if let Some(distance) = distance.filter(|distance| *distance >= NEAREST) {
            near.insert((distance, known));
        }
    }
    let mut words: Vec<String> = Vec::new();
    for (_, near) in near {
        if words.len() < MOST && words.iter().all(|known| known != near) {
            words.push(near.to_owned());
        }
    }
    words
}
