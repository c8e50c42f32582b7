//! How sure it is that a drawing is the shape that it came nearest to.
//!
//! The distance alone does not decide. A random movement comes near a simple shape more often than near
//! a complex one, and nearer to one of many shapes than to one of few. The user's own examples show how
//! evenly they draw.
//!
//! Each such feature has a weight. The weighted sum is the logarithm of the odds that the drawing is
//! the shape and not a movement without meaning. The weights come from a logistic regression (Berkson,
//! "Application of the logistic function to bio-assay", Journal of the American Statistical Association
//! 39, 1944). The benchmark of shapes fits them anew on request, on drawings of one family of simulated
//! hands.

use std::f32::consts::PI;

use super::multi_resolution::MultiResolution;
use super::normal_form::RotationBounds;

/// How long lines are that are compared with, in pixels, and how many there are.
const LINE: f32 = 1000.0;
const LINES: usize = 16;
/// A shape that is nearer to a line than this is a line.
const IS_LINE: f32 = 0.094;
/// What is never near a line is so far from it.
const FAR_FROM_LINE: f32 = 2.0;
/// How far two examples of one person are apart on average.
const USUAL_SPREAD: f32 = 0.16;
/// How far a hand that draws more or less evenly is from the usual one at the most.
const SPREADS: (f32, f32) = (0.6, 1.7);
/// What is known of a single shape counts beside so many pairs of the whole hand.
const OTHER_PAIRS: f32 = 8.0;
/// Less turning than this is trembling, in radians.
const LEAST_TURNING: f32 = 0.3;
/// Minimum turning, in radians, with which a drawing is compared with a line. It is larger than for other
/// shapes, so that trembling does not speak against a line.
const TURNING_OF_LINE: f32 = 1.0;
/// The next shape is never said to be farther away than so many times.
const FARTHEST_RIVAL: f32 = 4.0;
/// How much farther it mostly is.
const USUAL_RIVAL: f32 = 2.0;
/// How often the span of a limit is halved.
const HALVINGS: usize = 12;
/// The weights were fitted where so many shapes count.
const USUAL_SHAPES: f32 = 60.0;
/// Nearer than this is the same: by hand, and in words, which do not say how long the legs are.
const SAME: f32 = 0.04;
const SAME_IN_WORDS: f32 = 0.12;
/// How sure it is at least that what is the same is meant.
const SURE_OF_THE_SAME: f32 = 0.7;

/// More examples than these tell nothing more.
const TELLING: usize = 3;

/// How many signs there are.
pub const SIGNS: usize = 18;

/// What is weighed, in the order of the weights.
pub type EvidenceVector = [f32; SIGNS];

/// The weight of each sign and of none.
#[derive(Debug)]
struct Weights {
    signs: EvidenceVector,
    none: f32,
}

/// For shapes that were shown.
#[rustfmt::skip]
const BY_HAND: Weights = Weights {
    signs: [
        -10.400, -5.205, 1.909, 1.703, 5.634, 1.652, 1.242, -4.169, -0.738,
        0.738, -1.860, -0.568, -1.277, -1.195, -1.314, 1.146, -0.863, 9.759,
    ],
    none: -14.44 + LENIENCE,
};

/// For shapes in words.
#[rustfmt::skip]
const IN_WORDS: Weights = Weights {
    signs: [
        -13.982, 0.0, 3.117, 1.642, 0.0, 1.134, 0.775, 0.0, -2.978,
        0.0, -1.505, -0.494, 0.0, 0.0, 0.0, 0.967, -0.807, 16.404,
    ],
    none: -16.96 + LENIENCE_IN_WORDS,
};

/// How much likelier a drawing is meant than in what the weights were fitted on: who holds a key down
/// and moves mostly means to draw.
const LENIENCE: f32 = 1.2;
const LENIENCE_IN_WORDS: f32 = 2.1;

/// Features of a drawing by which its similarity to a shape is judged.
#[derive(Debug, Clone, Copy)]
pub(super) struct ShapeFeatures {
    /// Distance to the nearest example and to the second nearest, which is the same if there is only one.
    pub(super) near: (f32, f32),
    /// Distance to the next shape as a multiple of the distance to this one.
    pub(super) rival: f32,
    /// Rotation as a share of what is allowed, from 0 to 1.
    pub(super) turned: f32,
    /// Sum of all changes of direction, in radians.
    pub(super) turning: f32,
    /// Number of shapes that are compared with.
    pub(super) shapes: usize,
}

