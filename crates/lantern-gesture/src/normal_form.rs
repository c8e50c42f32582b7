//! The normal form of a drawing.
//!
//! Resampling to steps of equal length and centring are as in Wobbrock, Wilson and Li, "Gestures
//! without libraries, toolkits or training: a $1 recognizer for user interface prototypes" (UIST 2007).
//! Forms are scaled to unit length of the whole vector and compared by their angle; the best rotation
//! has a closed form. Both are as in Li, "Protractor: a fast and accurate gesture recognizer" (CHI
//! 2010).
//!
//! Each step also has its direction, which is rotated with the position. This is our addition. It tells
//! shapes of the same outline apart by how they are drawn, and a corner from a bend.

use std::f32::consts::PI;

use lantern_model::{Point, StrokePath};

/// Steps of a form, over all its strokes.
pub(super) const STEPS: usize = 32;
/// A drawing is cut into so many pieces for each step.
const FINER: usize = 2;
/// Steps between which it is looked how much a stroke turns: the trembling of a hand is shorter.
const CHORD: usize = 3;
/// Strokes of a drawing at the most, so that each has steps enough to be told.
pub(super) const STROKES: usize = 8;
/// How much of a form is place; the rest is direction.
const PLACE_SHARE: f32 = 0.5;
/// A stroke that is shorter than this share of the drawing is a tap.
const TAP: f32 = 0.08;

/// A drawing in its normal form.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct NormalForm {
    /// How many strokes it has.
    pub(super) strokes: usize,
    /// Places, then directions: each all that is across, then all that is down.
    pub(super) row: Box<[f32; 4 * STEPS]>,
}

/// A step for the elastic comparison. The position is scaled so that steps are at a mean distance of
/// one from the centre; the direction has length one, or zero in a tap.
#[derive(Debug, Clone, Copy)]
pub(super) struct PathStep {
    pub place: Point,
    pub direction: Point,
}

/// By how much a form may be turned to either side.
#[derive(Debug, Clone, Copy)]
pub(super) struct RotationBounds {
    most: f32,
    sine: f32,
    cosine: f32,
}

impl RotationBounds {
    /// So many degrees; more than half a turn is any.
    pub(super) fn degrees(degrees: f32) -> RotationBounds {
        let most = degrees.to_radians().clamp(0.0, PI);
        RotationBounds { most, sine: most.sin(), cosine: most.cos() }
    }
}

impl PathStep {
    /// The step turned by an angle, given by its sine and cosine.
    pub(super) fn turned(self, (sine, cosine): (f32, f32)) -> PathStep {
        let turned = |(x, y): Point| (x * cosine - y * sine, x * sine + y * cosine);
        PathStep { place: turned(self.place), direction: turned(self.direction) }
    }
}

impl NormalForm {
    /// Into how many pieces a drawing is cut.
    pub(super) const PIECES: usize = FINER * STEPS;

    /// The forms of a drawing, smoothed so many times each, fewer before more; `None` if there is nothing
    /// to see, or more strokes than can be told apart.
    pub(super) fn smoothed(strokes: &[StrokePath], passes: &[usize]) -> Option<Vec<NormalForm>> {
        let strokes: Vec<&StrokePath> =
            strokes.iter().filter(|stroke| !stroke.is_empty()).collect();
        if strokes.is_empty() || strokes.len() > STROKES {
            return None;
        }
        let each = FINER * (STEPS / strokes.len());
        let lengths: Vec<f32> = strokes.iter().map(|stroke| length_of(stroke)).collect();
        let longest = lengths.iter().copied().fold(0.0, f32::max);
        let mut pieces: Vec<Vec<Point>> = strokes
            .iter()
            .zip(&lengths)
            .map(|(one, length)| resampled(one, *length, each))
            .collect();
        let is_tap: Vec<bool> = lengths.iter().map(|length| *length <= TAP * longest).collect();
        let mut done = 0;
        let forms = passes.iter().map(|passes| {
            for _ in done..*passes {
                pieces.iter_mut().for_each(|stroke| smooth(stroke));
            }
            done = *passes;
            NormalForm::of_pieces(&pieces, &is_tap)
        });
        Some(forms.collect())
    }

    /// The form of strokes that are cut into pieces of equal length.
    fn of_pieces(strokes: &[Vec<Point>], is_tap: &[bool]) -> NormalForm {
        let mut places = Vec::with_capacity(STEPS);
        let mut directions = Vec::with_capacity(STEPS);
        for (points, is_tap) in strokes.iter().zip(is_tap) {
            for at in (0..points.len()).step_by(FINER) {
                // Each step's direction is taken over its two neighbours.
                let (before, after) =
                    (points[at.saturating_sub(1)], points[(at + 1).min(points.len() - 1)]);
                let (x, y) = (after.0 - before.0, after.1 - before.1);
                let length = distance(before, after);
                let still = *is_tap || length == 0.0;
                directions.push(if still { (0.0, 0.0) } else { (x / length, y / length) });
                places.push(points[at]);
            }
        }
        let count = places.len() as f32;
        let middle_x = places.iter().map(|point| point.0).sum::<f32>() / count;
        let middle_y = places.iter().map(|point| point.1).sum::<f32>() / count;
        places.iter_mut().for_each(|point| *point = (point.0 - middle_x, point.1 - middle_y));
        let mut row = Box::new([0.0; 4 * STEPS]);
        fill(&mut row[..2 * STEPS], &places, PLACE_SHARE);
        fill(&mut row[2 * STEPS..], &directions, 1.0 - PLACE_SHARE);
        NormalForm { strokes: strokes.len(), row }
    }

