//! The figure: shares by examples and by how many shapes there are, and what is confused most.

use svg::Document;
use svg::node::element::path::Data;
use svg::node::element::{Circle, Line, Path, Rectangle};

use super::Outcome;
use super::figure::words;

const WIDTH: f64 = 1280.0;
const HEIGHT: f64 = 720.0;
const OWN: &str = "#20639b";
const OTHERS: &str = "#c77b30";
const WRONG: &str = "#b3372f";

/// The corner and size of a plot.
struct Plot {
    left: f64,
    top: f64,
    wide: f64,
    high: f64,
    /// The percent at its foot.
    least: f64,
}

impl Plot {
    fn y(&self, percent: f64) -> f64 {
        let share = (percent.max(self.least) - self.least) / (100.0 - self.least);
        self.top + self.high * (1.0 - share)
    }

    fn grid(&self, mut picture: Document, title: &str, step: f64) -> Document {
        picture = picture.add(words(title, self.left, self.top - 18.0, 18));
        let mut percent = self.least;
        while percent <= 100.0 {
            let y = self.y(percent);
            let line = Line::new().set("x1", self.left).set("x2", self.left + self.wide);
            picture = picture
                .add(line.set("y1", y).set("y2", y).set("stroke", "#dde3ea"))
                .add(words(&format!("{percent} %"), self.left - 52.0, y + 5.0, 14));
            percent += step;
        }
        picture
    }
}

fn curve(mut picture: Document, spots: &[(f64, f64)], ink: &str) -> Document {
    let mut data = Data::new().move_to(spots[0]);
    for spot in &spots[1..] {
        data = data.line_to(*spot);
    }
    let path = Path::new().set("d", data).set("fill", "none");
    picture = picture.add(path.set("stroke", ink).set("stroke-width", 3));
    for (x, y) in spots {
        picture =
            picture.add(Circle::new().set("cx", *x).set("cy", *y).set("r", 5).set("fill", ink));
    }
    picture
}

/// Draws all of it.
pub fn draw(
    by_examples: &[(bool, usize, Outcome)],
    by_count: &[(usize, Outcome)],
    worst: &[(String, usize)],
    nothing: &[(&str, usize, usize)],
) -> Document {
    let mut picture = Document::new()
        .set("viewBox", (0, 0, WIDTH as u32, HEIGHT as u32))
        .set("width", WIDTH)
        .set("height", HEIGHT)
        .set("font-family", "Ubuntu, sans-serif")
        .add(Rectangle::new().set("width", WIDTH).set("height", HEIGHT).set("fill", "#fbfcfd"))
        .add(words("Sixty shapes, drawn by hands that nothing was tuned on", 70.0, 42.0, 22));
    let first = Plot { left: 70.0, top: 110.0, wide: 420.0, high: 420.0, least: 70.0 };
    picture = first.grid(picture, "recognised, by examples shown", 5.0);
    for (own, ink) in [(true, OWN), (false, OTHERS)] {
        let of_kind: Vec<_> = by_examples.iter().filter(|(kind, ..)| *kind == own).collect();
        let x = |examples: usize| first.left + 50.0 + 80.0 * (examples - 1) as f64;
        let spots: Vec<_> = of_kind
            .iter()
            .map(|(_, examples, outcome)| (x(*examples), first.y(outcome.shares()[0])))
            .collect();
        picture = curve(picture, &spots, ink);
        for ((_, examples, outcome), (x, y)) in of_kind.iter().zip(&spots) {
            let below = if own { -12.0 } else { 24.0 };
            let share = format!("{:.1}", outcome.shares()[0]);
            picture = picture.add(words(&share, x - 14.0, y + below, 14).set("fill", ink));
            if own {
                let name = format!("{examples}");
                picture = picture.add(words(&name, x - 4.0, first.top + first.high + 24.0, 15));
            }
        }
    }
    let foot = first.top + first.high + 60.0;
    picture = picture
        .add(words("shown by the same person", first.left, foot, 15).set("fill", OWN))
        .add(words("shown by another person", first.left + 220.0, foot, 15).set("fill", OTHERS));
    let second = Plot { left: 570.0, top: 110.0, wide: 300.0, high: 420.0, least: 95.0 };
    picture = second.grid(picture, "with three examples, by shapes", 1.0);
    let x = |count: usize| second.left + 4.6 * count as f64;
    let spots: Vec<_> = by_count
        .iter()
        .map(|(count, outcome)| (x(*count), second.y(outcome.shares()[0])))
        .collect();
    picture = curve(picture, &spots, OWN);
    for (count, _) in by_count {
        let name = words(&format!("{count}"), x(*count) - 8.0, second.top + second.high + 24.0, 15);
        picture = picture.add(name);
    }
    picture = picture.add(words("confused most", 920.0, 92.0, 18));
    for (row, (what, times)) in worst.iter().take(14).enumerate() {
        let y = 126.0 + 28.0 * row as f64;
        picture = picture
            .add(words(&format!("{times}"), 920.0, y, 15).set("fill", WRONG))
            .add(words(what, 956.0, y, 15));
    }
    let all: usize = by_examples.iter().map(|(.., outcome)| outcome.all).sum();
    picture = picture.add(words(&format!("times in {all} drawings"), 920.0, 540.0, 15));
    for (row, (what, all, taken)) in nothing.iter().enumerate() {
        let text = format!("{taken} of {all} {what} taken for a shape");
        picture = picture.add(words(&text, 570.0, foot + 30.0 * row as f64, 15));
    }
    picture
}
