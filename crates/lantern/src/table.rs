//! Tables on a terminal.

use std::borrow::Cow;

use unicode_width::UnicodeWidthStr;

use crate::escaping::shown;
use crate::output::say;
use crate::style;

/// Prints rows under their heads, each column as wide as its widest cell.
pub fn print(heads: &[&str], rows: &[Vec<String>]) {
    let rows: Vec<Vec<Cow<'_, str>>> =
        rows.iter().map(|row| row.iter().map(|cell| shown(cell)).collect()).collect();
    let width = |column: usize| {
        let cells = rows.iter().map(|row| row[column].width());
        cells.chain([heads[column].width()]).max().unwrap_or(0)
    };
    let widths: Vec<usize> = (0..heads.len()).map(width).collect();
    let line = |cells: &[&str]| {
        let padded = cells
            .iter()
            .zip(&widths)
            .map(|(cell, width)| format!("{cell}{}", " ".repeat(width - cell.width())));
        padded.collect::<Vec<_>>().join("  ").trim_end().to_owned()
    };
    say!("{}{}{0:#}", style::HEAD, line(heads));
    for row in &rows {
        say!("{}", line(&row.iter().map(Cow::as_ref).collect::<Vec<_>>()));
    }
}
