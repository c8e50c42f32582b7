//! Recognition of drawn shapes, whatever their size, position and speed.
//!
//! A drawing is brought into a normal form (`NormalForm`): each stroke is cut into steps of equal
//! length, and the whole is centred and scaled to one size. Forms are compared twice. A closed form
//! compares the drawing with every template at a few hundred multiplications each. An elastic
//! comparison of the few nearest then allows for a leg that is longer than in the example.

mod elastic_matching;
mod evidence;
mod multi_resolution;
mod normal_form;
mod path_words;
mod shape_index;

use lantern_model::StrokePath;

pub use evidence::{EvidenceVector, SIGNS};
pub use path_words::{PATH_WORDS, strokes_of_words};
pub use shape_index::{
    AlikeShapes, RankedShape, RankedShapes, Recognition, ShapeIndex, examples_of,
};

/// What is smaller than this, in pixels, is a click that slipped and no drawing.
const SMALLEST_DRAWING: f32 = 12.0;

/// The longer side of the frame around strokes, in pixels.
pub fn size_of_drawing(strokes: &[StrokePath]) -> f32 {
    let frame = frame_of(strokes);
    frame.map_or(0.0, |(left, top, right, bottom)| (right - left).max(bottom - top))
}

/// Whether the strokes are long enough to be a drawing.
pub fn is_drawing(strokes: &[StrokePath]) -> bool {
    size_of_drawing(strokes) >= SMALLEST_DRAWING
}

/// The frame around strokes: left, top, right, bottom; `None` without a place.
pub fn frame_of(strokes: &[StrokePath]) -> Option<(f32, f32, f32, f32)> {
    let mut points = strokes.iter().flatten().copied();
    let first = points.next()?;
    Some(points.fold((first.0, first.1, first.0, first.1), |(left, top, right, bottom), (x, y)| {
        (left.min(x), top.min(y), right.max(x), bottom.max(y))
    }))
}
