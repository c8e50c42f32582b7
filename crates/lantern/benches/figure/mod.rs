//! Figures of benchmarks as PNG, with the font that the program's own pictures have.

use std::path::Path;

use resvg::{tiny_skia, usvg};
use svg::Document;
use svg::node::element::Text;

/// The colour of words.
const INK: &str = "#1d2733";

/// Words at a place.
pub fn words(text: &str, x: f64, y: f64, size: u32) -> Text {
    Text::new(text).set("x", x).set("y", y).set("font-size", size).set("fill", INK)
}

/// Writes a figure.
pub fn write(picture: &Document, path: &Path) {
    let mut options =
        usvg::Options { font_family: "Ubuntu".to_owned(), ..usvg::Options::default() };
    options.fontdb_mut().load_font_data(epaint_default_fonts::UBUNTU_LIGHT.to_vec());
    let tree = usvg::Tree::from_str(&picture.to_string(), &options).expect("it is a picture");
    let size = tree.size().to_int_size();
    let mut pixels = tiny_skia::Pixmap::new(size.width(), size.height()).expect("it has a size");
    resvg::render(&tree, tiny_skia::Transform::identity(), &mut pixels.as_mut());
    pixels.save_png(path).expect("it can be written");
}
