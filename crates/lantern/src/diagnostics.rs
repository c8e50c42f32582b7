//! Findings as the commands show them: for a person, and as data.

use std::path::PathBuf;

use lantern_model::RuleSet;
use lantern_script::codes::Severity;
use lantern_script::{Finding, Need, Source, Span, render};
use serde::Serialize;

use crate::arguments::BackendName;
use crate::backends;
use crate::failure::Failure;
use crate::files::RulesRead;
use crate::{files, style};

/// A finding as data. Lines and columns count from 1, columns in characters.
#[derive(Serialize)]
pub struct FindingData<'a> {
    name: &'static str,
    severity: Severity,
    message: &'a str,
    #[serde(flatten)]
    place: PlaceData<'a>,
    others: Vec<PlaceData<'a>>,
    help: Option<&'a str>,
    fix: Option<FixData<'a>>,
}

#[derive(Serialize)]
struct PlaceData<'a> {
    file: &'a str,
    line: u32,
    column: u32,
    end_line: u32,
    end_column: u32,
    text: &'a str,
    label: &'a str,
}

#[derive(Serialize)]
struct FixData<'a> {
    line: u32,
    column: u32,
    end_line: u32,
    end_column: u32,
    text: &'a str,
    /// Whether `check --fix` writes it: it is what was meant in any case.
    certain: bool,
}

/// The rules of a file, the person's own if none is named. What is wrong with one that is broken is
/// printed.
pub fn rules_of(file: Option<PathBuf>) -> Result<(Source, RuleSet), Failure> {
    let path = files::rules_path(file)?;
    let RulesRead { source, checked, .. } = files::read_rules(&path)?;
    match checked.rules {
        Some(rules) => Ok((source, rules)),
        None => {
            print_findings(&checked.findings, &source);
            Err(Failure::Broken { path: source.name().to_owned() })
        }
    }
}

/// Prints findings on standard output, as a person reads them.
pub fn print_findings(findings: &[Finding], source: &Source) {
    print_rendered(findings.iter().map(|finding| render(finding, source, true)));
}

/// Prints findings that were rendered already.
pub fn print_rendered(rendered: impl IntoIterator<Item = String>) {
    for finding in rendered {
        crate::output::say!("{finding}\n");
    }
}

/// What a back end of this version cannot do of what a set needs.
pub fn lacking_on(backend: BackendName, needs: &[(Need, Span)]) -> impl Iterator<Item = Finding> {
    let lacks = move |need: Need| match backend {
        BackendName::X11 | BackendName::Simulated => false,
        BackendName::Evdev => {
            backends::needs_session(need) || matches!(need, Need::Menus | Need::Pointer)
        }
        // Its compositors have windows and the clipboard; only a session at hand may say otherwise.
        BackendName::Wlroots => {
            backends::is_wayland() && backends::needs_session(need)
                || matches!(
                    need,
                    Need::Menus | Need::Pointer | Need::Buttons | Need::Boards | Need::Shapes
                )
        }
        BackendName::Portal => {
            backends::needs_session(need)
                || matches!(
                    need,
                    Need::Menus
                        | Need::Pointer
                        | Need::Buttons
                        | Need::Remaps
                        | Need::Letters
                        | Need::Boards
                        | Need::Shapes
                )
        }
    };
    let lacking = needs.iter().filter(move |(need, _)| lacks(*need));
    lacking.map(move |(need, span)| need.lacking(*span, backend.called()))
}

/// How many there are of each severity.
pub fn summary(findings: &[Finding]) -> String {
    let count = |severity| findings.iter().filter(|f| f.severity() == severity).count();
    let words = |count, one: &str| match count {
        0 => None,
        1 => Some(format!("1 {one}")),
        many => Some(format!("{many} {one}s")),
    };
    let errors = words(count(Severity::Error), "error");
    let warnings = words(count(Severity::Warning), "warning");
    match (errors, warnings) {
        (None, None) => format!("{}no problems{0:#}", style::WENT_OUT),
        (Some(errors), None) => format!("{}{errors}{0:#}", style::ERROR),
        (None, Some(warnings)) => format!("{}{warnings}{0:#}", style::WARNING),
        (Some(errors), Some(warnings)) => {
            format!("{}{errors}{0:#} and {}{warnings}{1:#}", style::ERROR, style::WARNING)
        }
    }
}

/// A finding as data.
pub fn finding_data<'a>(finding: &'a Finding, source: &'a Source) -> FindingData<'a> {
    let place = |span: lantern_script::Span, label: &'a str| {
        let (start, end) = (source.place(span.start), source.place(span.end));
        PlaceData {
            file: source.name_at(span.start),
            line: start.line,
            column: start.column,
            end_line: end.line,
            end_column: end.column,
            text: source.slice(span),
            label,
        }
    };
    let fix = finding.fix.as_ref().map(|fix| {
        let (start, end) = (source.place(fix.span.start), source.place(fix.span.end));
        FixData {
            line: start.line,
            column: start.column,
            end_line: end.line,
            end_column: end.column,
            text: &fix.text,
            certain: fix.is_certain,
        }
    });
    FindingData {
        name: finding.code.row().name,
        severity: finding.severity(),
        message: &finding.message,
        place: place(finding.span, &finding.label),
        others: finding.others.iter().map(|(span, label)| place(*span, label)).collect(),
        help: finding.help.as_deref(),
        fix,
    }
}
