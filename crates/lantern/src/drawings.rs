//! Files of drawings: CSV, a place in each row, and SVG, a drawing in each path.

use std::fs;
use std::io::ErrorKind;
use std::path::Path;

use lantern_gesture::frame_of;
use lantern_model::StrokePath;
use lantern_system::read_regular_text;
use serde::{Deserialize, Serialize};
use svgtypes::{SimplePathSegment, SimplifyingPathParser};

use crate::drawing_error::DrawingError;
use crate::failure::Failure;

/// Into how many pieces a curve is cut.
const PIECES: usize = 24;
/// A file is no larger than this: sixty strokes of a fast mouse.
const LARGEST: u64 = 8 << 20;

/// Drawings, each of one or more strokes.
pub type Drawings = Vec<Vec<StrokePath>>;

/// A place of a CSV file.
#[derive(Debug, Serialize, Deserialize)]
struct CsvPoint {
    /// Which drawing of the file it is of, from 1.
    #[serde(default = "first")]
    drawing: usize,
    /// Which stroke of the drawing, from 1.
    #[serde(default = "first")]
    stroke: usize,
    x: f32,
    y: f32,
}

fn first() -> usize {
    1
}

/// The drawings in a file, each of one or more strokes.
///
/// # Errors
/// When the file cannot be read or has none.
pub fn read(path: &Path) -> Result<Drawings, DrawingError> {
    let read = match extension(path) {
        Some("csv") => read_csv,
        Some("svg") => read_svg,
        _ => return Err(DrawingError::UnknownFormat),
    };
    let text = read_regular_text(path, LARGEST).map_err(|error| match error.kind() {
        ErrorKind::NotFound => DrawingError::NotFound,
        ErrorKind::FileTooLarge => DrawingError::TooLarge(LARGEST),
        _ => DrawingError::Read(error),
    })?;
    let drawings = read(&text)?;
    let mut points = drawings.iter().flatten().flatten();
    if points.any(|(x, y)| !x.is_finite() || !y.is_finite()) {
        return Err(DrawingError::NotFinite);
    }
    let is_seen = |drawing: &Vec<StrokePath>| frame_of(drawing).is_some();
    if drawings.iter().any(is_seen) { Ok(drawings) } else { Err(DrawingError::Empty) }
}

fn extension(path: &Path) -> Option<&str> {
    path.extension().and_then(|extension| extension.to_str())
}

fn read_csv(text: &str) -> Result<Drawings, DrawingError> {
    let mut drawings = Drawings::new();
    let mut last = None;
    let mut reader = csv::ReaderBuilder::new().trim(csv::Trim::All).from_reader(text.as_bytes());
    for row in reader.deserialize() {
        let CsvPoint { drawing, stroke, x, y } = row?;
        if last.is_none_or(|(last, _)| drawing != last) {
            drawings.push(Vec::new());
        }
        let strokes = drawings.last_mut().expect("one was begun");
        if last != Some((drawing, stroke)) {
            strokes.push(StrokePath::new());
        }
        strokes.last_mut().expect("one was begun").push((x, y));
        last = Some((drawing, stroke));
    }
    Ok(drawings)
}

/// Each `<path>` is a drawing, each of its subpaths a stroke; so is each `<polyline>`.
fn read_svg(text: &str) -> Result<Drawings, DrawingError> {
    let document = roxmltree::Document::parse(text)?;
    let mut drawings = Drawings::new();
    for node in document.descendants() {
        if node.has_attribute("transform") {
            return Err(DrawingError::Transform);
        }
        let strokes = match node.tag_name().name() {
            "path" => strokes_of_path(node.attribute("d").unwrap_or_default())?,
            "polyline" => {
                let points =
                    svgtypes::PointsParser::from(node.attribute("points").unwrap_or_default());
                vec![points.map(|(x, y)| (x as f32, y as f32)).collect()]
            }
            _ => continue,
        };
        drawings.push(strokes);
    }
    Ok(drawings)
}

