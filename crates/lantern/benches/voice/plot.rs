//! The figure: how much of what was said counts, and how much other talk, by how sure one must be.

use serde::{Deserialize, Serialize};
use svg::Document;
use svg::node::element::path::Data;
use svg::node::element::{Circle, Line, Path, Rectangle};

use super::figure::words;
use super::heard::Recogniser;
use super::said::Noise;

const WIDTH: f64 = 1280.0;
const HEIGHT: f64 = 1120.0;
/// The plots against talk.
const SECOND: f64 = 710.0;
const SECOND_HIGH: f64 = 340.0;
const SECOND_WIDE: f64 = 380.0;
/// How often talk may be taken for a command, at the right end of the second plot.
const MOST_AN_HOUR: f64 = 100.0;
const LEAST_AN_HOUR: f64 = 0.1;
/// The plot's own corner and size.
const LEFT: f64 = 90.0;
const TOP: f64 = 70.0;
const WIDE: f64 = 820.0;
const HIGH: f64 = 480.0;
const INKS: [&str; 6] = ["#20639b", "#3f8fc9", "#8fbfe0", "#b3372f", "#d9776f", "#ecb5b0"];

/// A line of the figure: its name, and for each thing that was said its score if it was understood
/// rightly.
#[derive(Serialize, Deserialize)]
pub struct Curve {
    pub name: String,
    pub recogniser: Recogniser,
    pub noise: Noise,
    /// Scores of what was understood rightly, and of what was not.
    pub right: Vec<f64>,
    pub wrong: Vec<f64>,
}

impl Curve {
    /// The share that counts at a limit, in percent: rightly, and wrongly.
    pub fn at(&self, limit: f64) -> (f64, f64) {
        let all = (self.right.len() + self.wrong.len()).max(1) as f64;
        let over = |scores: &[f64]| scores.iter().filter(|score| **score >= limit).count() as f64;
        (100.0 * over(&self.right) / all, 100.0 * over(&self.wrong) / all)
    }
}

/// Other talk that was heard: how sure each piece of it would be a command.
#[derive(Serialize, Deserialize)]
pub struct BackgroundTalk {
    pub recogniser: Recogniser,
    pub called: bool,
    pub noise: Noise,
    pub hours: f64,
    pub scores: Vec<f64>,
}

impl BackgroundTalk {
    /// How often an hour it is taken for a command at a limit.
    fn an_hour(&self, limit: f64) -> f64 {
        self.scores.iter().filter(|score| **score >= limit).count() as f64 / self.hours.max(1e-9)
    }
}

fn x(limit: f64) -> f64 {
    LEFT + WIDE * limit
}

fn y(percent: f64) -> f64 {
    TOP + HIGH * (1.0 - percent / 100.0)
}

/// Draws the curves: whole lines for what is understood, broken ones for what is taken for another.
pub fn draw(curves: &[Curve], talks: &[BackgroundTalk]) -> Document {
    let mut picture = Document::new()
        .set("viewBox", (0, 0, WIDTH as u32, HEIGHT as u32))
        .set("width", WIDTH)
        .set("height", HEIGHT)
        .set("font-family", "Ubuntu, sans-serif")
        .add(Rectangle::new().set("width", WIDTH).set("height", HEIGHT).set("fill", "#fbfcfd"))
        .add(words("Commands that count, by how sure one must be", LEFT, 40.0, 22));
    for tenth in 0..=10 {
        let share = f64::from(tenth) / 10.0;
        let guide = |x1: f64, y1: f64, x2: f64, y2: f64| {
            let line = Line::new().set("x1", x1).set("y1", y1).set("x2", x2).set("y2", y2);
            line.set("stroke", "#dde3ea")
        };
        picture = picture
            .add(guide(x(share), TOP, x(share), TOP + HIGH))
            .add(guide(LEFT, y(100.0 * share), LEFT + WIDE, y(100.0 * share)))
            .add(words(&format!("{}", tenth * 10), x(share) - 8.0, TOP + HIGH + 24.0, 15))
            .add(words(&format!("{} %", tenth * 10), LEFT - 62.0, y(100.0 * share) + 5.0, 15));
    }
    let limit =
        Line::new().set("x1", x(0.5)).set("y1", TOP).set("x2", x(0.5)).set("y2", TOP + HIGH);
    picture = picture
        .add(limit.set("stroke", "#1d2733").set("stroke-width", 1.5))
        .add(words("the limit in use", x(0.5) + 6.0, TOP - 8.0, 14))
        .add(words("how sure, in percent", LEFT + WIDE / 2.0 - 70.0, TOP + HIGH + 54.0, 16));
    for (number, curve) in curves.iter().enumerate() {
        let ink = INKS[number % INKS.len()];
        let path = |part: fn((f64, f64)) -> f64| {
            let mut data = Data::new().move_to((x(0.0), y(part(curve.at(0.0)))));
            for step in 1..=100 {
                let limit = f64::from(step) / 100.0;
                data = data.line_to((x(limit), y(part(curve.at(limit)))));
            }
            Path::new().set("d", data).set("fill", "none").set("stroke", ink).set("stroke-width", 3)
        };
        let row = TOP + 26.0 + 28.0 * number as f64;
        let key = Line::new().set("x1", 940).set("x2", 980).set("y1", row).set("y2", row);
        picture = picture
            .add(path(|both| both.0))
            .add(path(|both| both.1).set("stroke-dasharray", "5 5"))
            .add(key.set("stroke", ink).set("stroke-width", 3))
            .add(words(&curve.name, 992.0, row + 5.0, 16));
    }
    let foot = TOP + 60.0 + 28.0 * curves.len() as f64;
    picture = picture.add(words("broken: taken for another phrase", 940.0, foot, 14));
    let title = "The same, by how often an hour other talk would be taken for one";
    picture = picture.add(words(title, LEFT, SECOND - 56.0, 20));
    for (called, left) in [(false, LEFT), (true, LEFT + SECOND_WIDE + 110.0)] {
        picture = against_talk(picture, curves, talks, called, left);
    }
    picture.add(words(
        "dots: the limit in use",
        LEFT + 2.0 * SECOND_WIDE + 140.0,
        SECOND + 10.0,
        14,
    ))
}

