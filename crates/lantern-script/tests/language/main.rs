//! The language from the outside: texts in, findings and rules out.

mod cases;
mod depth;
mod documents;
mod files;
mod findings;
mod formatting;
mod kinds;
mod lints;
mod lowering;
mod powers;
mod properties;
mod scenes;
mod scopes;
mod teaching;

use lantern_script::{Checked, Source, check, render};

/// Checks a text as the file `bench.lantern`.
fn check_text(text: &str) -> Checked {
    check(&Source::new("bench.lantern", text))
}

/// All findings as a person reads them.
fn rendered(text: &str) -> String {
    let source = Source::new("bench.lantern", text);
    let findings = check(&source).findings;
    let shown: Vec<String> = findings.iter().map(|f| render(f, &source, false)).collect();
    if shown.is_empty() { "no problems".to_owned() } else { shown.join("\n\n") }
}

/// The names of all findings, in order.
fn names(text: &str) -> Vec<&'static str> {
    check_text(text).findings.iter().map(|finding| finding.code.row().name).collect()
}
