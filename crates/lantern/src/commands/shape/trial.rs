//! `lantern shape try`: which shape drawings in files are, with the scores of all.

use lantern_gesture::{RankedShapes, Recognition, ShapeIndex};
use lantern_model::RuleSet;
use serde::Serialize;

use super::outcome;
use crate::arguments::ShapeTryArguments;
use crate::commands::print_json;
use crate::diagnostics::rules_of;
use crate::failure::{Failure, Status};
use crate::output::complain;
use crate::text::sureness;
use crate::{drawings, table};

/// The shape of `--json`, version 1.
#[derive(Serialize)]
struct ShapeTrialReport {
    version: u32,
    drawings: Vec<DrawingData>,
}

#[derive(Serialize)]
struct DrawingData {
    file: String,
    drawing: usize,
    strokes: usize,
    shape: Option<String>,
    why: String,
    scores: Vec<ScoreData>,
}

#[derive(Serialize)]
struct ScoreData {
    shape: String,
    score: f64,
    apart: f64,
    fires: Vec<String>,
}

/// Shapes that are shown for a drawing.
const SHOWN: usize = 3;

pub fn run(arguments: &ShapeTryArguments) -> Result<Status, Failure> {
    let (source, rules) = rules_of(arguments.rules.clone())?;
    if rules.shapes.is_empty() {
        complain!("{}: no rule here wants a shape", source.name());
        return Ok(Status::Found);
    }
    let book = ShapeIndex::new(&rules.shapes);
    let mut tried = Vec::new();
    for file in &arguments.files {
        let unread = |source| Failure::NoDrawing { path: file.clone(), source };
        for (number, strokes) in drawings::read(file).map_err(unread)?.iter().enumerate() {
            let found = book.recognise(strokes, |_| true);
            let name = file.display().to_string();
            tried.push(data_of(&rules, &book, &found, (name, number + 1, strokes.len())));
        }
    }
    let all = tried.iter().all(|drawing| drawing.shape.is_some());
    if arguments.json {
        print_json(&ShapeTrialReport { version: 1, drawings: tried });
    } else {
        print_table(&tried);
    }
    Ok(if all { Status::Done } else { Status::Found })
}

fn data_of(
    rules: &RuleSet,
    book: &ShapeIndex,
    found: &RankedShapes,
    (file, drawing, strokes): (String, usize, usize),
) -> DrawingData {
    let thousandths = |number: f32| (f64::from(number) * 1000.0).round() / 1000.0;
    let score = |ranked: &lantern_gesture::RankedShape| {
        let shape = book.name(ranked.shape).to_owned();
        let fires = outcome(rules, &shape);
        ScoreData {
            shape,
            score: thousandths(ranked.score),
            apart: thousandths(ranked.apart),
            fires,
        }
    };
    let mut scores: Vec<ScoreData> = found.ranked.iter().map(score).collect();
    // The verdict goes by how far apart they are; a person looks for the likeliest.
    scores.sort_by(|one, other| other.score.total_cmp(&one.score));
    let (shape, why) = match found.verdict {
        Recognition::Is(shape) => (Some(book.name(shape).to_owned()), String::new()),
        Recognition::TooFar => (None, "none is near enough".to_owned()),
        Recognition::TooClose => (None, "two are as near".to_owned()),
        Recognition::NoSuch => (None, format!("no shape has {strokes} strokes")),
    };
    DrawingData { file, drawing, strokes, shape, why, scores }
}

fn print_table(tried: &[DrawingData]) {
    let mut rows = Vec::new();
    for drawing in tried {
        let others = drawing.scores.iter().take(SHOWN);
        let others = others.map(|s| format!("{} {}", s.shape, sureness(s.score)));
        let is_it = |score: &&ScoreData| Some(&score.shape) == drawing.shape.as_ref();
        let comes_to = match drawing.scores.iter().find(is_it).map(|score| &score.fires[..]) {
            None => drawing.why.clone(),
            Some([]) => "no rule wants it".to_owned(),
            Some(fires) => fires.join("; "),
        };
        rows.push(vec![
            drawing.file.clone(),
            drawing.drawing.to_string(),
            drawing.shape.clone().unwrap_or_else(|| "-".to_owned()),
            others.collect::<Vec<_>>().join(", "),
            comes_to,
        ]);
    }
    table::print(&["file", "no.", "is", "most like", "comes to"], &rows);
}
