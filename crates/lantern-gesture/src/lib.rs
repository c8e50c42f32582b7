//! Shapes drawn by hand: what a drawing is most like, whatever its size, place and speed.
//!
//! A drawing is brought into a normal form (`NormalForm`): each stroke cut into steps of equal length,
//! all of it moved to its middle and scaled to one size. Forms are compared twice: first in closed
//! form with every template, which costs a few hundred multiplications each, then the few nearest by
//! an elastic comparison that lets one leg be longer than in the example.

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
    let mut spots = strokes.iter().flatten().copied();
    let first = spots.next()?;
    Some(spots.fold((first.0, first.1, first.0, first.1), |(left, top, right, bottom), (x, y)| {
        (left.min(x), top.min(y), right.max(x), bottom.max(y))
    }))
}
