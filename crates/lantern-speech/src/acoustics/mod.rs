//! Scores of every state of an acoustic model for each frame of a sound.
//!
//! The model has phonetically tied mixtures (Lee, Kawahara, Takeda and Shikano, "A new phonetic
//! tied-mixture model for efficient decoding", ICASSP 2000). Each sound of the language has a codebook
//! of normal densities for each of three streams, and each state weighs the densities of its sound.
//! Only the few nearest densities of a codebook count.
//!
//! The system's recognizer can search by scores that are computed here. All densities of a codebook are
//! computed side by side, which takes a quarter of the library's time, and once for all searches. The
//! numbers are rounded as the library rounds them, so that both have one scale.
//!
//! Pure: takes the bytes of the model's files and cepstra, returns scores.

mod files;

use std::ops::Range;

pub use files::UnknownModel;

/// Numbers of a cepstrum.
pub const CEPSTRUM: usize = 13;
/// A frame of sound.
pub type Cepstrum = [f32; CEPSTRUM];

/// What a frame is seen as: itself, how it changes, and how that changes.
const STREAMS: usize = 3;
/// Densities of a codebook.
const CODES: usize = 128;
/// Densities that count.
const NEAREST: usize = 4;
/// The base of all logarithms, as the recogniser has it.
const BASE: f32 = 1.0001;
/// Weights and sums are in steps of so many bits of such a logarithm.
const STEP: u32 = 10;
/// A density that is farther than this, in steps, is as far.
const FARTHEST: i32 = 96;
/// A variance is at least this.
const LEAST_VARIANCE: f32 = 1e-4;

/// An acoustic model.
#[derive(Debug)]
pub struct AcousticModel {
    /// For each sound of the language, one for each stream.
    codebooks: Vec<[Codebook; STREAMS]>,
    /// For each stream and each density, how much it weighs in each state, as a negative logarithm.
    weights: Vec<u8>,
    states: usize,
    /// Neighbouring states of one sound, by its number.
    runs: Vec<(usize, Range<usize>)>,
    sums: [u8; 256],
}

/// Normal densities; each number of them stands beside the same number of the others.
#[derive(Debug)]
struct Codebook {
    means: Vec<[f32; CODES]>,
    /// Half the inverse of the variance.
    widths: Vec<[f32; CODES]>,
    /// The logarithm of the density at its mean.
    heights: [f32; CODES],
}

/// A density that is near, and how far it is, in steps.
type NearDensity = (i32, usize);

/// How well every state fits each frame, in the form in which a recogniser reads it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Scores(Vec<u8>);

impl Scores {
    /// The bytes to be read.
    pub fn bytes(&self) -> &[u8] {
        &self.0
    }
}

impl AcousticModel {
    /// How well every state fits each frame of these.
    pub fn scores(&self, cepstra: &[Cepstrum]) -> Scores {
        let cepstra = without_mean(cepstra);
        let mut bytes =
            format!("s3\nversion 0.1\nn_sen {}\nlogbase {BASE:.6}\nendhdr\n", self.states)
                .into_bytes();
        // By which a reader tells the order of bytes.
        bytes.extend(0x1122_3344_u32.to_ne_bytes());
        let count = (self.states as i16).to_ne_bytes();
        let frames: Vec<_> = (0..cepstra.len()).map(|at| streams_of(&cepstra, at)).collect();
        // One codebook after the other for all frames: it stays close to the processor meanwhile.
        let near_in = |books: &[Codebook; STREAMS]| -> Vec<[[NearDensity; NEAREST]; STREAMS]> {
            let near = |frame: &[Cepstrum; STREAMS]| {
                std::array::from_fn(|stream| books[stream].nearest(&frame[stream]))
            };
            frames.iter().map(near).collect()
        };
        let near: Vec<_> = self.codebooks.iter().map(near_in).collect();
        for at in 0..frames.len() {
            let sums = self.fit(near.iter().map(|near| near[at]).collect());
            let best = sums.iter().min().copied().unwrap_or(0);
            bytes.extend(count);
            bytes.extend(sums.iter().flat_map(|sum| ((sum - best) as i16).to_ne_bytes()));
        }
        Scores(bytes)
    }

