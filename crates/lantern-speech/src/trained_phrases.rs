//! Phrases that the user has taught by saying them: no model, any language.
//!
//! Each phrase has a few examples, with which an utterance is compared. The distance of the examples
//! from each other sets the distance that an utterance may have. A phrase that is said in many ways
//! therefore accepts more than one that always sounds the same.

use serde::{Deserialize, Serialize};

use crate::cepstra::Features;
use crate::dtw::warped_distance;

/// A phrase that is said in one way only is still taken this loosely.
const LEAST_SPREAD: f32 = 0.5;
/// Maximum distance of an utterance, as a multiple of the distance between the examples ...
const LOOSENESS: f32 = 1.45;
/// ... more for each decibel that the room is louder than it was then, up to a limit.
const LOOSER_IN_NOISE: f32 = 0.04;
const LOOSEST: f32 = 2.3;
/// The next best phrase must be so many times as far.
const MARGIN: f32 = 1.08;
/// An example this many times as far from the others as they are from one another is another phrase.
const ODD: f32 = 1.6;

/// One way it was said.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Example {
    /// How far it was above the room, in decibels.
    pub above_noise: f32,
    /// What it was like, frame by frame.
    pub frames: Vec<Vec<f32>>,
}

impl Example {
    /// An example of these frames.
    pub fn new(above_noise: f32, frames: &[Features]) -> Example {
        let rounded = |number: &f32| (number * 100.0).round() / 100.0;
        let frames = frames.iter().map(|frame| frame.iter().map(rounded).collect()).collect();
        Example { above_noise: above_noise.round(), frames }
    }

    /// The frames, such as are whole.
    pub fn features(&self) -> Vec<Features> {
        let whole = |frame: &Vec<f32>| Features::try_from(frame.as_slice()).ok();
        self.frames.iter().filter_map(whole).collect()
    }
}

/// A phrase and how it was said. One without words is what means nothing, whatever it sounds like.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TrainedPhrase {
    /// Its words, as they are to be understood.
    pub words: String,
    /// How it was said.
    pub examples: Vec<Example>,
}

/// What was said is this phrase, or most like it.
#[derive(Debug, Clone, PartialEq)]
pub struct TrainedMatch {
    /// The phrase's words.
    pub words: String,
    /// How sure it is, from 0 to 1; from one half on it counts.
    pub score: f64,
}

/// Taught phrases ready to be compared with.
#[derive(Debug, Clone, Default)]
pub struct TrainedPhrases {
    phrases: Vec<PreparedExample>,
}

#[derive(Debug, Clone)]
struct PreparedExample {
    words: String,
    examples: Vec<Vec<Features>>,
    /// How far its examples are from one another.
    spread: f32,
    /// How far they were above the room, in decibels.
    above_noise: f32,
}

impl TrainedPhrases {
    /// A book of these phrases; such without examples are left out.
    pub fn new(phrases: &[TrainedPhrase]) -> TrainedPhrases {
        let prepare = |phrase: &TrainedPhrase| {
            let examples: Vec<Vec<Features>> =
                phrase.examples.iter().map(Example::features).filter(|e| !e.is_empty()).collect();
            let spread = spread(&examples).max(LEAST_SPREAD);
            let above = phrase.examples.iter().map(|example| example.above_noise).sum::<f32>();
            let above_noise = above / phrase.examples.len().max(1) as f32;
            PreparedExample { words: phrase.words.clone(), examples, spread, above_noise }
        };
        let phrases = phrases.iter().map(prepare).filter(|phrase| !phrase.examples.is_empty());
        TrainedPhrases { phrases: phrases.collect() }
    }

    /// Whether nothing was taught.
    pub fn is_empty(&self) -> bool {
        self.phrases.is_empty()
    }

    /// Whether a sound is one that the person said means nothing.
    pub fn is_refused(&self, sound: &[Features]) -> bool {
        let refused = self.phrases.iter().filter(|phrase| phrase.words.is_empty());
        let examples = refused.flat_map(|phrase| &phrase.examples);
        let distances = examples.filter_map(|example| warped_distance(sound, example));
        distances.fold(f32::INFINITY, f32::min) < LOOSENESS * LEAST_SPREAD
    }