/// What is known of a shape before anything is drawn.
#[derive(Debug, Clone, Copy)]
pub(super) struct ShapeProfile {
    by_hand: bool,
    examples: usize,
    strokes: usize,
    /// How far it is from a line.
    line: f32,
    /// Sum of all changes of direction, in radians.
    turning: f32,
    /// How unevenly the person draws, beside a usual one.
    evenness: f32,
}

impl ShapeProfile {
    /// Of a shape with these drawings.
    pub(super) fn of(sights: &[MultiResolution], by_hand: bool) -> ShapeProfile {
        let lines = sights.iter().map(from_line);
        // A path in words has drawings that are nearly lines; of a hand's they are alike.
        let line = if by_hand { mean(lines) } else { lines.fold(FAR_FROM_LINE, f32::min) };
        let turning = mean(sights.iter().map(MultiResolution::turning));
        let strokes = sights.iter().map(MultiResolution::strokes).max().unwrap_or(1);
        ShapeProfile {
            by_hand,
            examples: sights.len().max(1),
            strokes,
            line,
            turning,
            evenness: 1.0,
        }
    }

    /// The same for a hand that draws so evenly.
    pub(super) fn by(self, evenness: f32) -> ShapeProfile {
        ShapeProfile { evenness, ..self }
    }

    /// How near is as near as it is to be.
    fn same(&self) -> f32 {
        if self.by_hand { SAME } else { SAME_IN_WORDS }
    }

    /// Whether it is one straight stroke.
    fn is_line(&self) -> bool {
        self.strokes == 1 && self.line == FAR_FROM_LINE
    }

    /// What speaks for a drawing that stands so being this shape.
    fn signs(&self, drawing: ShapeFeatures) -> EvidenceVector {
        let near = drawing.near.0.max(self.same()).ln();
        let next = drawing.near.1.max(self.same()).ln() - near;
        let least = if self.is_line() { TURNING_OF_LINE } else { LEAST_TURNING };
        let turning = self.turning.max(least).ln();
        let line = self.line.ln();
        let rival = drawing.rival.clamp(1.0, FARTHEST_RIVAL).ln();
        let own_turning = drawing.turning.max(least).ln() - turning;
        let examples = if self.by_hand { (self.examples.min(TELLING) as f32).ln() } else { 0.0 };
        [
            near,
            next,
            turning,
            line,
            self.evenness.ln(),
            rival,
            own_turning,
            examples,
            near * near,
            line * line,
            drawing.turned * drawing.turned,
            own_turning * own_turning,
            near * turning,
            near * line,
            near * examples,
            near * rival,
            (drawing.shapes.max(1) as f32 / USUAL_SHAPES).ln(),
            (self.strokes as f32).ln(),
        ]
    }

    /// How far a drawing may be off and be as likely this shape as not, if all else is as usual.
    pub(super) fn limit(&self, shapes: usize) -> f32 {
        let (mut inside, mut outside) = (0.0, FAR_FROM_LINE);
        for _ in 0..HALVINGS {
            let near = (inside + outside) / 2.0;
            let usual = ShapeFeatures {
                near: (near, near),
                rival: USUAL_RIVAL,
                turned: 0.0,
                turning: self.turning,
                shapes,
            };
            if self.certainty(usual).0 < 0.5 { outside = near } else { inside = near }
        }
        outside
    }

    /// How sure it is that a drawing that stands so is this shape, from 0 to 1, and what tells it.
    pub(super) fn certainty(&self, drawing: ShapeFeatures) -> (f32, EvidenceVector) {
        let signs = self.signs(drawing);
        let sure = self.weighed(&signs);
        // What speaks against simple shapes is that a hand comes near them by chance; not so near.
        let is_same = drawing.near.0 <= self.same().min(self.line / 2.0);
        (if is_same { sure.max(SURE_OF_THE_SAME) } else { sure }, signs)
    }

    /// How sure the signs make it, from 0 to 1.
    fn weighed(&self, signs: &EvidenceVector) -> f32 {
        let weights = if self.by_hand { &BY_HAND } else { &IN_WORDS };
        let weighed = signs.iter().zip(&weights.signs).map(|(sign, weight)| sign * weight);
        1.0 / (1.0 + (-(weights.none + weighed.sum::<f32>())).exp())
    }
}

