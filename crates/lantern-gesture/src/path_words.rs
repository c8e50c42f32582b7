//! Shapes in words: drawings of a path of directions, turns and circles.
//!
//! The words give neither the length of each leg nor the start of the next stroke, so one path has several
//! drawings. Any of them is recognised.

use std::f32::consts::{FRAC_PI_2, FRAC_PI_4, TAU};

use lantern_model::{Point, StrokePath};

use super::frame_of;

/// The words of a path.
pub const PATH_WORDS: [&str; 14] = [
    "up",
    "down",
    "left",
    "right",
    "up-left",
    "up-right",
    "down-left",
    "down-right",
    "turn-left",
    "turn-right",
    "circle-left",
    "circle-right",
    "tap",
    "lift",
];

/// How much longer or shorter one leg may be than the others.
const LEGS: [f32; 2] = [2.0, 0.5];
/// How long a leg is, in pixels, so that a path is as large as a large drawing.
const LEG: f32 = 400.0;
/// The radius of a turn and of a circle.
const RADIUS: f32 = LEG / 2.0;
/// How many places a circle is drawn with.
const CIRCLE: usize = 48;
/// From how many sides a circle may be begun.
const BEGINNINGS: usize = 8;

/// What the pen does for one word.
#[derive(Debug, Clone, Copy, PartialEq)]
enum PenAction {
    /// Straight on, with that heading: 0 is to the right, and it grows as a clock's hand goes.
    Leg(f32),
    /// Round a part of a circle, in turns; to the right if positive.
    Arc(f32),
    /// Down and up again.
    Tap,
    /// Up, and down elsewhere.
    Lift,
}

impl PenAction {
    /// What a word means; `None` if it is none.
    fn of(word: &str) -> Option<PenAction> {
        let eighths = |count: u8| PenAction::Leg(FRAC_PI_4 * f32::from(count));
        Some(match word {
            "right" => eighths(0),
            "down-right" => eighths(1),
            "down" => eighths(2),
            "down-left" => eighths(3),
            "left" => eighths(4),
            "up-left" => eighths(5),
            "up" => eighths(6),
            "up-right" => eighths(7),
            "turn-left" => PenAction::Arc(-0.25),
            "turn-right" => PenAction::Arc(0.25),
            "circle-left" => PenAction::Arc(-1.0),
            "circle-right" => PenAction::Arc(1.0),
            "tap" => PenAction::Tap,
            "lift" => PenAction::Lift,
            _ => return None,
        })
    }
}

/// Where a stroke begins after another was lifted.
#[derive(Debug, Clone, Copy)]
enum StrokeStart {
    Across,
    End,
    Right,
    Below,
}

/// The drawings that a path may mean, the plainest first. Words that are none are passed over.
pub fn strokes_of_words<'w>(words: impl IntoIterator<Item = &'w str>) -> Vec<Vec<StrokePath>> {
    let pens: Vec<PenAction> = words.into_iter().filter_map(PenAction::of).collect();
    let legs = pens.iter().filter(|pen| matches!(pen, PenAction::Leg(_))).count();
    let mut lengths = vec![vec![1.0; legs]];
    if legs > 1 {
        for leg in 0..legs {
            lengths.extend(LEGS.map(|length| {
                let mut lengths = vec![1.0; legs];
                lengths[leg] = length;
                lengths
            }));
        }
    }
    let begins_round = matches!(pens.first(), Some(PenAction::Arc(_)));
    let headings: Vec<f32> = match begins_round {
        true => (0..BEGINNINGS).map(|at| TAU * at as f32 / BEGINNINGS as f32).collect(),
        false => vec![0.0],
    };
    let slants = |pen: &PenAction| matches!(pen, PenAction::Leg(heading) if (heading / FRAC_PI_4) as u8 % 2 == 1);
    let wides: &[f32] = if pens.iter().any(slants) { &[1.0, 0.6, 1.6] } else { &[1.0] };
    let strokes = strokes_in(&pens);
    let besides: &[StrokeStart] = match strokes {
        0 | 1 => &[StrokeStart::End],
        _ => &[StrokeStart::Across, StrokeStart::End, StrokeStart::Right, StrokeStart::Below],
    };
    let mut drawings = Vec::new();
    for beside in besides {
        for heading in &headings {
            for wide in wides {
                let drawn = lengths.iter().map(|lengths| draw(&pens, lengths, *heading, *beside));
                drawings.extend(drawn.map(|strokes| widened(strokes, *wide)));
            }
        }
    }
    drawings
}

/// The drawing made so many times as wide: what goes aslant may be steep or flat.
fn widened(mut strokes: Vec<StrokePath>, wide: f32) -> Vec<StrokePath> {
    strokes.iter_mut().flatten().for_each(|point| point.0 *= wide);
    strokes
}

fn strokes_in(pens: &[PenAction]) -> usize {
    draw(pens, &vec![1.0; pens.len()], 0.0, StrokeStart::End).len()
}

