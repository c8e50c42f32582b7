//! A sheet of shapes: each with a dot where it begins and an arrowhead where it ends.

use lantern_gesture::frame_of;
use lantern_model::{Point, StrokePath};
use svg::Document;
use svg::node::element::{Circle, Polygon, Text};

use super::{FAINT, INK, TAKEN, block, sheet, shortened, words};
use crate::drawings::path_of;

/// A shape of the sheet.
pub struct ShapeCell {
    pub name: String,
    pub strokes: Vec<StrokePath>,
    /// What it fires.
    pub does: Vec<String>,
}

/// How many stand side by side.
const COLUMNS: usize = 5;
/// A cell with all that is in it, and the room that its drawing has.
const CELL: (f64, f64) = (236.0, 232.0);
const ROOM: f64 = 118.0;
const MARGIN: f64 = 50.0;
const HEAD: f64 = 70.0;
/// So many characters of what a shape does fit under it.
const WORDS: usize = 34;
/// Lines of what it does.
const LINES: usize = 2;

/// Draws the sheet.
pub fn shapes(name: &str, cells: &[ShapeCell]) -> Document {
    let columns = COLUMNS.min(cells.len().max(3));
    let rows = cells.len().div_ceil(columns);
    let width = 2.0 * MARGIN + CELL.0 * columns as f64;
    let height = HEAD + CELL.1 * rows as f64 + MARGIN / 2.0;
    let mut picture = sheet(width, height)
        .add(words(MARGIN, 44.0, 24.0, INK, &format!("Shapes of {name}")))
        .add(words(
            width - MARGIN - 300.0,
            44.0,
            14.0,
            FAINT,
            "a dot begins a stroke, an arrow ends it",
        ));
    for (number, cell) in cells.iter().enumerate() {
        let left = MARGIN + CELL.0 * (number % columns) as f64;
        let top = HEAD + CELL.1 * (number / columns) as f64;
        picture = draw_cell(picture, cell, left, top);
    }
    picture
}

fn draw_cell(mut picture: Document, cell: &ShapeCell, left: f64, top: f64) -> Document {
    let centre = |text: Text| text.set("text-anchor", "middle");
    let middle = left + CELL.0 / 2.0;
    picture = picture.add(
        block(left + 6.0, top + 6.0, CELL.0 - 12.0, CELL.1 - 12.0, "#ffffff")
            .set("rx", 8)
            .set("stroke", "#dde3ea"),
    );
    let (from_x, from_y, to_x, to_y) = frame_of(&cell.strokes).unwrap_or_default();
    let size = f64::from((to_x - from_x).max(to_y - from_y)).max(1.0);
    let scale = ROOM / size;
    let place = |(x, y): Point| {
        let across = f64::from(x) - f64::from(from_x + to_x) / 2.0;
        let down = f64::from(y) - f64::from(from_y + to_y) / 2.0;
        ((middle + across * scale) as f32, (top + 24.0 + ROOM / 2.0 + down * scale) as f32)
    };
    picture =
        picture.add(path_of(&cell.strokes, place).set("stroke", TAKEN).set("stroke-width", 3));
    for stroke in &cell.strokes {
        let points: Vec<Point> = stroke.iter().map(|point| place(*point)).collect();
        let Some(first) = points.first() else { continue };
        let dot = Circle::new().set("cx", first.0).set("cy", first.1).set("r", 5.5);
        picture = picture.add(dot.set("fill", TAKEN));
        if let Some(head) = arrowhead(&points) {
            picture = picture.add(head);
        }
    }
    let foot = top + ROOM + 50.0;
    picture = picture.add(centre(words(middle, foot + 8.0, 17.0, INK, &cell.name)));
    for (line, does) in cell.does.iter().take(LINES).enumerate() {
        let text = shortened(does, WORDS);
        let y = foot + 28.0 + 17.0 * line as f64;
        picture = picture.add(centre(words(middle, y, 12.5, FAINT, &text)));
    }
    picture
}

/// The head at the end of a stroke that is longer than itself.
fn arrowhead(points: &[Point]) -> Option<Polygon> {
    const LENGTH: f32 = 13.0;
    const HALF: f32 = 6.5;
    let end = *points.last()?;
    let far = |point: &&Point| (end.0 - point.0).hypot(end.1 - point.1) >= LENGTH;
    let before = points.iter().rev().find(far)?;
    let (x, y) = (end.0 - before.0, end.1 - before.1);
    let length = x.hypot(y);
    let (x, y) = (x / length, y / length);
    let root = (end.0 - LENGTH * x, end.1 - LENGTH * y);
    let corners = [
        (end.0 + 2.0 * x, end.1 + 2.0 * y),
        (root.0 - HALF * y, root.1 + HALF * x),
        (root.0 + HALF * y, root.1 - HALF * x),
    ];
    let points: Vec<String> = corners.iter().map(|(x, y)| format!("{x},{y}")).collect();
    Some(Polygon::new().set("points", points.join(" ")).set("fill", INK))
}
