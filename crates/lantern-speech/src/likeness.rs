//! Likeness of two phrases: the cheapest edit from one row of sounds to the other.
//!
//! The distance is Levenshtein's (1966). Substitutions are priced by the features of the sounds; a
//! dropped or added sound costs as much as a clear difference. Divided by the length of the longer row,
//! the distance becomes a likeness from 0 to 1.

use crate::pronunciation::{Phoneme, Pronunciations};

/// The price of a sound that only one of the two has.
const GAP: u16 = 7;

/// A row of sounds to be compared, and what it belongs to.
#[derive(Debug, Clone)]
pub struct PhonemeSequence {
    /// The phrase it is a form of; forms of one phrase are not compared.
    pub phrase: usize,
    /// Its words.
    pub words: Vec<String>,
    sounds: Vec<Phoneme>,
    /// For each word, the consonants that are rarely misheard.
    traits: Vec<Consonants>,
    /// The same for the whole of it, whatever its words are.
    run: u32,
}

impl PhonemeSequence {
    /// A form of a phrase as it sounds.
    pub fn new(
        phrase: usize,
        words: Vec<String>,
        pronunciation: &Pronunciations,
    ) -> PhonemeSequence {
        let mut sounds = Vec::new();
        let mut traits = Vec::new();
        for word in &words {
            let of_word = pronunciation.of_word(word);
            traits.push(Consonants::of(&of_word));
            sounds.extend(of_word);
        }
        let run = Consonants::of(&sounds).all;
        PhonemeSequence { phrase, words, sounds, traits, run }
    }

    /// How it sounds.
    pub fn sounds(&self) -> &[Phoneme] {
        &self.sounds
    }
}

/// Consonants that are easily taken for each other are of one class; vowels are of none.
fn consonant_class(sound: Phoneme) -> Option<u8> {
    use Phoneme::*;
    Some(match sound {
        P | B => 1,
        T | D => 2,
        K | G => 3,
        F | V => 4,
        S | Z => 5,
        Sh | Zh | Ch | Jh => 6,
        Th | Dh => 7,
        M => 8,
        N | Ng => 9,
        L => 10,
        R | Er => 11,
        W => 12,
        Y => 13,
        _ => return None,
    })
}

/// The classes of a row's consonants: all of them, the first two and the last two.
#[derive(Debug, Clone, Copy)]
struct Consonants {
    all: u32,
    first: u32,
    last: u32,
}

impl Consonants {
    fn of(sounds: &[Phoneme]) -> Consonants {
        let classes: Vec<u32> =
            sounds.iter().filter_map(|sound| consonant_class(*sound)).map(u32::from).collect();
        // FNV-1a (Fowler, Noll and Vo), of whole numbers rather than bytes.
        let hash = |classes: &[u32], seed: u32| {
            classes
                .iter()
                .fold(0x811c_9dc5 ^ seed, |hash, class| (hash ^ class).wrapping_mul(0x0100_0193))
        };
        let two = classes.len().min(2);
        Consonants {
            all: hash(&classes, 0),
            first: hash(&classes[..two], 1),
            last: hash(&classes[classes.len() - two..], 2),
        }
    }
}