fn mean(numbers: impl Iterator<Item = f32>) -> f32 {
    let (sum, count) = numbers.fold((0.0, 0.0), |(sum, count), next| (sum + next, count + 1.0));
    sum / f32::max(count, 1.0)
}

/// How far a drawing is from the nearest straight line.
fn from_line(sight: &MultiResolution) -> f32 {
    if sight.strokes() > 1 {
        return FAR_FROM_LINE;
    }
    let lines = (0..LINES).map(|line| {
        let (sine, cosine) = (2.0 * PI * line as f32 / LINES as f32).sin_cos();
        let line = MultiResolution::of(&[vec![(0.0, 0.0), (LINE * cosine, LINE * sine)]]);
        line.map_or(FAR_FROM_LINE, |line| sight.apart(&line, RotationBounds::degrees(0.0)))
    });
    let nearest = lines.fold(FAR_FROM_LINE, f32::min);
    // A shape that is a line is as near as it is to be.
    if nearest < IS_LINE { FAR_FROM_LINE } else { nearest }
}

/// How far a person's own examples are from each other: the sum over pairs, and how many there are.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct ExampleSpread {
    sum: f32,
    pairs: f32,
}

impl ExampleSpread {
    pub(super) fn of(sights: &[MultiResolution], bounds: RotationBounds) -> ExampleSpread {
        let mut spread = ExampleSpread::default();
        for (at, one) in sights.iter().enumerate() {
            for other in sights[at + 1..].iter().filter(|two| two.strokes() == one.strokes()) {
                spread.sum += one.apart(other, bounds);
                spread.pairs += 1.0;
            }
        }
        spread
    }

    pub(super) fn and(self, other: &ExampleSpread) -> ExampleSpread {
        ExampleSpread { sum: self.sum + other.sum, pairs: self.pairs + other.pairs }
    }

    /// The mean, as if so many more pairs were known that are `usual` apart.
    fn mean(self, usual: f32, more: f32) -> f32 {
        (self.sum + usual * more) / (self.pairs + more)
    }

    /// How unevenly a shape is drawn: a hand is known by all that it drew, and a shape's
    /// own few examples count beside that.
    pub(super) fn evenness(self, hand: ExampleSpread) -> f32 {
        let usual = hand.mean(USUAL_SPREAD, OTHER_PAIRS);
        (self.mean(usual, OTHER_PAIRS) / USUAL_SPREAD).clamp(SPREADS.0, SPREADS.1)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Natures as different as shapes are.
    fn natures() -> Vec<ShapeProfile> {
        let mut natures = Vec::new();
        for by_hand in [true, false] {
            for (strokes, line, turning) in [
                (1, FAR_FROM_LINE, 0.0),
                (1, 0.1, 0.8),
                (1, 0.2, 1.5),
                (1, 0.9, 7.0),
                (3, FAR_FROM_LINE, 0.1),
            ] {
                let usual =
                    ShapeProfile { by_hand, examples: 3, strokes, line, turning, evenness: 1.0 };
                natures.extend([usual, ShapeProfile { examples: 1, ..usual }, usual.by(SPREADS.1)]);
            }
        }
        natures
    }

    fn certainty(nature: &ShapeProfile, near: f32, rival: f32, shapes: usize) -> f32 {
        let turning = nature.turning;
        let standing = ShapeFeatures { near: (near, near), rival, turned: 0.2, turning, shapes };
        nature.certainty(standing).0
    }

    #[test]
    fn a_drawing_that_is_farther_away_is_never_surer() {
        for nature in natures() {
            for (rival, shapes) in [(1.0, 60), (1.5, 10), (f32::INFINITY, 1)] {
                let sure = |step: usize| certainty(&nature, step as f32 / 50.0, rival, shapes);
                for step in 0..60 {
                    assert!(sure(step) >= sure(step + 1), "{nature:?} {rival} {shapes} {step}");
                }
            }
        }
    }

    #[test]
    fn the_same_drawing_counts_and_one_that_is_nothing_like_it_does_not() {
        for nature in natures() {
            assert!(certainty(&nature, 0.0, 3.0, 20) > 0.5, "{nature:?}");
            assert!(certainty(&nature, 1.4, 1.1, 20) < 0.5, "{nature:?}");
            let limit = nature.limit(20);
            assert!((0.02..1.5).contains(&limit), "{nature:?} {limit}");
        }
    }
}
