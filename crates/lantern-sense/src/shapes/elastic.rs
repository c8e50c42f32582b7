//! The elastic comparison of two forms: how far they are apart if the steps of one may be held or
//! hurried against those of the other, so that a longer leg or a rounder corner counts for little.
//!
//! Dynamic time warping within a band, as in Sakoe and Chiba (1978), over the place and the direction
//! of each step; the same as for sounds, but ends are tied, strokes go with strokes, and nothing is
//! allocated.

use super::Spot;
use super::form::{Form, STEPS};

/// How many steps one form may be ahead of the other, as a share of a stroke's steps.
const BAND: f32 = 0.22;
/// What a wrong direction costs beside a wrong place.
const DIRECTION: f32 = 0.7;
/// What each step costs at which one waits for the other.
const WAIT: f32 = 0.02;

/// How far the forms are apart, per step; of forms with the same number of strokes.
pub(super) fn apart(one: &Form, other: &Form) -> f32 {
    let each = one.steps_each();
    let total: f32 = (0..one.strokes).map(|stroke| stroke_apart(one, other, stroke * each, each)).sum();
    total / one.strokes as f32
}

/// How far two strokes are apart, per step.
fn stroke_apart(one: &Form, other: &Form, first: usize, count: usize) -> f32 {
    let band = (BAND * count as f32).ceil() as usize;
    let mut places = [((0.0, 0.0), (0.0, 0.0)); STEPS];
    for (at, place) in places[..count].iter_mut().enumerate() {
        *place = (other.place(first + at), other.direction(first + at));
    }
    let mut before = [f32::INFINITY; STEPS + 1];
    let mut here = [f32::INFINITY; STEPS + 1];
    before[0] = 0.0;
    for row in 0..count {
        let (place, direction) = (one.place(first + row), one.direction(first + row));
        let (from, until) = (row.saturating_sub(band), (row + band + 1).min(count));
        here[from] = f32::INFINITY;
        for column in from..until {
            let (other_place, other_direction) = places[column];
            let cost = off(place, other_place) + DIRECTION * astray(direction, other_direction);
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

/// How far two places are apart.
fn off(one: Spot, other: Spot) -> f32 {
    let (x, y) = (one.0 - other.0, one.1 - other.1);
    (x * x + y * y).sqrt()
}

/// How far two directions are apart: 0 for the same, 1 for opposite ones.
fn astray(one: Spot, other: Spot) -> f32 {
    let cosine = one.0 * other.0 + one.1 * other.1;
    if one == (0.0, 0.0) && other == (0.0, 0.0) { 0.0 } else { (1.0 - cosine) / 2.0 }
}

#[cfg(test)]
mod tests {
    use super::super::Stroke;
    use super::*;

    fn form(strokes: &[Stroke]) -> Form {
        Form::of(strokes).unwrap()
    }

    #[test]
    fn a_longer_leg_counts_for_less_than_another_corner() {
        let even = form(&[vec![(0.0, 0.0), (50.0, 60.0), (100.0, 0.0)]]);
        let uneven = form(&[vec![(0.0, 20.0), (30.0, 60.0), (100.0, 0.0)]]);
        let round: Stroke = (0..=40)
            .map(|at| std::f32::consts::PI * at as f32 / 40.0)
            .map(|angle| (50.0 - 50.0 * angle.cos(), 60.0 * angle.sin()))
            .collect();
        let round = form(&[round]);
        assert!(apart(&even, &even) < 1e-6);
        assert!(apart(&even, &uneven) < 0.9 * apart(&even, &round));
    }

    #[test]
    fn it_is_the_same_both_ways() {
        let one = form(&[vec![(0.0, 0.0), (40.0, 10.0), (10.0, 80.0)], vec![(5.0, 5.0), (9.0, 60.0)]]);
        let other = form(&[vec![(0.0, 0.0), (10.0, 70.0)], vec![(0.0, 20.0), (70.0, 20.0)]]);
        assert!((apart(&one, &other) - apart(&other, &one)).abs() < 1e-4);
    }
}