/// What is understood against how often other talk is taken for a command, behind the attention word or without.
fn against_talk(
    mut picture: Document,
    curves: &[Curve],
    talks: &[BackgroundTalk],
    called: bool,
    left: f64,
) -> Document {
    let folds = (MOST_AN_HOUR / LEAST_AN_HOUR).ln();
    let x = |an_hour: f64| {
        let within = an_hour.clamp(LEAST_AN_HOUR, MOST_AN_HOUR) / LEAST_AN_HOUR;
        left + SECOND_WIDE * within.ln() / folds
    };
    let y = |percent: f64| SECOND + SECOND_HIGH * (1.0 - percent / 100.0);
    let title = if called { "behind the attention word" } else { "without an attention word" };
    picture = picture.add(words(title, left, SECOND - 20.0, 16));
    for percent in [0, 20, 40, 60, 80, 100] {
        let at = y(f64::from(percent));
        let guide = Line::new().set("x1", left).set("x2", left + SECOND_WIDE);
        picture = picture.add(guide.set("y1", at).set("y2", at).set("stroke", "#dde3ea"));
        picture = picture.add(words(&format!("{percent} %"), left - 62.0, at + 5.0, 15));
    }
    for an_hour in [LEAST_AN_HOUR, 1.0, 10.0, MOST_AN_HOUR] {
        let at = x(an_hour);
        let name = if an_hour < 1.0 { "none".to_owned() } else { format!("{an_hour}") };
        let guide = Line::new().set("x1", at).set("x2", at).set("y1", SECOND);
        picture = picture
            .add(guide.set("y2", SECOND + SECOND_HIGH).set("stroke", "#dde3ea"))
            .add(words(&name, at - 10.0, SECOND + SECOND_HIGH + 24.0, 15));
    }
    for (number, curve) in curves.iter().enumerate() {
        // Talk in about as loud a room.
        let beside = |talk: &&BackgroundTalk| {
            talk.recogniser == curve.recogniser
                && talk.called == called
                && talk.noise.is_loud() == curve.noise.is_loud()
        };
        let Some(talk) = talks.iter().find(beside) else { continue };
        let ink = INKS[number % INKS.len()];
        let spot = |limit: f64, part: fn((f64, f64)) -> f64| {
            (x(talk.an_hour(limit)), y(part(curve.at(limit))))
        };
        let path = |part: fn((f64, f64)) -> f64| {
            let limits = (0..100).rev().map(|step| f64::from(step) / 100.0);
            let to = |data: Data, limit| data.line_to(spot(limit, part));
            let data = limits.fold(Data::new().move_to(spot(1.0, part)), to);
            Path::new().set("d", data).set("fill", "none").set("stroke", ink).set("stroke-width", 3)
        };
        let (at, high) = spot(0.5, |both| both.0);
        let dot = Circle::new().set("cx", at).set("cy", high).set("r", 5).set("fill", ink);
        picture = picture
            .add(path(|both| both.0))
            .add(path(|both| both.1).set("stroke-dasharray", "5 5"))
            .add(dot);
    }
    picture
}
