//! How alike two phrases sound: the cheapest way from one row of sounds to the other.
//!
//! The distance is Levenshtein's (1966), with substitutions priced by the features of the sounds
//! and a dropped or added sound at the price of a clear difference; divided by the longer row it is
//! turned into a likeness from 0 to 1.

use crate::sounds::{Phoneme, Sounds};

/// The price of a sound that only one of the two has.
const GAP: u16 = 7;
/// Groups of sounds by which rows are compared in bulk before they are aligned.
const GROUPS: usize = 16;

/// A row of sounds to be compared, and what it belongs to.
#[derive(Debug, Clone)]
pub struct Saying {
    /// The phrase it is a form of; forms of one phrase are not compared.
    pub phrase: usize,
    /// Its words.
    pub words: Vec<String>,
    sounds: Vec<Phoneme>,
    census: [u8; GROUPS],
}

impl Saying {
    /// A form of a phrase as it sounds.
    pub fn new(phrase: usize, words: Vec<String>, pronunciation: &Sounds) -> Saying {
        let sounds: Vec<Phoneme> =
            words.iter().flat_map(|word| pronunciation.of_word(word)).collect();
        let mut census = [0u8; GROUPS];
        for sound in &sounds {
            let count = &mut census[group(*sound)];
            *count = count.saturating_add(1);
        }
        Saying { phrase, words, sounds, census }
    }

    /// How it sounds.
    pub fn sounds(&self) -> &[Phoneme] {
        &self.sounds
    }
}

/// Two sayings that sound alike.
#[derive(Debug, Clone, PartialEq)]
pub struct Alike {
    /// The number of the first in the list.
    pub first: usize,
    /// The number of the second.
    pub second: usize,
    /// From 0 to 1, the same.
    pub likeness: f64,
}

/// How alike two rows of sounds are, from 0 to 1.
///
/// ```
/// use lantern_sense::{Sounds, likeness};
/// let sounds = Sounds::by_rules();
/// let night = sounds.of_word("night");
/// assert_eq!(likeness(&night, &sounds.of_word("knight")), 1.0);
/// assert!(likeness(&night, &sounds.of_word("drawer")) < 0.5);
/// ```
pub fn likeness(first: &[Phoneme], second: &[Phoneme]) -> f64 {
    let longest = first.len().max(second.len());
    if longest == 0 {
        return 1.0;
    }
    let most = worst(longest);
    let distance = distance_within(first, second, most).unwrap_or(most);
    1.0 - f64::from(distance) / f64::from(most)
}

fn worst(length: usize) -> u16 {
    u16::try_from(length).unwrap_or(u16::MAX / GAP).saturating_mul(GAP)
}

/// Pairs of different phrases at least so alike, the most alike first. `together` tells whether two
/// phrases can be listened for at the same time.
pub fn alike_pairs(
    sayings: &[Saying],
    least: f64,
    together: impl Fn(usize, usize) -> bool,
) -> Vec<Alike> {
    let mut order: Vec<usize> = (0..sayings.len()).collect();
    order.sort_by_key(|number| sayings[*number].sounds.len());
    let mut pairs = Vec::new();
    for (place, &second) in order.iter().enumerate() {
        let longer = &sayings[second];
        let most = (f64::from(worst(longer.sounds.len())) * (1.0 - least)) as u16;
        // Each sound that only one of the two has costs a gap, so much shorter rows cannot do.
        let shortest = longer.sounds.len().saturating_sub(usize::from(most / GAP));
        for &first in order[..place].iter().rev() {
            let shorter = &sayings[first];
            if shorter.sounds.len() < shortest {
                break;
            }
            if shorter.phrase == longer.phrase || too_different(shorter, longer, most) {
                continue;
            }
            let Some(distance) = distance_within(&shorter.sounds, &longer.sounds, most) else {
                continue;
            };
            if together(shorter.phrase, longer.phrase) {
                let likeness =
                    1.0 - f64::from(distance) / f64::from(worst(longer.sounds.len()).max(1));
                pairs.push(Alike { first: first.min(second), second: first.max(second), likeness });
            }
        }
    }
    pairs.sort_by(|a, b| {
        b.likeness.total_cmp(&a.likeness).then((a.first, a.second).cmp(&(b.first, b.second)))
    });
    pairs
}

/// Whether the sounds alone, in whatever order, are farther apart than `most`: every pair of sounds
/// of different groups costs at least [`CROSSING`].
fn too_different(first: &Saying, second: &Saying, most: u16) -> bool {
    let apart: u32 =
        first.census.iter().zip(&second.census).map(|(a, b)| u32::from(a.abs_diff(*b))).sum();
    apart / 2 * u32::from(CROSSING) > u32::from(most)
}

/// What it costs at least to take a sound of one group for one of another.
const CROSSING: u16 = 2;

/// Sounds that are easily taken for each other are in one group.
fn group(sound: Phoneme) -> usize {
    sound as usize % GROUPS
}

/// The distance of two rows of sounds, if it is at most `most`.
fn distance_within(first: &[Phoneme], second: &[Phoneme], most: u16) -> Option<u16> {
    let mut row: Vec<u16> = (0..=second.len()).map(|at| GAP.saturating_mul(at as u16)).collect();
    for (at, sound) in first.iter().enumerate() {
        let mut corner = row[0];
        row[0] = GAP.saturating_mul(at as u16 + 1);
        let mut best = row[0];
        for (column, other) in second.iter().enumerate() {
            let above = row[column + 1];
            let changed = corner + u16::from(sound.distance(*other));
            let value = changed.min(above + GAP).min(row[column] + GAP);
            corner = above;
            row[column + 1] = value;
            best = best.min(value);
        }
        if best > most {
            return None;
        }
    }
    row.last().copied().filter(|distance| *distance <= most)
}