fn strokes_of_path(data: &str) -> Result<Vec<StrokePath>, DrawingError> {
    let mut strokes: Vec<StrokePath> = Vec::new();
    let mut at = (0.0, 0.0);
    for segment in SimplifyingPathParser::from(data) {
        let segment = segment?;
        if let SimplePathSegment::MoveTo { x, y } = segment {
            strokes.push(vec![(x as f32, y as f32)]);
            at = (x, y);
            continue;
        }
        let Some(stroke) = strokes.last_mut() else { continue };
        let first = (f64::from(stroke[0].0), f64::from(stroke[0].1));
        // Every piece is a cubic curve between two places.
        let (one, two, end) = match segment {
            SimplePathSegment::LineTo { x, y } => {
                stroke.push((x as f32, y as f32));
                at = (x, y);
                continue;
            }
            SimplePathSegment::CurveTo { x1, y1, x2, y2, x, y } => ((x1, y1), (x2, y2), (x, y)),
            SimplePathSegment::Quadratic { x1, y1, x, y } => {
                let third = |from: f64, to: f64| from + (to - from) * 2.0 / 3.0;
                let one = (third(at.0, x1), third(at.1, y1));
                (one, (third(x, x1), third(y, y1)), (x, y))
            }
            _ => {
                stroke.push((first.0 as f32, first.1 as f32));
                at = first;
                continue;
            }
        };
        for piece in 1..=PIECES {
            let t = piece as f64 / PIECES as f64;
            let rest = 1.0 - t;
            let weights = [rest.powi(3), 3.0 * rest * rest * t, 3.0 * rest * t * t, t.powi(3)];
            let along = |part: fn((f64, f64)) -> f64| {
                let parts = [at, one, two, end].map(part);
                weights.iter().zip(parts).map(|(weight, part)| weight * part).sum::<f64>() as f32
            };
            stroke.push((along(|point| point.0), along(|point| point.1)));
        }
        at = end;
    }
    Ok(strokes)
}

/// Writes drawings, as the file's name says.
pub fn write(path: &Path, drawings: &Drawings) -> Result<(), Failure> {
    let failed = |source| Failure::Write { path: path.to_owned(), source };
    let text = match extension(path) {
        Some("csv") => csv_of(drawings).map_err(|error| failed(std::io::Error::other(error)))?,
        Some("svg") => svg_of(drawings),
        _ => return Err(Failure::NoDrawingFormat { path: path.to_owned() }),
    };
    fs::write(path, text).map_err(failed)
}

fn csv_of(drawings: &Drawings) -> Result<Vec<u8>, csv::Error> {
    let mut writer = csv::Writer::from_writer(Vec::new());
    for (drawing, strokes) in (1..).zip(drawings) {
        for (stroke, points) in (1..).zip(strokes) {
            for (x, y) in points {
                writer.serialize(CsvPoint { drawing, stroke, x: *x, y: *y })?;
            }
        }
    }
    writer.into_inner().map_err(|error| error.into_error().into())
}

/// The drawings side by side, each as large as it was drawn.
fn svg_of(drawings: &Drawings) -> Vec<u8> {
    const MARGIN: f32 = 20.0;
    let mut picture = svg::Document::new();
    let (mut width, mut height) = (MARGIN, 0.0_f32);
    for strokes in drawings {
        let (left, top, right, bottom) = frame_of(strokes).unwrap_or_default();
        let (across, down) = (width - left, MARGIN - top);
        picture = picture.add(path_of(strokes, |(x, y)| (x + across, y + down)));
        width += right - left + MARGIN;
        height = height.max(bottom - top);
    }
    let view = (0, 0, width.ceil() as i32, (height + 2.0 * MARGIN).ceil() as i32);
    picture.set("viewBox", view).to_string().into_bytes()
}

/// Strokes as one path, each place moved by `place`.
pub fn path_of(
    strokes: &[StrokePath],
    place: impl Fn((f32, f32)) -> (f32, f32),
) -> svg::node::element::Path {
    let mut data = svg::node::element::path::Data::new();
    for stroke in strokes {
        let mut points = stroke.iter().map(|point| place(*point));
        let Some(first) = points.next() else { continue };
        data = data.move_to(first);
        // A tap is a line of no length, which round ends show as a dot.
        data = if stroke.len() == 1 { data.line_to(first) } else { data };
        data = points.fold(data, |data, point| data.line_to(point));
    }
    svg::node::element::Path::new()
        .set("d", data)
        .set("fill", "none")
        .set("stroke", "#1d2733")
        .set("stroke-width", 2)
        .set("stroke-linecap", "round")
        .set("stroke-linejoin", "round")
}