    /// How far every state is from a frame, in steps, by what is near in each codebook.
    fn fit(&self, mut near: Vec<[[NearDensity; NEAREST]; STREAMS]>) -> Vec<i32> {
        for stream in 0..STREAMS {
            let nearest = near.iter().map(|near| near[stream][0].0 >> STEP).max().unwrap_or(0);
            for (height, _) in near.iter_mut().flat_map(|near| &mut near[stream]) {
                *height = (nearest - (*height >> STEP)).min(FARTHEST);
            }
        }
        let mut sums = vec![0; self.states];
        for (sound, states) in &self.runs {
            for (stream, near) in near[*sound].iter().enumerate() {
                let weights = near.map(|(_, code)| {
                    let row = (stream * CODES + code) * self.states;
                    &self.weights[row + states.start..row + states.end]
                });
                for (at, sum) in sums[states.clone()].iter_mut().enumerate() {
                    let far = |one: usize| i32::from(weights[one][at]) + near[one].0;
                    *sum += (1..NEAREST).fold(far(0), |all, one| self.add(all, far(one)));
                }
            }
        }
        sums
    }

    /// The negative logarithm of the sum of two numbers that are given so.
    fn add(&self, one: i32, other: i32) -> i32 {
        let apart = one.abs_diff(other).min(255);
        one.min(other) - i32::from(self.sums[apart as usize])
    }
}

impl Codebook {
    /// The densities that are highest at a place, by the logarithm of that, the highest first.
    fn nearest(&self, place: &Cepstrum) -> [NearDensity; NEAREST] {
        let mut heights = self.heights;
        for ((value, means), widths) in place.iter().zip(&self.means).zip(&self.widths) {
            for ((height, mean), width) in heights.iter_mut().zip(means).zip(widths) {
                let apart = value - mean;
                *height -= apart * apart * width;
            }
        }
        let mut best = [(i32::MIN, 0); NEAREST];
        let mut least = f32::NEG_INFINITY;
        for (code, height) in heights.into_iter().enumerate() {
            if height <= least {
                continue;
            }
            let height = height as i32;
            let mut place = NEAREST - 1;
            while place > 0 && best[place - 1].0 < height {
                best[place] = best[place - 1];
                place -= 1;
            }
            best[place] = (height, code);
            let last = best[NEAREST - 1].0;
            least = if last == i32::MIN { least } else { last as f32 };
        }
        best
    }
}

/// The logarithm by our base, cut off as the recogniser cuts it.
fn logarithm(value: f64) -> f32 {
    natural_to_base(value.ln())
}

fn natural_to_base(value: f64) -> f32 {
    (value / f64::from(BASE).ln()).trunc() as f32
}

/// What a number grows by when one that is so many steps less is added to it, in steps.
fn table_of_sums() -> [u8; 256] {
    let base = f64::from(BASE);
    let mut table = [0; 256];
    let mut share = 1.0f64;
    for at in 0..256usize << STEP {
        let more = ((1.0 + share).ln() / base.ln() + f64::from(1 << (STEP - 1))) as u32 >> STEP;
        // The most of each step.
        let entry = &mut table[at >> STEP];
        *entry = u8::try_from(more).unwrap_or(u8::MAX).max(*entry);
        if more == 0 {
            break;
        }
        share /= base;
    }
    table
}

/// The cepstra without their mean over all of the sound, so that the microphone does not count.
fn without_mean(cepstra: &[Cepstrum]) -> Vec<Cepstrum> {
    // Of frames with some energy.
    let heard: Vec<&Cepstrum> = cepstra.iter().filter(|cepstrum| cepstrum[0] >= 0.0).collect();
    let mean: Cepstrum = std::array::from_fn(|at| {
        let sum = heard.iter().fold(0.0, |sum, cepstrum| sum + cepstrum[at]);
        sum / heard.len().max(1) as f32
    });
    let centred = |cepstrum: &Cepstrum| std::array::from_fn(|at| cepstrum[at] - mean[at]);
    cepstra.iter().map(centred).collect()
}

/// A frame, how it changes over two frames to either side, and how that changes over one.
fn streams_of(cepstra: &[Cepstrum], at: usize) -> [Cepstrum; STREAMS] {
    let last = cepstra.len() - 1;
    let there = |by: isize| &cepstra[at.saturating_add_signed(by).min(last)];
    let change = |after: isize, before: isize| -> Cepstrum {
        let (after, before) = (there(after), there(before));
        std::array::from_fn(|at| after[at] - before[at])
    };
    let (later, sooner) = (change(3, -1), change(1, -3));
    [*there(0), change(2, -2), std::array::from_fn(|at| later[at] - sooner[at])]
}
