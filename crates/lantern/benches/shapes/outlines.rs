//! Sixty shapes as they are meant: strokes of straight and round parts.

use std::f32::consts::{FRAC_PI_2, PI, TAU};

use lantern_model::{Point, StrokePath};

/// A part of a stroke: its length, and its headings at the start and at the end. 0 is to the right,
/// and clockwise is positive.
#[derive(Debug, Clone, Copy)]
pub struct Part {
    pub length: f32,
    pub from: f32,
    pub to: f32,
}

/// A stroke as it is meant.
#[derive(Debug, Clone)]
pub struct Outline {
    pub start: Point,
    pub parts: Vec<Part>,
}

impl Outline {
    /// The places along it, `step` apart.
    pub fn spots(&self, step: f32) -> StrokePath {
        let (mut x, mut y) = self.start;
        let mut spots = vec![self.start];
        for part in &self.parts {
            let count = (part.length / step).ceil().max(1.0) as usize;
            for at in 0..count {
                let share = (at as f32 + 0.5) / count as f32;
                let heading = part.from + (part.to - part.from) * share;
                x += part.length / count as f32 * heading.cos();
                y += part.length / count as f32 * heading.sin();
                spots.push((x, y));
            }
        }
        spots
    }
}

/// A shape as it is meant.
#[derive(Debug, Clone)]
pub struct Meant {
    pub name: &'static str,
    pub strokes: Vec<Outline>,
}

/// Puts a stroke together.
struct Pen {
    outline: Outline,
    at: Point,
}

fn from(x: f32, y: f32) -> Pen {
    Pen { outline: Outline { start: (x, y), parts: Vec::new() }, at: (x, y) }
}

impl Pen {
    fn to(mut self, x: f32, y: f32) -> Pen {
        let (across, down) = (x - self.at.0, y - self.at.1);
        let heading = down.atan2(across);
        self.outline.parts.push(Part { length: across.hypot(down), from: heading, to: heading });
        self.at = (x, y);
        self
    }

    /// Round an arc that begins with a heading and sweeps an angle, in parts of a quarter at most.
    fn round(mut self, heading: f32, sweep: f32, radius: f32) -> Pen {
        let count = (sweep.abs() / FRAC_PI_2 - 0.01).ceil().max(1.0);
        for at in 0..count as usize {
            let (from, to) =
                (heading + sweep * at as f32 / count, heading + sweep * (at + 1) as f32 / count);
            let length = radius * sweep.abs() / count;
            self.outline.parts.push(Part { length, from, to });
            let chord = 2.0 * radius * ((to - from).abs() / 2.0).sin();
            let middle = (from + to) / 2.0;
            self.at = (self.at.0 + chord * middle.cos(), self.at.1 + chord * middle.sin());
        }
        self
    }
}

fn lines(spots: &[Point]) -> Pen {
    spots[1..].iter().fold(from(spots[0].0, spots[0].1), |pen, (x, y)| pen.to(*x, *y))
}

fn tap(x: f32, y: f32) -> Pen {
    from(x, y)
}

/// Those that a path of words says as well.
pub const IN_WORDS: [(&str, &str); 20] = [
    ("check-mark", "down-right up-right"),
    ("caret", "up-right down-right"),
    ("corner", "down right"),
    ("two-corners", "down right up"),
    ("three-corners", "down right up left"),
    ("square-right", "right down left up"),
    ("circle-left", "circle-left"),
    ("circle-right", "circle-right"),
    ("one", "up-right down"),
    ("seven", "right down-left"),
    ("z", "right down-left right"),
    ("u", "down turn-left turn-left up"),
    ("n", "up turn-right turn-right down"),
    ("stairs", "right up right up right"),
    ("lightning", "down-left right down-left"),
    ("teeth", "up-right down-right up-right down-right"),
    ("bracket-left", "left down right"),
    ("bracket-right", "right down left"),
    ("plus", "down lift right"),
    ("cross", "down-right lift down-left"),
];

