//! `lantern shape draw`: a sheet of all shapes of a file, as they are drawn.

use super::outcome;
use crate::arguments::ShapeDrawArguments;
use crate::diagnostics::rules_of;
use crate::failure::{Failure, Status};
use crate::output::complain;
use crate::pictures::{self, ShapeCell};
use crate::style;

pub fn run(arguments: &ShapeDrawArguments) -> Result<Status, Failure> {
    let (source, rules) = rules_of(arguments.file.clone())?;
    if rules.shapes.is_empty() {
        complain!("{}: no rule here wants a shape", source.name());
        return Ok(Status::Found);
    }
    let cells: Vec<ShapeCell> = rules
        .shapes
        .iter()
        .filter_map(|shape| {
            let strokes = shape.drawings.first()?.clone();
            Some(ShapeCell {
                name: shape.name.clone(),
                strokes,
                does: outcome(&rules, &shape.name),
            })
        })
        .collect();
    let name = source.name().rsplit('/').next().unwrap_or_default();
    pictures::write(&pictures::shapes(name, &cells), &arguments.picture)?;
    let (count, picture) = (cells.len(), arguments.picture.display());
    complain!("{}drawn{0:#} {picture}, {count} shapes", style::WENT_OUT);
    Ok(Status::Done)
}