/// One drawing of the path, with these lengths of its legs.
fn draw(pens: &[PenAction], lengths: &[f32], heading: f32, beside: StrokeStart) -> Vec<StrokePath> {
    let mut lengths = lengths.iter();
    let mut heading = heading;
    let mut strokes: Vec<StrokePath> = Vec::new();
    let mut stroke: StrokePath = vec![(0.0, 0.0)];
    let mut lifted = false;
    for pen in pens {
        let end = stroke[stroke.len() - 1];
        match pen {
            PenAction::Lift => lifted = true,
            PenAction::Tap => {
                finish(&mut strokes, &mut stroke, beside);
                strokes.push(vec![end]);
                stroke = vec![end];
                lifted = true;
            }
            PenAction::Leg(towards) => {
                take_up(&mut strokes, &mut stroke, &mut lifted, beside);
                heading = *towards;
                let end = stroke[stroke.len() - 1];
                let length = lengths.next().copied().unwrap_or(1.0);
                stroke.push(onward(end, heading, LEG * length));
            }
            PenAction::Arc(turns) => {
                take_up(&mut strokes, &mut stroke, &mut lifted, beside);
                let side = FRAC_PI_2 * turns.signum();
                let middle = onward(stroke[stroke.len() - 1], heading + side, RADIUS);
                let steps = (CIRCLE as f32 * turns.abs()) as usize;
                for step in 1..=steps {
                    let gone = TAU * turns * step as f32 / steps as f32;
                    stroke.push(onward(middle, heading - side + gone, RADIUS));
                }
                heading += TAU * turns;
            }
        }
    }
    finish(&mut strokes, &mut stroke, beside);
    strokes
}

fn onward((x, y): Point, heading: f32, length: f32) -> Point {
    (x + length * heading.cos(), y + length * heading.sin())
}

/// Continues the stroke, or begins another if the pen was lifted.
fn take_up(
    strokes: &mut Vec<StrokePath>,
    stroke: &mut StrokePath,
    lifted: &mut bool,
    beside: StrokeStart,
) {
    if std::mem::take(lifted) {
        let end = stroke[stroke.len() - 1];
        finish(strokes, stroke, beside);
        *stroke = vec![end];
    }
}

/// Lays a stroke down beside those before it.
fn finish(strokes: &mut Vec<StrokePath>, stroke: &mut StrokePath, beside: StrokeStart) {
    let mut stroke = std::mem::take(stroke);
    if stroke.len() < 2 {
        return;
    }
    let before = strokes.last().and_then(|last| frame_of(std::slice::from_ref(last)));
    let own = frame_of(std::slice::from_ref(&stroke));
    if let Some(((left, top, right, bottom), own)) = before.zip(own) {
        let middle = ((left + right) / 2.0, (top + bottom) / 2.0);
        let own_middle = ((own.0 + own.2) / 2.0, (own.1 + own.3) / 2.0);
        let by = match beside {
            StrokeStart::End => (0.0, 0.0),
            StrokeStart::Across => (middle.0 - own_middle.0, middle.1 - own_middle.1),
            StrokeStart::Right => (right + RADIUS - own.0, middle.1 - own_middle.1),
            StrokeStart::Below => (middle.0 - own_middle.0, bottom + RADIUS - own.1),
        };
        stroke.iter_mut().for_each(|point| *point = (point.0 + by.0, point.1 + by.1));
    }
    strokes.push(stroke);
}

#[cfg(test)]
mod tests {
    use super::*;

    fn plainest(words: &str) -> Vec<StrokePath> {
        strokes_of_words(words.split(' ')).swap_remove(0)
    }

    #[test]
    fn every_word_of_a_path_is_known() {
        assert!(PATH_WORDS.into_iter().all(|word| PenAction::of(word).is_some()));
        assert_eq!(PenAction::of("sideways"), None);
    }

    #[test]
    fn legs_follow_each_other() {
        let [stroke] = &plainest("down right")[..] else { panic!("one stroke") };
        let wanted = [(0.0, 0.0), (0.0, LEG), (LEG, LEG)];
        for (point, wanted) in stroke.iter().zip(wanted) {
            assert!((point.0 - wanted.0).hypot(point.1 - wanted.1) < 1e-3, "{stroke:?}");
        }
    }

    #[test]
    fn a_circle_comes_back_to_where_it_began_and_goes_its_own_way() {
        let [left, right] =
            ["circle-left", "circle-right"].map(|word| plainest(word).swap_remove(0));
        for circle in [&left, &right] {
            let end = circle[circle.len() - 1];
            assert!(end.0.hypot(end.1) < 1e-2, "{end:?}");
        }
        // Both head to the right at first; the one that turns left then rises.
        assert!(left[5].1 < 0.0 && right[5].1 > 0.0);
        assert_eq!(strokes_of_words(["circle-left"]).len(), BEGINNINGS);
    }

    #[test]
    fn strokes_are_told_apart_by_lifts_and_taps() {
        assert_eq!(plainest("down lift right").len(), 2);
        assert_eq!(plainest("tap").len(), 1);
        assert_eq!(plainest("tap tap").len(), 2);
        assert_eq!(plainest("tap lift down").len(), 2);
        assert_eq!(plainest("right tap").len(), 2);
    }
}
