//! `lantern shape alike`: which shapes are taken for each other, and what would help.

use lantern_model::{Allowed, Shape, Stroke};
use lantern_sense::{ShapeBook, size_of_drawing};
use serde::Serialize;

use crate::arguments::ShapeAlikeArguments;
use crate::commands::print_json;
use crate::failure::{Failure, Status};
use crate::findings::rules_of;
use crate::style::say;
use crate::table;

/// The shape of `--json`, version 1.
#[derive(Serialize)]
struct Report {
    version: u32,
    shapes: usize,
    pairs: Vec<Pair>,
}

#[derive(Serialize)]
struct Pair {
    likeness: f64,
    first: String,
    second: String,
    change: String,
}

pub fn run(arguments: &ShapeAlikeArguments) -> Result<Status, Failure> {
    let (source, rules) = rules_of(arguments.file.clone())?;
    let book = ShapeBook::new(&rules.shapes);
    let least = (arguments.least.clamp(0.0, 100.0) / 100.0) as f32;
    let mut pairs = Vec::new();
    for alike in book.alike_pairs(least).into_iter().take(arguments.most) {
        let [first, second] = [alike.first, alike.second].map(|number| &rules.shapes[number]);
        pairs.push(Pair {
            likeness: (f64::from(alike.likeness) * 1000.0).round() / 1000.0,
            first: first.name.clone(),
            second: second.name.clone(),
            change: advice(&rules.shapes, alike.second),
        });
    }
    let found = if pairs.is_empty() { Status::Found } else { Status::Done };
    if arguments.json {
        print_json(&Report { version: 1, shapes: rules.shapes.len(), pairs });
    } else if pairs.is_empty() {
        let count = rules.shapes.len();
        say!("{}: no two of {count} shapes are that much alike", source.name());
    } else {
        let rows: Vec<Vec<String>> = pairs
            .into_iter()
            .map(|pair| {
                let percent = format!("{:.0} %", pair.likeness * 100.0);
                vec![percent, pair.first, pair.second, pair.change]
            })
            .collect();
        table::print(&["alike", "one", "other", "what would help"], &rows);
    }
    Ok(found)
}

/// The change of a shape after which it is least like any other, in words.
fn advice(shapes: &[Shape], second: usize) -> String {
    let changed = &shapes[second];
    let mut ways: Vec<(String, Shape)> = Vec::new();
    let name = &changed.name;
    if changed.allowed.any_way || changed.allowed.mirrored {
        let plain = Shape { allowed: Allowed::default(), ..changed.clone() };
        ways.push((format!("leave out what {name} allows beside its drawing"), plain));
    }
    let redrawn = |with: &dyn Fn(&[Stroke]) -> Vec<Stroke>| Shape {
        drawings: changed.drawings.iter().map(|drawing| with(drawing)).collect(),
        ..changed.clone()
    };
    ways.push((format!("draw {name} backwards"), redrawn(&backwards)));
    for (word, leg) in
        [("up", (0.0, -1.0)), ("down", (0.0, 1.0)), ("left", (-1.0, 0.0)), ("right", (1.0, 0.0))]
    {
        ways.push((
            format!("end {name} with a leg {word}"),
            redrawn(&|drawing| longer(drawing, leg)),
        ));
    }
    let like_others = |way: &Shape| {
        let mut all = shapes.to_vec();
        all[second] = way.clone();
        let pairs = ShapeBook::new(&all).alike_pairs(0.0);
        let own = pairs.into_iter().filter(|pair| pair.first == second || pair.second == second);
        own.map(|pair| pair.likeness).fold(0.0, f32::max)
    };
    let best = ways.into_iter().map(|(words, way)| (like_others(&way), words));
    best.min_by(|one, other| one.0.total_cmp(&other.0)).map_or_else(String::new, |(most, words)| {
        format!("{words}; then it is {:.0} % like any other", 100.0 * most)
    })
}

fn backwards(drawing: &[Stroke]) -> Vec<Stroke> {
    drawing.iter().map(|stroke| stroke.iter().rev().copied().collect()).collect()
}

/// The drawing with a leg more, half as long as the drawing is large.
fn longer(drawing: &[Stroke], (x, y): (f32, f32)) -> Vec<Stroke> {
    let mut strokes = drawing.to_vec();
    let size = size_of_drawing(drawing) / 2.0;
    if let Some(stroke) = strokes.last_mut()
        && let Some(end) = stroke.last().copied()
    {
        stroke.push((end.0 + size * x, end.1 + size * y));
    }
    strokes
}
