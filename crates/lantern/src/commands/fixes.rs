//! `lantern check --fix`: writes the fixes that are certain into a file of rules.

use std::path::Path;

use lantern_script::{Finding, Fix, Source};
use serde::Serialize;

use crate::failure::Failure;
use crate::files;
use crate::files::RulesRead;

/// Maximum number of rounds per file: fixing one mistake may reveal another one.
const MOST_ROUNDS: usize = 8;

/// A fix that was written. Lines and columns count from 1, columns in characters, in the file as it was
/// before the round of this fix.
#[derive(Debug, Serialize)]
pub struct WrittenFix {
    pub line: u32,
    pub column: u32,
    /// The text before.
    pub before: String,
    /// The text in its place.
    pub after: String,
}

/// Writes all certain fixes of the file itself, not of files that it uses.
///
/// # Errors
/// When the file cannot be read or replaced.
pub fn write_fixes(path: &Path) -> Result<Vec<WrittenFix>, Failure> {
    let mut written = Vec::new();
    for _ in 0..MOST_ROUNDS {
        let RulesRead { source, checked, .. } = files::read_rules(path)?;
        let fixes = certain_fixes(&source, &checked.findings);
        if fixes.is_empty() {
            break;
        }
        let mut text = source.text()[source.span_of(0).range()].to_owned();
        for fix in fixes.iter().rev() {
            text.replace_range(fix.span.range(), &fix.text);
        }
        files::replace_text(path, &text)?;
        written.extend(fixes.into_iter().map(|fix| {
            let place = source.place(fix.span.start);
            WrittenFix {
                line: place.line,
                column: place.column,
                before: source.slice(fix.span).to_owned(),
                after: fix.text.clone(),
            }
        }));
    }
    Ok(written)
}

/// The certain fixes of the first file in the order of their places. Of two that overlap the first is
/// taken.
fn certain_fixes<'a>(source: &Source, findings: &'a [Finding]) -> Vec<&'a Fix> {
    let own = source.span_of(0);
    let mut fixes: Vec<&Fix> = findings
        .iter()
        .filter_map(|finding| finding.fix.as_ref())
        .filter(|fix| fix.is_certain && fix.span.start >= own.start && fix.span.end <= own.end)
        .collect();
    fixes.sort_by_key(|fix| (fix.span.start, fix.span.end));
    let mut end = 0;
    let mut last_start = None;
    fixes.retain(|fix| {
        let is_free = fix.span.start >= end && last_start != Some(fix.span.start);
        if is_free {
            end = fix.span.end;
            last_start = Some(fix.span.start);
        }
        is_free
    });
    fixes
}
