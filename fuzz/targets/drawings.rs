//! Files of drawings, as CSV and as SVG, are read or refused, and what is read can be recognised and written.
#![no_main]
#![allow(dead_code)]

extern crate self as lantern_system;

#[path = "../../crates/lantern/src/drawing_error.rs"]
mod drawing_error;
#[path = "../../crates/lantern/src/drawings.rs"]
mod drawings;

use std::cell::RefCell;
use std::io;
use std::path::Path;

use lantern_gesture::ShapeIndex;
use lantern_model::{Shape, ShapeDescription, ShapeTolerance};

thread_local! {
    static TEXT: RefCell<String> = const { RefCell::new(String::new()) };
}

/// Stands in for the reading of a file.
pub fn read_regular_text(_: &Path, _: u64) -> io::Result<String> {
    Ok(TEXT.with(|text| text.borrow().clone()))
}

/// Stands in for what a command reports.
mod failure {
    #[derive(Debug)]
    pub enum Failure {
        Write { path: std::path::PathBuf, source: std::io::Error },
        NoDrawingFormat { path: std::path::PathBuf },
    }
}

libfuzzer_sys::fuzz_target!(|text: &str| {
    TEXT.with(|kept| text.clone_into(&mut kept.borrow_mut()));
    for name in ["d.csv", "d.svg"] {
        let Ok(mut drawings) = drawings::read(Path::new(name)) else { continue };
        let spots = drawings.iter().flatten().flatten();
        assert!(spots.into_iter().all(|(x, y)| x.is_finite() && y.is_finite()));
        drawings.truncate(3);
        let described = ShapeDescription::Drawn(name.to_owned());
        let shape = Shape {
            name: "s".to_owned(),
            description: described,
            drawings: drawings.clone(),
            tolerance: ShapeTolerance::default(),
        };
        let book = ShapeIndex::new(&[shape]);
        for drawing in &drawings {
            let _ = book.recognise(drawing, |_| true);
        }
    }
});
