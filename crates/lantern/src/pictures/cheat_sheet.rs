//! What can be done, as a sheet to pin up: a card for each place, in two columns.

use svg::Document;

use super::{GUIDE, INK, TAKEN, block, rule, sheet, shortened, words};
use serde::Serialize;

/// What can be done at a place.
#[derive(Debug, Serialize)]
pub struct SheetGroup {
    /// The place in words.
    pub place: String,
    /// What is done, and what it does.
    pub entries: Vec<SheetEntry>,
}

/// One thing that can be done.
#[derive(Debug, Serialize)]
pub struct SheetEntry {
    pub how: String,
    pub what: String,
}

const WIDTH: f64 = 1280.0;
const MARGIN: f64 = 32.0;
const GAP: f64 = 36.0;
const ROW: f64 = 24.0;
const HEAD: f64 = 34.0;
const TOP: f64 = 72.0;
const COLUMN: f64 = (WIDTH - 2.0 * MARGIN - GAP) / 2.0;
/// Where the description begins.
const WHAT: f64 = 250.0;

/// Draws the sheet.
pub fn cheat_sheet(name: &str, groups: &[SheetGroup]) -> Document {
    let height = |group: &SheetGroup| HEAD + group.entries.len() as f64 * ROW + 18.0;
    let mut columns = [TOP, TOP];
    let mut places = Vec::new();
    for group in groups {
        let column = usize::from(columns[1] < columns[0]);
        places.push((MARGIN + column as f64 * (COLUMN + GAP), columns[column]));
        columns[column] += height(group);
    }
    let bottom = columns[0].max(columns[1]) + 16.0;
    let mut picture = sheet(WIDTH, bottom).add(words(MARGIN, 44.0, 24.0, INK, name));
    for (group, (x, y)) in groups.iter().zip(places) {
        let title = words(x, y + 18.0, 16.0, TAKEN, &shortened(&group.place, 60));
        picture = picture.add(title.set("font-weight", "bold"));
        picture = picture.add(rule((x, y + 26.0), (x + COLUMN, y + 26.0), TAKEN, 1.5));
        for (index, entry) in group.entries.iter().enumerate() {
            let at = y + HEAD + index as f64 * ROW;
            if index % 2 == 1 {
                picture = picture.add(block(x, at, COLUMN, ROW, GUIDE).set("fill-opacity", 0.5));
            }
            let how = words(x + 6.0, at + 17.0, 14.0, INK, &shortened(&entry.how, 29));
            picture = picture.add(how.set("font-family", "Hack, monospace")).add(words(
                x + WHAT,
                at + 17.0,
                15.0,
                INK,
                &shortened(&entry.what, 46),
            ));
        }
    }
    picture
}
