//! Distance of two sounds, whatever their speed.
//!
//! Dynamic time warping in the symmetric form without a slope constraint, within a band around the
//! diagonal.
//!
//! Source: Sakoe and Chiba, "Dynamic programming algorithm optimization for spoken word recognition",
//! IEEE Transactions on Acoustics, Speech, and Signal Processing 26 (1978).

use crate::cepstra::Features;

/// The band's half width, as a share of the longer sound.
const BAND: f32 = 0.2;
/// One sound may be so many times as long as another.
const LONGEST: f32 = 2.0;

/// How far apart they are, per frame; `None` if their lengths cannot be the same words.
pub fn warped_distance(one: &[Features], other: &[Features]) -> Option<f32> {
    let (rows, columns) = (one.len(), other.len());
    let (shorter, longer) = (rows.min(columns) as f32, rows.max(columns) as f32);
    if shorter == 0.0 || longer / shorter > LONGEST {
        return None;
    }
    let slope = columns as f32 / rows as f32;
    let half = (BAND * longer).ceil() as usize + 1;
    let mut before = vec![f32::INFINITY; columns + 1];
    let mut here = vec![f32::INFINITY; columns + 1];
    before[0] = 0.0;
    for (row, frame) in one.iter().enumerate() {
        here.fill(f32::INFINITY);
        let middle = (row as f32 * slope) as usize;
        let (from, until) = (middle.saturating_sub(half), (middle + half + 1).min(columns));
        for column in from..until {
            let step = distance(frame, &other[column]);
            let straight = before[column] + 2.0 * step;
            let aside = before[column + 1].min(here[column]) + step;
            here[column + 1] = straight.min(aside);
        }
        std::mem::swap(&mut before, &mut here);
    }
    let total = before[columns];
    total.is_finite().then(|| total / (rows + columns) as f32)
}

fn distance(one: &Features, other: &Features) -> f32 {
    one.iter().zip(other).map(|(a, b)| (a - b) * (a - b)).sum::<f32>().sqrt()
}