    /// The form seen in a mirror that swaps left and right.
    pub(super) fn mirrored(&self) -> NormalForm {
        let mut form = self.clone();
        for part in [0, 2 * STEPS] {
            form.row[part..part + STEPS].iter_mut().for_each(|across| *across = -*across);
        }
        form
    }

    /// How alike two forms are if this one may be turned within bounds, from -1 to 1: equation 3 of
    /// the second paper named above, with the turn kept in its bounds.
    pub(super) fn likeness(&self, other: &NormalForm, bounds: RotationBounds) -> f32 {
        let (along, across) = self.along_and_across(other);
        let free = (along * along + across * across).sqrt();
        let bounded = along * bounds.cosine + across.abs() * bounds.sine;
        if along >= free * bounds.cosine { free } else { bounded }
    }

    /// The turn within bounds at which two forms are most alike, the way a clock's hand goes.
    pub(super) fn best_turn(&self, other: &NormalForm, bounds: RotationBounds) -> f32 {
        let (along, across) = self.along_and_across(other);
        across.atan2(along).clamp(-bounds.most, bounds.most)
    }

    /// The best turn as a share of the most that is allowed, from 0 to 1.
    pub(super) fn share_of_turn(&self, other: &NormalForm, bounds: RotationBounds) -> f32 {
        if bounds.most == 0.0 { 0.0 } else { self.best_turn(other, bounds).abs() / bounds.most }
    }

    fn along_and_across(&self, other: &NormalForm) -> (f32, f32) {
        let (mut along, mut across) = (0.0, 0.0);
        for part in [0, 2 * STEPS] {
            let (x, y) = self.row[part..part + 2 * STEPS].split_at(STEPS);
            let (other_x, other_y) = other.row[part..part + 2 * STEPS].split_at(STEPS);
            along += dot(x, other_x) + dot(y, other_y);
            across += dot(x, other_y) - dot(y, other_x);
        }
        (along, across)
    }

    /// The steps of each stroke.
    pub(super) fn strokes(&self) -> Vec<Vec<PathStep>> {
        let each = STEPS / self.strokes;
        let of_stroke =
            |stroke: usize| (0..each).map(move |at| self.step(stroke * each + at)).collect();
        (0..self.strokes).map(of_stroke).collect()
    }

    fn step(&self, at: usize) -> PathStep {
        let scale = (STEPS as f32 / PLACE_SHARE).sqrt();
        let place = (self.row[at] * scale, self.row[STEPS + at] * scale);
        let (x, y) = (self.row[2 * STEPS + at], self.row[3 * STEPS + at]);
        let length = distance((0.0, 0.0), (x, y));
        let direction = if length == 0.0 { (0.0, 0.0) } else { (x / length, y / length) };
        PathStep { place, direction }
    }

    /// How much the strokes turn in all, in radians, but for the trembling of a hand.
    pub(super) fn turning(&self) -> f32 {
        let each = STEPS / self.strokes;
        let mut total = 0.0;
        for stroke in 0..self.strokes {
            let points: Vec<Point> =
                (0..each).step_by(CHORD).map(|at| self.step(stroke * each + at).place).collect();
            total += points.windows(3).map(turn).sum::<f32>();
        }
        total
    }
}

/// By how much the way over three places turns.
fn turn(three: &[Point]) -> f32 {
    let (x, y) = (three[1].0 - three[0].0, three[1].1 - three[0].1);
    let (next_x, next_y) = (three[2].0 - three[1].0, three[2].1 - three[1].1);
    (x * next_y - y * next_x).atan2(x * next_x + y * next_y).abs()
}

/// Writes what is across and what is down, scaled so that the sum of squares is `share`.
fn fill(row: &mut [f32], points: &[Point], share: f32) {
    let size = points.iter().map(|(x, y)| x * x + y * y).sum::<f32>().sqrt();
    let scale = if size == 0.0 { 0.0 } else { share.sqrt() / size };
    for (at, (x, y)) in points.iter().enumerate() {
        row[at] = x * scale;
        row[STEPS + at] = y * scale;
    }
}