    /// The wanted phrase that a sound, so many decibels above the room, is most like; held against the
    /// spread of its own examples and against all other phrases, wanted or not.
    pub fn liken(
        &self,
        sound: &[Features],
        above_noise: f32,
        wanted: impl Fn(&str) -> bool,
    ) -> Option<TrainedMatch> {
        let distance = |phrase: &PreparedExample| {
            let all = phrase.examples.iter().filter_map(|e| warped_distance(sound, e));
            all.min_by(f32::total_cmp)
        };
        let spoken = self.phrases.iter().filter(|phrase| !phrase.words.is_empty());
        let mut ranked: Vec<(f32, &PreparedExample)> =
            spoken.filter_map(|phrase| Some((distance(phrase)?, phrase))).collect();
        ranked.sort_by(|one, other| one.0.total_cmp(&other.0));
        let (best, phrase) = ranked.iter().find(|(_, phrase)| wanted(&phrase.words))?;
        let second = ranked.iter().find(|(_, other)| other.words != phrase.words);
        let louder = (phrase.above_noise - above_noise).max(0.0);
        let limit = (LOOSENESS + LOOSER_IN_NOISE * louder).min(LOOSEST) * phrase.spread;
        let by_spread = 1.0 - 0.5 * best / limit;
        let margin = second.map_or(f32::INFINITY, |(second, _)| second / best.max(1e-6));
        let by_margin = 0.5 * margin / MARGIN;
        let score = f64::from(by_spread.min(by_margin).clamp(0.0, 1.0));
        Some(TrainedMatch { words: phrase.words.clone(), score })
    }
}

/// Two taught phrases that were said alike.
#[derive(Debug, Clone, PartialEq)]
pub struct ConfusableTraining {
    /// The one.
    pub first: String,
    /// The other.
    pub second: String,
    /// How many times as far an example is from the other phrase as from its own, where that is least;
    /// below one it was taken for the other.
    pub margin: f32,
    /// How many examples of both are nearer to the other phrase than to their own.
    pub taken: usize,
    /// How many examples there are of both.
    pub examples: usize,
}

impl TrainedPhrases {
    /// Pairs of phrases by how alike they were said, the most alike first: each example is held against
    /// the others of its own phrase and against those of each other phrase.
    pub fn said_alike(&self) -> Vec<ConfusableTraining> {
        let nearest = |sound: &[Features], examples: &[Vec<Features>], but: Option<usize>| {
            let others = examples.iter().enumerate().filter(|(at, _)| Some(*at) != but);
            let all = others.filter_map(|(_, example)| warped_distance(sound, example));
            all.fold(f32::INFINITY, f32::min)
        };
        let margins = |of: &PreparedExample, beside: &PreparedExample| -> Vec<f32> {
            let margin = |(at, example): (usize, &Vec<Features>)| {
                let own = nearest(example, &of.examples, Some(at)).clamp(f32::EPSILON, of.spread);
                nearest(example, &beside.examples, None) / own
            };
            of.examples.iter().enumerate().map(margin).collect()
        };
        let spoken: Vec<&PreparedExample> =
            self.phrases.iter().filter(|phrase| !phrase.words.is_empty()).collect();
        let mut pairs = Vec::new();
        for (at, first) in spoken.iter().enumerate() {
            for second in &spoken[at + 1..] {
                let all = [margins(first, second), margins(second, first)].concat();
                pairs.push(ConfusableTraining {
                    first: first.words.clone(),
                    second: second.words.clone(),
                    margin: all.iter().copied().fold(f32::INFINITY, f32::min),
                    taken: all.iter().filter(|margin| **margin < 1.0).count(),
                    examples: all.len(),
                });
            }
        }
        pairs.sort_by(|one, other| one.margin.total_cmp(&other.margin));
        pairs
    }
}

/// The mean distance from each example to the nearest other one.
fn spread(examples: &[Vec<Features>]) -> f32 {
    let nearest = |own: usize| {
        let others = examples.iter().enumerate().filter(|(other, _)| *other != own);
        let all = others.filter_map(|(_, other)| warped_distance(&examples[own], other));
        all.min_by(f32::total_cmp)
    };
    let distances: Vec<f32> = (0..examples.len()).filter_map(nearest).collect();
    if distances.is_empty() { 0.0 } else { distances.iter().sum::<f32>() / distances.len() as f32 }
}

/// The number of an example that is unlike all the others, if there is one.
pub fn odd_one(examples: &[Example]) -> Option<usize> {
    let features: Vec<Vec<Features>> = examples.iter().map(Example::features).collect();
    let far = |own: usize| {
        let others = features.iter().enumerate().filter(|(other, _)| *other != own);
        let distances = others.map(|(_, other)| warped_distance(&features[own], other));
        distances.map(|distance| distance.unwrap_or(f32::INFINITY)).fold(f32::INFINITY, f32::min)
    };
    let all: Vec<f32> = (0..features.len()).map(far).collect();
    let (odd, farthest) = all.iter().enumerate().max_by(|one, other| one.1.total_cmp(other.1))?;
    let nearest = all.iter().copied().fold(f32::INFINITY, f32::min).max(LEAST_SPREAD);
    (all.len() > 2 && *farthest > ODD * nearest).then_some(odd)
}
