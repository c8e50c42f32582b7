//! `lantern shape alike`: which shapes are taken for each other, and what would help.

use lantern_gesture::{AlikeShapes, ShapeIndex, size_of_drawing};
use lantern_model::{Shape, StrokePath};
use serde::Serialize;

use crate::arguments::ShapeAlikeArguments;
use crate::commands::print_json;
use crate::diagnostics::rules_of;
use crate::failure::{Failure, Status};
use crate::output::say;
use crate::table;
use crate::text::sureness;

/// The shape of `--json`, version 1.
#[derive(Serialize)]
struct ShapeAlikeReport {
    version: u32,
    shapes: usize,
    pairs: Vec<ShapePair>,
}

#[derive(Serialize)]
struct ShapePair {
    likeness: f64,
    first: String,
    second: String,
    change: String,
}

pub fn run(arguments: &ShapeAlikeArguments) -> Result<Status, Failure> {
    let (source, rules) = rules_of(arguments.file.clone())?;
    let book = ShapeIndex::new(&rules.shapes);
    let least = (arguments.least.clamp(0.0, 100.0) / 100.0) as f32;
    let mut pairs = Vec::new();
    for alike in book.alike_pairs(least).into_iter().take(arguments.most) {
        let [first, second] = [alike.first, alike.second].map(|number| &rules.shapes[number]);
        pairs.push(ShapePair {
            likeness: (f64::from(alike.likeness) * 1000.0).round() / 1000.0,
            first: first.name.clone(),
            second: second.name.clone(),
            change: advice(&book, &rules.shapes, alike),
        });
    }
    let found = if pairs.is_empty() { Status::Found } else { Status::Done };
    if arguments.json {
        print_json(&ShapeAlikeReport { version: 1, shapes: rules.shapes.len(), pairs });
    } else if pairs.is_empty() {
        let count = rules.shapes.len();
        say!("{}: no two of {count} shapes are that much alike", source.name());
    } else {
        let rows: Vec<Vec<String>> = pairs
            .into_iter()
            .map(|pair| {
                let percent = sureness(pair.likeness);
                vec![percent, pair.first, pair.second, pair.change]
            })
            .collect();
        table::print(&["alike", "one", "other", "what would help"], &rows);
    }
    Ok(found)
}

/// The change of the second shape after which a drawing of it is least like any other, in words.
fn advice(book: &ShapeIndex, shapes: &[Shape], alike: AlikeShapes) -> String {
    let AlikeShapes { second, likeness, .. } = alike;
    let Shape { name, drawings, tolerance: allowed, .. } = &shapes[second];
    let mut ways: Vec<(String, Vec<Vec<StrokePath>>)> = Vec::new();
    if allowed.any_direction || allowed.mirrored {
        let plain = format!("leave out what {name} allows beside its drawing");
        ways.push((plain, drawings.clone()));
    }
    let redrawn = |with: &dyn Fn(&[StrokePath]) -> Vec<StrokePath>| {
        drawings.iter().map(|drawing| with(drawing)).collect()
    };
    ways.push((format!("draw {name} backwards"), redrawn(&backwards)));
    for (word, leg) in
        [("up", (0.0, -1.0)), ("down", (0.0, 1.0)), ("left", (-1.0, 0.0)), ("right", (1.0, 0.0))]
    {
        let longer = redrawn(&|drawing| longer(drawing, leg));
        ways.push((format!("end {name} with a leg {word}"), longer));
    }
    let like_others = |drawings: &[Vec<StrokePath>]| {
        let scores = drawings.iter().flat_map(|drawing| {
            let found = book.recognise(drawing, |shape| shape != second);
            found.ranked.into_iter().map(|ranked| ranked.score)
        });
        scores.fold(0.0, f32::max)
    };
    let best = ways.into_iter().map(|(words, drawings)| (like_others(&drawings), words));
    match best.min_by(|one, other| one.0.total_cmp(&other.0)) {
        Some((most, words)) if most < likeness => {
            format!("{words}; then it is {} like any other", sureness(most.into()))
        }
        _ => format!("no small change of {name} would"),
    }
}

fn backwards(drawing: &[StrokePath]) -> Vec<StrokePath> {
    drawing.iter().map(|stroke| stroke.iter().rev().copied().collect()).collect()
}

/// The drawing with a leg more, half as long as the drawing is large.
fn longer(drawing: &[StrokePath], (x, y): (f32, f32)) -> Vec<StrokePath> {
    let mut strokes = drawing.to_vec();
    let size = size_of_drawing(drawing) / 2.0;
    if let Some(stroke) = strokes.last_mut()
        && let Some(end) = stroke.last().copied()
    {
        stroke.push((end.0 + size * x, end.1 + size * y));
    }
    strokes
}
