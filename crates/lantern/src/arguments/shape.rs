//! What is said about shapes.

use std::path::PathBuf;

use clap::{Args, Subcommand};

/// `lantern shape`
#[derive(Debug, Args)]
pub struct ShapeArguments {
    /// What to do.
    #[command(subcommand)]
    pub command: ShapeCommand,
}

/// Commands about shapes.
#[derive(Debug, Subcommand)]
pub enum ShapeCommand {
    /// Draw a sheet of all shapes of a file.
    #[command(after_help = "Example:\n  lantern shape draw shapes.lantern --picture shapes.png")]
    Draw(ShapeDrawArguments),
    /// Keep drawings by your own hand as examples of a shape.
    #[command(
        after_help = "Examples:\n  lantern shape record tray.csv --holding forward-button\n  lantern shape record tray.svg --from drawn.csv\n\nThree drawings are a good start: they also show how much your hand varies."
    )]
    Record(ShapeRecordArguments),
    /// Say which shapes drawings in files are, with the scores of all.
    #[command(after_help = "Example:\n  lantern shape try --rules shapes.lantern drawn.csv")]
    Try(ShapeTryArguments),
    /// Rank pairs of shapes by how easily one is taken for the other.
    #[command(after_help = "Example:\n  lantern shape alike shapes.lantern --least 10")]
    Alike(ShapeAlikeArguments),
}

/// `lantern shape draw`
#[derive(Debug, Args)]
pub struct ShapeDrawArguments {
    /// The file of rules; the person's own if missing.
    pub file: Option<PathBuf>,
    /// Where the sheet goes, as .svg or .png.
    #[arg(long, value_name = "FILE")]
    pub picture: PathBuf,
}

/// `lantern shape record`
#[derive(Debug, Args)]
pub struct ShapeRecordArguments {
    /// Where the drawings go, as .csv or .svg; those that are in it stay.
    pub file: PathBuf,
    /// The key or button that is held while drawing.
    #[arg(long, value_name = "KEY", default_value = "right-button")]
    pub holding: String,
    /// How often it is drawn.
    #[arg(long, value_name = "N", default_value_t = 3, value_parser = clap::value_parser!(u16).range(1..=9))]
    pub times: u16,
    /// Take the drawings of another file instead.
    #[arg(long, value_name = "FILE")]
    pub from: Option<PathBuf>,
    /// Leave out what the file has.
    #[arg(long)]
    pub anew: bool,
}

/// `lantern shape try`
#[derive(Debug, Args)]
pub struct ShapeTryArguments {
    /// Files of drawings, as .csv or .svg.
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    /// The file of rules; the person's own if missing.
    #[arg(long, value_name = "FILE")]
    pub rules: Option<PathBuf>,
    /// Print data instead of a table.
    #[arg(long)]
    pub json: bool,
}

/// `lantern shape alike`
#[derive(Debug, Args)]
pub struct ShapeAlikeArguments {
    /// The file of rules; the person's own if missing.
    pub file: Option<PathBuf>,
    /// Leave out pairs that are less alike than this, in percent.
    #[arg(long, value_name = "PERCENT", default_value_t = 20.0)]
    pub least: f64,
    /// Show so many pairs at the most.
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub most: usize,
    /// Print data instead of a table.
    #[arg(long)]
    pub json: bool,
}
