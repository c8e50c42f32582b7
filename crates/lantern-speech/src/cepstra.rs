//! Features of a sound, 100 times a second: mel-frequency cepstra and their change.
//!
//! The cepstra are those of Davis and Mermelstein, "Comparison of parametric representations for
//! monosyllabic word recognition in continuously spoken sentences", IEEE Transactions on Acoustics,
//! Speech, and Signal Processing 28 (1980).
//!
//! Their change in time is that of Furui, "Speaker-independent isolated word recognition using dynamic
//! features of speech spectrum", the same journal, 34 (1986).

use std::f32::consts::PI;

use realfft::RealFftPlanner;

use crate::endpoint::{FRAME, RATE};

/// Samples of a window; they overlap.
const WINDOW: usize = RATE / 40;
/// Samples of a transform.
const SIZE: usize = 512;
/// Filters, evenly spaced as the ear hears pitch, and the band they cover in hertz.
const FILTERS: usize = 24;
const BAND: (f32, f32) = (100.0, 7000.0);
/// Cepstra that are kept, the loudness (the zeroth) left out.
const KEPT: usize = 12;
/// Numbers of a frame: the cepstra, their change, and the change of loudness.
pub const FEATURES: usize = 2 * KEPT + 1;
/// Frames to either side by which the change is measured.
const REACH: usize = 2;
/// The floor of a band, as a share of its loudest frames.
const FLOOR: f32 = 0.3;
/// Weight of the change against the cepstra themselves, whose numbers are larger.
const CHANGE_WEIGHT: f32 = 2.0;

/// A frame of a sound.
pub type Features = [f32; FEATURES];

/// What a sound is like, frame by frame. The mean of each number is taken out, which makes
/// microphones and rooms alike.
pub fn features(sound: &[i16]) -> Vec<Features> {
    let cepstra = cepstra(sound);
    let count = cepstra.len();
    let mut mean = [0.0; KEPT + 1];
    for frame in &cepstra {
        for (sum, number) in mean.iter_mut().zip(frame) {
            *sum += number / count as f32;
        }
    }
    let at = |frame: isize| &cepstra[frame.clamp(0, count as isize - 1) as usize];
    let change = |frame: usize, number: usize| {
        let steps = (1..=REACH as isize).map(|step| {
            let here = frame as isize;
            step as f32 * (at(here + step)[number] - at(here - step)[number])
        });
        let weights: usize = (1..=REACH).map(|step| 2 * step * step).sum();
        steps.sum::<f32>() / weights as f32
    };
    (0..count)
        .map(|frame| {
            let mut features = [0.0; FEATURES];
            for number in 1..=KEPT {
                features[number - 1] = cepstra[frame][number] - mean[number];
                features[KEPT + number - 1] = CHANGE_WEIGHT * change(frame, number);
            }
            features[2 * KEPT] = CHANGE_WEIGHT * change(frame, 0);
            features
        })
        .collect()
}

/// The loudness and the cepstra of each frame.
fn cepstra(sound: &[i16]) -> Vec<[f32; KEPT + 1]> {
    let bands = bands(sound);
    let floors = floors(&bands);
    let cosines = |frame: &[f32; FILTERS]| {
        let levels: Vec<f32> =
            frame.iter().zip(floors).map(|(energy, floor)| (energy + floor).ln()).collect();
        std::array::from_fn(|number| {
            let turn =
                |band: usize| (PI * number as f32 * (band as f32 + 0.5) / FILTERS as f32).cos();
            levels.iter().enumerate().map(|(band, level)| level * turn(band)).sum::<f32>()
                * (2.0 / FILTERS as f32).sqrt()
        })
    };
    bands.iter().map(cosines).collect()
}

/// The energy in each band of each frame.
fn bands(sound: &[i16]) -> Vec<[f32; FILTERS]> {
    let mut planner = RealFftPlanner::<f32>::new();
    let transform = planner.plan_fft_forward(SIZE);
    let (mut windowed, mut spectrum) = (transform.make_input_vec(), transform.make_output_vec());
    let filters = filters();
    let mut bands = Vec::new();
    let mut from = 0;
    while from + WINDOW <= sound.len() {
        windowed.fill(0.0);
        for (at, place) in windowed.iter_mut().take(WINDOW).enumerate() {
            let before = if from + at == 0 { 0 } else { sound[from + at - 1] };
            let emphasised = f32::from(sound[from + at]) - 0.97 * f32::from(before);
            let taper = 0.54 - 0.46 * (2.0 * PI * at as f32 / (WINDOW - 1) as f32).cos();
            *place = emphasised * taper;
        }
        transform
            .process(&mut windowed, &mut spectrum)
            .expect("the vectors were made for this transform");
        let power: Vec<f32> = spectrum.iter().map(|bin| bin.norm_sqr() / SIZE as f32).collect();
        let energy = |filter: usize| {
            filters[filter].iter().map(|(bin, weight)| power[*bin] * weight).sum::<f32>()
        };
        bands.push(std::array::from_fn(energy));
        from += FRAME;
    }
    bands
}

/// What is added to the energy of each band: a share of its loudest, under which a room's noise
/// disappears, so that a phrase sounds alike in a quiet room and in a louder one.
fn floors(bands: &[[f32; FILTERS]]) -> [f32; FILTERS] {
    std::array::from_fn(|band| {
        let mut energies: Vec<f32> = bands.iter().map(|frame| frame[band]).collect();
        energies.sort_by(f32::total_cmp);
        let loud = energies.get(energies.len() * 9 / 10).copied().unwrap_or(0.0);
        loud * FLOOR + 50.0
    })
}

/// Each filter's bins and how much of them it takes: triangles that overlap by half.
fn filters() -> Vec<Vec<(usize, f32)>> {
    let mel = |hertz: f32| 2595.0 * (1.0 + hertz / 700.0).log10();
    let hertz = |mel: f32| 700.0 * (10f32.powf(mel / 2595.0) - 1.0);
    let (low, high) = (mel(BAND.0), mel(BAND.1));
    let edge = |number: usize| {
        hertz(low + (high - low) * number as f32 / (FILTERS + 1) as f32) * SIZE as f32 / RATE as f32
    };
    let triangle = |filter: usize| {
        let (left, middle, right) = (edge(filter), edge(filter + 1), edge(filter + 2));
        let bins = left.ceil() as usize..=right.floor() as usize;
        let weight = |bin: usize| {
            let bin = bin as f32;
            if bin <= middle {
                (bin - left) / (middle - left)
            } else {
                (right - bin) / (right - middle)
            }
        };
        bins.map(|bin| (bin, weight(bin))).collect()
    };
    (0..FILTERS).map(triangle).collect()
}