/// All of them. Look-alikes are there on purpose.
pub fn all() -> Vec<Meant> {
    let up = -FRAC_PI_2;
    let down = FRAC_PI_2;
    let shape = |name, pens: Vec<Pen>| Meant {
        name,
        strokes: pens.into_iter().map(|pen| pen.outline).collect(),
    };
    let one = |name, pen: Pen| shape(name, vec![pen]);
    let polar = |angle: f32| (angle.cos(), angle.sin());
    let star: Vec<Point> = (0..=5).map(|at| polar(up + TAU * 2.0 * at as f32 / 5.0)).collect();
    vec![
        one("u", from(0.0, 0.0).to(0.0, 1.0).round(down, -PI, 0.5).to(1.0, 0.0)),
        one("v", lines(&[(0.0, 0.0), (0.5, 1.4), (1.0, 0.0)])),
        one("n", from(0.0, 1.4).to(0.0, 0.5).round(up, PI, 0.5).to(1.0, 1.4)),
        one("caret", lines(&[(0.0, 1.2), (0.6, 0.0), (1.2, 1.2)])),
        one("triangle", lines(&[(0.0, 1.2), (0.6, 0.0), (1.2, 1.2), (0.0, 1.2)])),
        one("triangle-from-top", lines(&[(0.6, 0.0), (1.2, 1.2), (0.0, 1.2), (0.6, 0.0)])),
        one("triangle-leftwards", lines(&[(0.6, 0.0), (0.0, 1.2), (1.2, 1.2), (0.6, 0.0)])),
        one("circle-left", from(0.0, -1.0).round(PI, -TAU, 1.0)),
        one("circle-right", from(0.0, -1.0).round(0.0, TAU, 1.0)),
        one("circle-left-low", from(0.0, 1.0).round(0.0, -TAU, 1.0)),
        one("circle-right-low", from(0.0, 1.0).round(PI, TAU, 1.0)),
        one("corner", lines(&[(0.0, 0.0), (0.0, 1.0), (1.0, 1.0)])),
        one("two-corners", lines(&[(0.0, 0.0), (0.0, 1.0), (1.0, 1.0), (1.0, 0.0)])),
        one("three-corners", lines(&[(0.0, 0.0), (0.0, 1.0), (1.0, 1.0), (1.0, 0.0), (0.3, 0.0)])),
        one("square-right", lines(&[(0.0, 0.0), (1.0, 0.0), (1.0, 1.0), (0.0, 1.0), (0.0, 0.0)])),
        one("square-low", lines(&[(1.0, 1.0), (0.0, 1.0), (0.0, 0.0), (1.0, 0.0), (1.0, 1.0)])),
        one("s", from(0.9, 0.1).round(-2.5, -3.6, 0.5).round(0.15, 3.7, 0.52)),
        one("five", from(1.0, 0.0).to(0.1, 0.0).to(0.0, 0.8).round(-0.6, 3.6, 0.5)),
        one("z", lines(&[(0.0, 0.0), (1.0, 0.0), (0.0, 1.2), (1.0, 1.2)])),
        one("two", from(0.0, 0.3).round(up + 0.4, 3.3, 0.45).to(0.0, 1.4).to(0.9, 1.4)),
        one("three", from(0.0, 0.1).round(-0.5, 3.6, 0.4).round(0.0, 3.7, 0.45)),
        one("seven", lines(&[(0.0, 0.0), (1.0, 0.0), (0.4, 1.4)])),
        one("one", lines(&[(0.0, 0.5), (0.5, 0.0), (0.5, 1.5)])),
        one("six", from(0.8, 0.0).round(2.4, -0.9, 1.3).round(1.5, -5.4, 0.45)),
        one("nine", from(0.8, 0.2).round(-2.4, -5.0, 0.42).to(0.7, 1.6)),
        one("eight", from(0.5, 0.0).round(PI, -PI, 0.4).round(0.0, TAU, 0.45).round(0.0, -PI, 0.4)),
        one("infinity", from(0.0, 0.0).round(up, TAU, 0.5).round(up, -TAU, 0.5)),
        one("zigzag", lines(&[(0.0, 0.0), (0.8, 0.0), (0.0, 0.8), (0.8, 0.8), (0.0, 1.6)])),
        one("teeth", lines(&[(0.0, 0.8), (0.4, 0.0), (0.8, 0.8), (1.2, 0.0), (1.6, 0.8)])),
        one(
            "m",
            from(0.0, 1.0)
                .to(0.0, 0.3)
                .round(up, PI, 0.3)
                .to(0.6, 0.9)
                .to(0.6, 0.3)
                .round(up, PI, 0.3)
                .to(1.2, 1.0),
        ),
        one("w", lines(&[(0.0, 0.0), (0.4, 1.0), (0.8, 0.2), (1.2, 1.0), (1.6, 0.0)])),
        one("check-mark", lines(&[(0.0, 0.6), (0.4, 1.0), (1.2, 0.0)])),
        one("fish", from(1.4, 0.2).to(0.4, 0.95).round(2.5, 4.4, 0.45).to(1.4, 1.1)),
        one(
            "loop",
            from(0.0, 1.0).round(-0.2, -0.9, 1.0).round(-1.1, -4.2, 0.28).round(1.1, -1.1, 1.0),
        ),
        one(
            "spiral-in",
            from(1.0, 0.0)
                .round(down, PI, 1.0)
                .round(up, PI, 0.75)
                .round(down, PI, 0.5)
                .round(up, PI, 0.28),
        ),
        one(
            "spiral-out",
            from(0.0, 0.0)
                .round(up, PI, 0.28)
                .round(down, PI, 0.5)
                .round(up, PI, 0.75)
                .round(down, PI, 1.0),
        ),
        one(
            "heart",
            from(0.0, 0.4)
                .round(up - 0.4, -3.2, 0.42)
                .to(0.0, 1.6)
                .to(0.8, 0.6)
                .round(-0.9, -3.2, 0.42),
        ),
        one("star", lines(&star)),
        one("arrow", lines(&[(0.0, 0.5), (1.6, 0.5), (1.2, 0.1), (1.6, 0.5), (1.2, 0.9)])),
        one("bracket-left", lines(&[(0.5, 0.0), (0.0, 0.0), (0.0, 1.5), (0.5, 1.5)])),
        one("bracket-right", lines(&[(0.0, 0.0), (0.5, 0.0), (0.5, 1.5), (0.0, 1.5)])),
        one("bow-left", from(0.4, 0.0).round(2.4, -1.7, 1.1)),
        one("bow-right", from(0.0, 0.0).round(0.75, 1.7, 1.1)),
        one("hook", from(0.0, 0.4).round(up, 4.2, 0.42).to(0.4, 1.5)),
        one(
            "wave",
            from(0.0, 0.5)
                .round(-0.9, 1.8, 0.6)
                .round(0.9, -1.8, 0.6)
                .round(-0.9, 1.8, 0.6)
                .round(0.9, -1.8, 0.6),
        ),
        one("pigtail", from(0.0, 0.9).to(0.7, 0.2).round(-0.8, -5.0, 0.22).to(1.5, 0.9)),
        one("lightning", lines(&[(0.6, 0.0), (0.0, 0.9), (0.7, 0.8), (0.1, 1.8)])),
        one(
            "house",
            lines(&[(0.0, 1.4), (0.0, 0.6), (0.6, 0.0), (1.2, 0.6), (1.2, 1.4), (0.0, 1.4)]),
        ),
        one("hourglass", lines(&[(0.0, 0.0), (1.0, 0.0), (0.0, 1.4), (1.0, 1.4), (0.0, 0.0)])),
        one(
            "stairs",
            lines(&[(0.0, 1.2), (0.4, 1.2), (0.4, 0.8), (0.8, 0.8), (0.8, 0.4), (1.2, 0.4)]),
        ),
        shape("plus", vec![lines(&[(0.5, 0.0), (0.5, 1.0)]), lines(&[(0.0, 0.5), (1.0, 0.5)])]),
        shape("cross", vec![lines(&[(0.0, 0.0), (1.0, 1.0)]), lines(&[(1.0, 0.0), (0.0, 1.0)])]),
        shape("equals", vec![lines(&[(0.0, 0.0), (1.0, 0.0)]), lines(&[(0.0, 0.5), (1.0, 0.5)])]),
        shape("tee", vec![lines(&[(0.0, 0.0), (1.0, 0.0)]), lines(&[(0.5, 0.0), (0.5, 1.2)])]),
        shape(
            "shaft-and-head",
            vec![lines(&[(0.0, 0.4), (1.5, 0.4)]), lines(&[(1.1, 0.0), (1.5, 0.4), (1.1, 0.8)])],
        ),
        shape(
            "a",
            vec![lines(&[(0.0, 1.2), (0.5, 0.0), (1.0, 1.2)]), lines(&[(0.2, 0.7), (0.8, 0.7)])],
        ),
        shape(
            "ladder",
            vec![
                lines(&[(0.0, 0.0), (0.0, 1.2)]),
                lines(&[(0.8, 0.0), (0.8, 1.2)]),
                lines(&[(0.0, 0.6), (0.8, 0.6)]),
            ],
        ),
        shape(
            "flag",
            vec![
                lines(&[(0.0, 0.0), (0.0, 1.3)]),
                lines(&[(0.0, 0.0), (0.8, 0.0)]),
                lines(&[(0.0, 0.6), (0.6, 0.6)]),
            ],
        ),
        shape("call", vec![lines(&[(0.0, 0.0), (0.0, 1.0)]), tap(0.0, 1.4)]),
        shape("dotted-ring", vec![from(0.0, -1.0).round(PI, -TAU, 1.0), tap(0.0, 0.0)]),
    ]
}
