//! Errors of files of drawings.

use std::io;

/// Why a file has no drawings.
#[derive(Debug, thiserror::Error)]
pub enum DrawingError {
    /// The file is of neither format.
    #[error("its name ends neither in .csv nor in .svg")]
    UnknownFormat,
    /// No file has that path.
    #[error("it is not there")]
    NotFound,
    /// The file is larger than this, in bytes.
    #[error("it is larger than {} MB", .0 >> 20)]
    TooLarge(u64),
    /// The file cannot be read, or is no text.
    #[error(transparent)]
    Read(io::Error),
    /// A row of a CSV file is broken.
    #[error(transparent)]
    Csv(#[from] csv::Error),
    /// An SVG file is no XML.
    #[error(transparent)]
    Xml(#[from] roxmltree::Error),
    /// The data of an SVG path is broken.
    #[error("a path is broken: {0}")]
    Path(#[from] svgtypes::Error),
    /// An element of an SVG file has a transformation.
    #[error("it has a `transform`, which is not read; save it with plain places")]
    Transform,
    /// A coordinate is infinite or not a number.
    #[error("a place is no number")]
    NotFinite,
    /// No drawing has an extent.
    #[error("nothing is drawn in it")]
    Empty,
}