/// The inner product, in lanes that a compiler can do at once.
fn dot(one: &[f32], other: &[f32]) -> f32 {
    let mut lanes = [0.0; 8];
    for (one, other) in one.chunks_exact(8).zip(other.chunks_exact(8)) {
        for lane in 0..8 {
            lanes[lane] += one[lane] * other[lane];
        }
    }
    lanes.iter().sum()
}

fn distance(one: Point, other: Point) -> f32 {
    let (x, y) = (one.0 - other.0, one.1 - other.1);
    (x * x + y * y).sqrt()
}

/// How long a stroke is.
pub(super) fn length_of(stroke: &[Point]) -> f32 {
    stroke.windows(2).map(|pair| distance(pair[0], pair[1])).sum()
}

/// So many places along a stroke of this length, the same way apart.
fn resampled(stroke: &[Point], length: f32, count: usize) -> Vec<Point> {
    let mut points = Vec::with_capacity(count);
    let step_at = |at: usize| stroke.get(at + 1).map_or(0.0, |next| distance(stroke[at], *next));
    let (mut at, mut gone, mut step) = (0, 0.0, step_at(0));
    for number in 0..count {
        let wanted = length * number as f32 / (count - 1) as f32;
        while at + 2 < stroke.len() && gone + step < wanted {
            gone += step;
            at += 1;
            step = step_at(at);
        }
        let next = stroke.get(at + 1).unwrap_or(&stroke[at]);
        let share = if step == 0.0 { 0.0 } else { ((wanted - gone) / step).min(1.0) };
        let between = |from: f32, to: f32| from + (to - from) * share;
        points.push((between(stroke[at].0, next.0), between(stroke[at].1, next.1)));
    }
    points
}

/// Takes a hand's trembling and the grid of a screen out: each place is weighed with its neighbours
/// as 1, 2, 1. The ends stay.
fn smooth(points: &mut [Point]) {
    let Some(mut before) = points.first().copied() else { return };
    for at in 1..points.len().saturating_sub(1) {
        let (here, after) = (points[at], points[at + 1]);
        let mean = |before: f32, here: f32, after: f32| (before + 2.0 * here + after) / 4.0;
        points[at] = (mean(before.0, here.0, after.0), mean(before.1, here.1, after.1));
        before = here;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn form_of(strokes: &[StrokePath]) -> Option<NormalForm> {
        NormalForm::smoothed(strokes, &[1])?.pop()
    }

    fn hook(size: f32) -> Vec<StrokePath> {
        vec![vec![(0.0, 0.0), (0.0, size), (size / 2.0, size)]]
    }

    #[test]
    fn size_and_place_do_not_count() {
        let form = form_of(&hook(20.0)).unwrap();
        let moved: Vec<StrokePath> = hook(2000.0)
            .into_iter()
            .map(|stroke| stroke.into_iter().map(|(x, y)| (x + 700.0, y - 90.0)).collect())
            .collect();
        let moved = form_of(&moved).unwrap();
        assert!(form.likeness(&moved, RotationBounds::degrees(20.0)) > 0.99);
        assert!(form.best_turn(&moved, RotationBounds::degrees(20.0)).abs() < 0.02);
    }

    #[test]
    fn the_best_turn_is_found_within_its_bounds() {
        let form = form_of(&hook(100.0)).unwrap();
        let (sine, cosine) = 0.2_f32.sin_cos();
        let turned = hook(100.0).into_iter().map(|stroke| {
            stroke
                .into_iter()
                .map(|(x, y)| (x * cosine - y * sine, x * sine + y * cosine))
                .collect()
        });
        let turned = form_of(&turned.collect::<Vec<StrokePath>>()).unwrap();
        let (wide, narrow) = (RotationBounds::degrees(20.0), RotationBounds::degrees(5.0));
        assert!(form.likeness(&turned, wide) > 0.9999);
        assert!((form.best_turn(&turned, wide) - 0.2).abs() < 0.001);
        assert!(form.likeness(&turned, narrow) < 0.999);
        assert!((form.best_turn(&turned, narrow) - 5.0_f32.to_radians()).abs() < 0.001);
    }

    #[test]
    fn the_other_way_round_is_another_shape() {
        let there = form_of(&hook(100.0)).unwrap();
        let back: Vec<StrokePath> =
            hook(100.0).into_iter().map(|stroke| stroke.into_iter().rev().collect()).collect();
        let likeness = there.likeness(&form_of(&back).unwrap(), RotationBounds::degrees(20.0));
        assert!(likeness < 0.1, "{likeness}");
    }

    #[test]
    fn nothing_and_too_much_have_no_form() {
        assert_eq!(form_of(&[]), None);
        assert_eq!(form_of(&[Vec::new()]), None);
        assert_eq!(form_of(&vec![vec![(1.0, 1.0)]; STROKES + 1]), None);
        // A single place is a tap: it has a form that is like nothing.
        let tap = form_of(&[vec![(5.0, 5.0)]]).unwrap();
        assert!(tap.row.iter().all(|part| *part == 0.0));
    }
}
