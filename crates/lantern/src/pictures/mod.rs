//! Pictures in SVG, and as PNG drawn from it with a font of our own, so that they look the same on
//! every machine.

mod cheat_sheet;
mod keyboard;
mod shapes;
mod timeline;

use std::fs;
#[cfg(feature = "pictures")]
use std::io;
use std::path::Path;

#[cfg(feature = "pictures")]
use resvg::{tiny_skia, usvg};
use svg::Document;
use svg::node::element::{Line, Rectangle, Text};

use crate::failure::Failure;

pub use cheat_sheet::{SheetEntry, SheetGroup, cheat_sheet};
pub use keyboard::{Binding, keyboard};
pub use shapes::{ShapeCell, shapes};
pub use timeline::timeline;

/// Ink, paper and what stands out. Chosen to be told apart in grey as well.
pub const INK: &str = "#1d2733";
/// Words of less weight.
pub const FAINT: &str = "#6b7785";
/// Lines that only guide the eye.
pub const GUIDE: &str = "#dde3ea";
/// The ground.
pub const PAPER: &str = "#fbfcfd";
/// What is taken, or runs.
pub const TAKEN: &str = "#20639b";
/// What failed.
pub const FAILED: &str = "#b3372f";
/// What is held.
pub const HELD: &str = "#c98a1b";

/// Writes a picture as its name says.
pub fn write(picture: &Document, path: &Path) -> Result<(), Failure> {
    let bytes = match path.extension().and_then(|extension| extension.to_str()) {
        Some("svg") => picture.to_string().into_bytes(),
        #[cfg(not(feature = "pictures"))]
        Some("png") => {
            return Err(Failure::NotBuilt { what: "PNG pictures", feature: "pictures" });
        }
        #[cfg(feature = "pictures")]
        Some("png") => drawn(&picture.to_string())
            .map_err(|source| Failure::Picture { path: path.to_owned(), source })?,
        _ => return Err(Failure::NoPictureFormat { path: path.to_owned() }),
    };
    fs::write(path, bytes).map_err(|source| Failure::Write { path: path.to_owned(), source })
}

#[cfg(feature = "pictures")]
fn drawn(svg: &str) -> io::Result<Vec<u8>> {
    let mut options =
        usvg::Options { font_family: "Ubuntu".to_owned(), ..usvg::Options::default() };
    let fonts = options.fontdb_mut();
    fonts.load_font_data(epaint_default_fonts::UBUNTU_LIGHT.to_vec());
    fonts.load_font_data(epaint_default_fonts::HACK_REGULAR.to_vec());
    let tree = usvg::Tree::from_str(svg, &options).map_err(io::Error::other)?;
    let size = tree.size().to_int_size();
    let mut pixels = tiny_skia::Pixmap::new(size.width(), size.height())
        .ok_or_else(|| io::Error::other("it has no size"))?;
    resvg::render(&tree, tiny_skia::Transform::identity(), &mut pixels.as_mut());
    pixels.encode_png().map_err(io::Error::other)
}

/// An empty picture of that size.
fn sheet(width: f64, height: f64) -> Document {
    Document::new()
        .set("width", width)
        .set("height", height)
        .set("viewBox", (0, 0, width, height))
        .set("font-family", "Ubuntu, sans-serif")
        .add(block(0.0, 0.0, width, height, PAPER))
}

fn block(x: f64, y: f64, width: f64, height: f64, fill: &str) -> Rectangle {
    Rectangle::new()
        .set("x", x)
        .set("y", y)
        .set("width", width)
        .set("height", height)
        .set("fill", fill)
}

fn words(x: f64, y: f64, size: f64, fill: &str, text: &str) -> Text {
    Text::new(text).set("x", x).set("y", y).set("font-size", size).set("fill", fill)
}

fn rule(from: (f64, f64), to: (f64, f64), stroke: &str, width: f64) -> Line {
    Line::new()
        .set("x1", from.0)
        .set("y1", from.1)
        .set("x2", to.0)
        .set("y2", to.1)
        .set("stroke", stroke)
        .set("stroke-width", width)
}

/// A text that takes no more than so many characters.
fn shortened(text: &str, most: usize) -> String {
    if text.chars().count() <= most {
        return text.to_owned();
    }
    let kept: String = text.chars().take(most - 1).collect();
    format!("{}…", kept.trim_end())
}
