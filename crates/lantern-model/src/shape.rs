//! Shapes that can be drawn.

/// A place, to the right and down.
pub type Point = (f32, f32);

/// Where the pointer or pen went while it was down.
pub type StrokePath = Vec<Point>;

/// A shape that can be drawn.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Shape {
    /// Its name.
    pub name: String,
    /// How the file describes it.
    pub description: ShapeDescription,
    /// Drawings of it, each of one or more strokes.
    pub drawings: Vec<Vec<StrokePath>>,
    /// What else is taken for it.
    pub tolerance: ShapeTolerance,
}

/// How a shape is described.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ShapeDescription {
    /// In words: directions and turns, one after another.
    Path(Vec<String>),
    /// By examples in a file, drawn by a person.
    Drawn(String),
}

impl Default for ShapeDescription {
    fn default() -> Self {
        ShapeDescription::Path(Vec::new())
    }
}

/// What a shape allows beside being drawn as it was shown.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ShapeTolerance {
    /// Its strokes may be drawn backwards and in another order.
    pub any_direction: bool,
    /// It may be seen in a mirror that swaps left and right.
    pub mirrored: bool,
    /// By how much it may be turned to either side, in degrees.
    pub max_rotation: f32,
}

impl Default for ShapeTolerance {
    fn default() -> Self {
        ShapeTolerance { any_direction: false, mirrored: false, max_rotation: 15.0 }
    }
}
