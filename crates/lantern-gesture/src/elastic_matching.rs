//! Elastic distance of two normal forms. Steps of one may match several steps of the other, so that a
//! longer leg or a rounder corner costs little.
//!
//! Dynamic time warping within a band, as in Sakoe and Chiba (1978), over the position and direction of
//! each step. Unlike the comparison of sounds, both ends are fixed, strokes match strokes, and nothing
//! is allocated.

use lantern_model::Point;

use super::normal_form::{PathStep, STEPS};

/// How many steps one stroke may be ahead of the other, as a share of its steps.
const BAND: f32 = 0.16;
/// What each step costs at which one waits for the other.
const WAIT: f32 = 0.06;
/// What a wrong direction costs beside a wrong place; a tap has none.
const ASTRAY: f32 = 0.65;

/// Distance per step of two drawings with the same number of strokes, the first rotated by `turn` radians.
pub(super) fn apart(one: &[Vec<PathStep>], turn: f32, other: &[Vec<PathStep>]) -> f32 {
    let turn = turn.sin_cos();
    let strokes = one.iter().zip(other).map(|(one, other)| stroke_apart(one, turn, other));
    strokes.sum::<f32>() / one.len() as f32
}

/// How far two strokes are apart, per step.
fn stroke_apart(one: &[PathStep], turn: (f32, f32), other: &[PathStep]) -> f32 {
    let count = one.len();
    let band = (BAND * count as f32).ceil() as usize;
    let mut before = [f32::INFINITY; STEPS + 1];
    let mut here = [f32::INFINITY; STEPS + 1];
    let mut costs = [0.0; STEPS];
    before[0] = 0.0;
    for (row, step) in one.iter().enumerate() {
        let step = step.turned(turn);
        let (from, until) = (row.saturating_sub(band), (row + band + 1).min(count));
        // All costs first: roots of several steps are taken at once.
        for (cost, other) in costs[from..until].iter_mut().zip(&other[from..until]) {
            *cost = off(step.place, other.place) + ASTRAY * off(step.direction, other.direction);
        }
        here[from] = f32::INFINITY;
        for column in from..until {
            let cost = costs[column];
            let straight = before[column] + 2.0 * cost;
            let aside = before[column + 1].min(here[column]) + cost + WAIT;
            here[column + 1] = straight.min(aside);
        }
        if until < count {
            here[until + 1] = f32::INFINITY;
        }
        std::mem::swap(&mut before, &mut here);
    }
    before[count] / (2 * count) as f32
}

/// How far two places are apart, or the ends of two directions.
fn off(one: Point, other: Point) -> f32 {
    let (x, y) = (one.0 - other.0, one.1 - other.1);
    (x * x + y * y).sqrt()
}

#[cfg(test)]
mod tests {
    use super::super::normal_form::NormalForm;
    use super::*;
    use lantern_model::StrokePath;

    fn form(strokes: &[StrokePath]) -> Vec<Vec<PathStep>> {
        NormalForm::smoothed(strokes, &[1]).unwrap()[0].strokes()
    }

    #[test]
    fn a_longer_leg_counts_for_less_than_another_corner() {
        let even = form(&[vec![(0.0, 0.0), (50.0, 60.0), (100.0, 0.0)]]);
        let uneven = form(&[vec![(0.0, 12.0), (40.0, 60.0), (100.0, 0.0)]]);
        let round: StrokePath = (0..=40)
            .map(|at| std::f32::consts::PI * at as f32 / 40.0)
            .map(|angle| (50.0 - 50.0 * angle.cos(), 60.0 * angle.sin()))
            .collect();
        let round = form(&[round]);
        assert!(apart(&even, 0.0, &even) < 1e-6);
        assert!(apart(&even, 0.0, &uneven) < apart(&even, 0.0, &round));
    }

    #[test]
    fn it_is_the_same_both_ways() {
        let one =
            form(&[vec![(0.0, 0.0), (40.0, 10.0), (10.0, 80.0)], vec![(5.0, 5.0), (9.0, 60.0)]]);
        let other = form(&[vec![(0.0, 0.0), (10.0, 70.0)], vec![(0.0, 20.0), (70.0, 20.0)]]);
        assert!((apart(&one, 0.0, &other) - apart(&other, 0.0, &one)).abs() < 1e-4);
    }
}
