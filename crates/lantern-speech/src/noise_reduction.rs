//! Removes steady noise of a room from a sound, before a recognizer with a model reads it.
//!
//! The gain of each frequency is Wiener's, with the noise taken from a stretch without speech, as in
//! Lim and Oppenheim, "Enhancement and bandwidth compression of noisy speech", Proceedings of the IEEE
//! 67 (1979).
//!
//! The share of voice at a moment and a frequency is read from the moments and frequencies around it,
//! because noise alone varies too much from one to the next. Later moments count too; otherwise the
//! soft sound at the end of a word would be lost. The noise is never removed whole: it stays as far
//! below the voice as in a quiet room, because a model takes gaps worse than noise.

use std::f32::consts::PI;
use std::sync::Arc;

use realfft::num_complex::Complex;
use realfft::{ComplexToReal, RealFftPlanner, RealToComplex};

/// Samples of a transform; half of them overlap.
const SIZE: usize = 512;
const HOP: usize = SIZE / 2;
/// So far below the voice the room is left, in decibels ...
const ROOM: f32 = 32.0;
/// ... but of no frequency less than this is left.
const LEAST: f32 = 0.1;
/// The noise is taken for so many times as strong as it was.
const OVER: f32 = 1.5;
/// So many moments and frequencies to each side count for one, the less the farther they are.
const AROUND: usize = 2;

/// The sound without the noise of its first `still` samples, which the voice is so many decibels above.
pub(crate) fn quieted(sound: &[i16], still: usize, above: f32) -> Vec<i16> {
    let still = still.min(sound.len());
    if still < SIZE {
        return sound.to_vec();
    }
    let least = 10f32.powf((above - ROOM) / 20.0).clamp(LEAST, 1.0);
    let bank = FilterBank::new();
    let quiet = (0..=still - SIZE).step_by(HOP).map(|from| bank.spectrum(sound, from));
    let noise = mean_power(&quiet.collect::<Vec<_>>());
    let moments = (0..sound.len()).step_by(HOP);
    let spectra: Vec<Spectrum> = moments.map(|from| bank.spectrum(sound, from)).collect();
    let over_noise = |spectrum: &Spectrum| {
        spectrum
            .iter()
            .zip(&noise)
            .map(|(bin, noise)| bin.norm_sqr() / (OVER * noise).max(1.0))
            .collect()
    };
    let levels: Vec<Vec<f32>> = spectra.iter().map(over_noise).collect();
    let mut out = vec![0.0f32; sound.len() + SIZE];
    for (moment, mut spectrum) in spectra.into_iter().enumerate() {
        for (at, bin) in spectrum.iter_mut().enumerate() {
            let voice = (level_around(&levels, moment, at) - 1.0).max(0.0);
            *bin *= (voice / (1.0 + voice)).max(least);
        }
        bank.add(spectrum, &mut out[moment * HOP..]);
    }
    out.iter().take(sound.len()).map(|s| s.round().clamp(-32_768.0, 32_767.0) as i16).collect()
}

type Spectrum = Vec<Complex<f32>>;

/// How strong each frequency is.
fn mean_power(spectra: &[Spectrum]) -> Vec<f32> {
    let mut sums = vec![0.0f32; SIZE / 2 + 1];
    for spectrum in spectra {
        sums.iter_mut().zip(spectrum).for_each(|(sum, bin)| *sum += bin.norm_sqr());
    }
    sums.into_iter().map(|sum| sum / spectra.len().max(1) as f32).collect()
}

/// The level at a moment and a frequency and around it, weighed by nearness.
fn level_around(levels: &[Vec<f32>], moment: usize, at: usize) -> f32 {
    let near = |here: usize, all: usize| here.saturating_sub(AROUND)..(here + AROUND + 1).min(all);
    let weight = |one: usize, other: usize| (AROUND + 1 - one.abs_diff(other)) as f32;
    let (mut sum, mut weights) = (0.0, 0.0);
    for then in near(moment, levels.len()) {
        for beside in near(at, levels[then].len()) {
            let weight = weight(then, moment) * weight(beside, at);
            sum += weight * levels[then][beside];
            weights += weight;
        }
    }
    sum / weights
}

/// Takes a sound apart into overlapping spectra and puts it together again.
struct FilterBank {
    forward: Arc<dyn RealToComplex<f32>>,
    back: Arc<dyn ComplexToReal<f32>>,
    taper: Vec<f32>,
}

impl FilterBank {
    fn new() -> FilterBank {
        let mut planner = RealFftPlanner::<f32>::new();
        let taper = (0..SIZE).map(|at| (PI * (at as f32 + 0.5) / SIZE as f32).sin()).collect();
        FilterBank {
            forward: planner.plan_fft_forward(SIZE),
            back: planner.plan_fft_inverse(SIZE),
            taper,
        }
    }

    fn spectrum(&self, sound: &[i16], from: usize) -> Spectrum {
        let sample = |at: usize| sound.get(from + at).map_or(0.0, |s| f32::from(*s));
        let mut frame: Vec<f32> =
            self.taper.iter().enumerate().map(|(at, t)| t * sample(at)).collect();
        let mut spectrum = self.forward.make_output_vec();
        self.forward.process(&mut frame, &mut spectrum).expect("the vectors are of its size");
        spectrum
    }

    fn add(&self, mut spectrum: Spectrum, out: &mut [f32]) {
        // A real sound has no phase at either end.
        spectrum[0].im = 0.0;
        spectrum[SIZE / 2].im = 0.0;
        let mut samples = self.back.make_output_vec();
        self.back.process(&mut spectrum, &mut samples).expect("the vectors are of its size");
        for ((place, sample), taper) in out.iter_mut().zip(samples).zip(&self.taper) {
            *place += sample * taper / SIZE as f32;
        }
    }
}
