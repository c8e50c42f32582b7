//! Taking a steady room out of a sound, so that a recogniser with a model hears the voice alone.
//!
//! The gain of each frequency is Wiener's, with the noise known from a stretch without speech, as in Lim
//! and Oppenheim, "Enhancement and bandwidth compression of noisy speech", Proceedings of the IEEE 67
//! (1979). It never falls to nothing, since holes sound worse to a model than noise.

use std::f32::consts::PI;

use realfft::RealFftPlanner;

/// Samples of a transform; half of them overlap.
const SIZE: usize = 512;
const HOP: usize = SIZE / 2;
/// The least that is left of a frequency.
const LEAST: f32 = 0.1;
/// The noise is taken for so many times as strong as it was.
const OVER: f32 = 1.5;

/// The sound without the noise of its first `still` samples.
pub(crate) fn quieted(sound: &[i16], still: usize) -> Vec<i16> {
    let still = still.min(sound.len());
    if still < SIZE {
        return sound.to_vec();
    }
    let mut planner = RealFftPlanner::<f32>::new();
    let (forward, back) = (planner.plan_fft_forward(SIZE), planner.plan_fft_inverse(SIZE));
    let taper: Vec<f32> =
        (0..SIZE).map(|at| (PI * (at as f32 + 0.5) / SIZE as f32).sin()).collect();
    let mut frame = forward.make_input_vec();
    let mut spectrum = forward.make_output_vec();
    let mut analyse = |from: usize, spectrum: &mut Vec<_>| {
        for (at, place) in frame.iter_mut().enumerate() {
            *place = sound.get(from + at).map_or(0.0, |s| f32::from(*s)) * taper[at];
        }
        forward.process(&mut frame, spectrum).expect("the vectors were made for it");
    };
    let mut noise = vec![0.0f32; SIZE / 2 + 1];
    let frames = (still - SIZE) / HOP + 1;
    for number in 0..frames {
        analyse(number * HOP, &mut spectrum);
        for (sum, bin) in noise.iter_mut().zip(&spectrum) {
            *sum += OVER * bin.norm_sqr() / frames as f32;
        }
    }
    let mut out = vec![0.0f32; sound.len() + SIZE];
    let mut voice = vec![0.0f32; SIZE / 2 + 1];
    let mut samples = back.make_output_vec();
    for from in (0..sound.len()).step_by(HOP) {
        analyse(from, &mut spectrum);
        for ((bin, noise), voice) in spectrum.iter_mut().zip(&noise).zip(&mut voice) {
            // What was voice a moment ago is likely to be so now (Ephraim and Malah, 1984).
            let now = (bin.norm_sqr() / noise.max(1.0) - 1.0).max(0.0);
            let before = *voice / noise.max(1.0);
            let ratio = 0.9 * before + 0.1 * now;
            let gain = (ratio / (1.0 + ratio)).max(LEAST);
            *bin *= gain;
            *voice = bin.norm_sqr();
        }
        spectrum[0].im = 0.0;
        spectrum[SIZE / 2].im = 0.0;
        back.process(&mut spectrum, &mut samples).expect("the vectors were made for it");
        for (at, sample) in samples.iter().enumerate() {
            out[from + at] += sample * taper[at] / SIZE as f32;
        }
    }
    out.iter().take(sound.len()).map(|s| s.round().clamp(-32_768.0, 32_767.0) as i16).collect()
}
