//! How near a drawing must come to be taken for a shape.
//!
//! A hand comes near a simple shape by chance more often than near one with much to it, and nearer to
//! one of many shapes than to one of few. A person's own examples show how evenly they draw.

use std::f32::consts::PI;

use super::form::Bounds;
use super::sight::Sight;

/// How far a drawing may be from a shape of one straight stroke, and how much farther for each
/// radian that the shape turns: the more there is to it, the less likely a hand does it by chance.
const LIMIT: f32 = 0.094;
const LIMIT_PER_TURN: f32 = 0.0395;
/// How much farther if it has several strokes.
const LIMIT_FOR_STROKES: f32 = 0.28;
/// The bounds of all that.
const LIMITS: (f32, f32) = (0.16, 0.437);
/// It must be nearer to the shape than a straight line is, by this share.
const LINE_SHARE: f32 = 0.48;
/// The same for words.
const LINE_SHARE_IN_WORDS: f32 = 0.75;
/// How long lines are that are compared with, in pixels, and how many there are.
const LINE: f32 = 1000.0;
const LINES: usize = 16;
/// How far two examples of one person are apart on average.
const USUAL_SPREAD: f32 = 0.16;
/// How much a hand that draws more or less evenly moves the limit at the most.
const SPREADS: (f32, f32) = (0.6, 1.7);
/// What is known of a single shape counts beside so many pairs of the whole hand.
const OTHER_PAIRS: f32 = 8.0;
/// How much farther a drawing may be off from a single example, from two, and from three: the fewer
/// there are, the farther is the nearest of them.
const FEW: [f32; 3] = [1.35, 1.12, 1.0];
/// The same from words, which do not say how long the legs are.
const IN_WORDS: f32 = 1.45;
/// How much farther a drawing may be off where a dozen shapes count, how much less for each time that
/// there are e times as many, and the bounds of that: the more shapes count, the likelier one of them is
/// met by chance.
const ROOM: f32 = 1.2;
const ROOM_PER_FOLD: f32 = 0.13;
const ROOMS: (f32, f32) = (0.95, 1.35);
const DOZEN: f32 = 12.0;

/// How far a drawing may be off a shape.
#[derive(Debug, Clone, Copy)]
pub(super) struct Limit {
    usual: f32,
    /// Never farther than this, or a line would do.
    line: f32,
}

impl Limit {
    /// By all that is known of the shape but for who draws.
    pub(super) fn of(sights: &[Sight], by_hand: bool) -> Limit {
        // A path in words has drawings that are nearly lines; of a hand's they are alike.
        let line = if by_hand {
            LINE_SHARE * mean(sights, from_line)
        } else {
            LINE_SHARE_IN_WORDS * sights.iter().map(from_line).fold(f32::MAX, f32::min)
        };
        Limit { usual: usual_limit(sights, by_hand), line }
    }

    /// The same for a hand that draws so evenly.
    pub(super) fn moved(self, evenness: f32) -> Limit {
        Limit { usual: self.usual * evenness, ..self }
    }

    /// The same where there is so much room.
    pub(super) fn within(self, room: f32) -> f32 {
        (self.usual * room).min(self.line)
    }
}

/// How much farther drawings may be off where so many shapes count.
pub(super) fn room(shapes: usize) -> f32 {
    let folds = (shapes.max(1) as f32 / DOZEN).ln();
    (ROOM - ROOM_PER_FOLD * folds).clamp(ROOMS.0, ROOMS.1)
}

fn mean(sights: &[Sight], of: fn(&Sight) -> f32) -> f32 {
    sights.iter().map(of).sum::<f32>() / sights.len().max(1) as f32
}

/// How far a drawing may be off a shape, by all that is known of it but for who draws.
fn usual_limit(sights: &[Sight], by_hand: bool) -> f32 {
    let strokes =
        if sights.iter().any(|sight| sight.strokes() > 1) { LIMIT_FOR_STROKES } else { 0.0 };
    let limit = LIMIT + LIMIT_PER_TURN * mean(sights, Sight::turning) + strokes;
    let few = match sights.len().checked_sub(1).and_then(|at| FEW.get(at)) {
        _ if !by_hand => IN_WORDS,
        few => *few.unwrap_or(&1.0),
    };
    few * limit.clamp(LIMITS.0, LIMITS.1)
}

/// How far a drawing is from the nearest straight line.
fn from_line(sight: &Sight) -> f32 {
    if sight.strokes() > 1 {
        return f32::MAX;
    }
    let lines = (0..LINES).map(|line| {
        let (sine, cosine) = (2.0 * PI * line as f32 / LINES as f32).sin_cos();
        let line = Sight::of(&[vec![(0.0, 0.0), (LINE * cosine, LINE * sine)]]);
        line.map_or(f32::MAX, |line| sight.apart(&line, Bounds::degrees(0.0)))
    });
    let nearest = lines.fold(f32::MAX, f32::min);
    // A shape that is a line is as near as it is to be.
    if nearest < LIMIT { f32::MAX } else { nearest }
}

/// How far a person's own examples are from each other: the sum over pairs, and how many there are.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Spread {
    sum: f32,
    pairs: f32,
}

impl Spread {
    pub(super) fn of(sights: &[Sight], bounds: Bounds) -> Spread {
        let mut spread = Spread::default();
        for (at, one) in sights.iter().enumerate() {
            for other in sights[at + 1..].iter().filter(|two| two.strokes() == one.strokes()) {
                spread.sum += one.apart(other, bounds);
                spread.pairs += 1.0;
            }
        }
        spread
    }

    pub(super) fn and(self, other: &Spread) -> Spread {
        Spread { sum: self.sum + other.sum, pairs: self.pairs + other.pairs }
    }

    /// The mean, as if so many more pairs were known that are `usual` apart.
    fn mean(self, usual: f32, more: f32) -> f32 {
        (self.sum + usual * more) / (self.pairs + more)
    }

    /// By how much the limit of a shape is moved: a hand is known by all that it drew, and a shape's
    /// own few examples count beside that.
    pub(super) fn evenness(self, hand: Spread) -> f32 {
        let usual = hand.mean(USUAL_SPREAD, OTHER_PAIRS);
        (self.mean(usual, OTHER_PAIRS) / USUAL_SPREAD).clamp(SPREADS.0, SPREADS.1)
    }
}