/// Two sayings that sound alike.
#[derive(Debug, Clone, PartialEq)]
pub struct ConfusablePair {
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
/// use lantern_speech::{Pronunciations, likeness};
/// let sounds = Pronunciations::by_rules();
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
///
/// Only pairs that run alike, or of whose words all but one have the same consonants, are aligned:
/// phrases that differ in more do not sound alike.
pub fn alike_pairs(
    sayings: &[PhonemeSequence],
    least: f64,
    together: impl Fn(usize, usize) -> bool,
) -> Vec<ConfusablePair> {
    let mut pairs = Vec::new();
    for (first, second) in candidates(sayings) {
        let (one, other) = (&sayings[first], &sayings[second]);
        let longest = one.sounds.len().max(other.sounds.len());
        let most = (f64::from(worst(longest)) * (1.0 - least)) as u16;
        // Each sound that only one of the two has costs a gap.
        let gaps = one.sounds.len().abs_diff(other.sounds.len()) as u16;
        if one.phrase == other.phrase || gaps.saturating_mul(GAP) > most {
            continue;
        }
        let Some(distance) = distance_within(&one.sounds, &other.sounds, most) else {
            continue;
        };
        if together(one.phrase, other.phrase) {
            let likeness = 1.0 - f64::from(distance) / f64::from(worst(longest).max(1));
            pairs.push(ConfusablePair { first, second, likeness });
        }
    }
    pairs.sort_by(|a, b| {
        b.likeness.total_cmp(&a.likeness).then((a.first, a.second).cmp(&(b.first, b.second)))
    });
    pairs
}

/// Words behind these are not looked at to find pairs.
const KEYED_WORDS: usize = 6;
/// Number of sayings with the same consonants up to which every pair is compared.
const ALL_PAIRS: usize = 64;
/// Above [`ALL_PAIRS`], number of others with which a saying is compared: those that begin with the
/// most similar sounds. The work then grows with the number of sayings, not with its square.
const NEIGHBOURS: usize = 32;

/// A key for each choice of `left` words in their order.
fn add_keys(words: &[Consonants], left: usize, key: u64, number: u32, keyed: &mut Vec<(u64, u32)>) {
    if left == 0 {
        keyed.push((key, number));
        return;
    }
    for (at, word) in words.iter().enumerate() {
        let key = key.wrapping_mul(0x0000_0100_0000_01b3) ^ u64::from(word.all);
        add_keys(&words[at + 1..], left - 1, key, number, keyed);
    }
}

/// Pairs that are worth aligning, each once.
fn candidates(sayings: &[PhonemeSequence]) -> Vec<(usize, usize)> {
    let mut keyed: Vec<(u64, u32)> = Vec::new();
    for (number, saying) in sayings.iter().enumerate() {
        let number = number as u32;
        keyed.push((u64::from(saying.run) | 1 << 63, number));
        if let [alone] = saying.traits.as_slice() {
            keyed.extend([alone.first, alone.last].map(|part| (u64::from(part) | 1 << 62, number)));
        }
        let words = &saying.traits[..saying.traits.len().min(KEYED_WORDS)];
        // All words are shared, or all but one.
        for left_out in 0..=usize::from(words.len() > 1) {
            let size = words.len() - left_out;
            add_keys(words, size, size as u64, number, &mut keyed);
        }
    }
    keyed.sort_unstable();
    keyed.dedup();
    let mut pairs: Vec<(usize, usize)> = Vec::new();
    for same in keyed.chunk_by(|a, b| a.0 == b.0) {
        let mut numbers: Vec<usize> = same.iter().map(|(_, number)| *number as usize).collect();
        let near = if numbers.len() > ALL_PAIRS {
            // Those that begin alike stand side by side.
            numbers.sort_by(|one, other| sayings[*one].sounds.cmp(&sayings[*other].sounds));
            NEIGHBOURS
        } else {
            ALL_PAIRS
        };
        for (at, first) in numbers.iter().enumerate() {
            let others = numbers[at + 1..].iter().take(near);
            pairs.extend(others.map(|second| (*first.min(second), *first.max(second))));
        }
    }
    pairs.sort_unstable();
    pairs.dedup();
    pairs
}

/// The distance of two rows of sounds, if it is at most `most`.
pub(crate) fn distance_within(first: &[Phoneme], second: &[Phoneme], most: u16) -> Option<u16> {
    // What both begin and end with costs nothing, and phrases worth comparing share much.
    let same = |(one, other): &(&Phoneme, &Phoneme)| one == other;
    let start = first.iter().zip(second).take_while(same).count();
    let (first, second) = (&first[start..], &second[start..]);
    let end = first.iter().rev().zip(second.iter().rev()).take_while(same).count();
    let (first, second) = (&first[..first.len() - end], &second[..second.len() - end]);
    let mut short = [0u16; 64];
    let mut long = Vec::new();
    let row = if second.len() < short.len() {
        &mut short[..=second.len()]
    } else {
        long.resize(second.len() + 1, 0u16);
        &mut long[..]
    };
    for (at, cell) in row.iter_mut().enumerate() {
        *cell = GAP.saturating_mul(at as u16);
    }
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
