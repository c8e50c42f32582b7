//! `lantern fmt`: files in their canonical layout.

use std::io::{Read, Write};
use std::path::{Path, PathBuf};

use lantern_script::codes::Severity;
use lantern_script::scene::parse_scene;
use lantern_script::{Finding, Source, format, parse};

use crate::arguments::FmtArguments;
use crate::diagnostics::print_findings;
use crate::failure::{Failure, Status};
use crate::output::complain;
use crate::{files, style};

pub fn run(arguments: FmtArguments) -> Result<Status, Failure> {
    let mut paths = arguments.files;
    if paths.is_empty() {
        paths.push(files::rules_path(None)?);
    }
    let mut changed = 0;
    for path in &paths {
        let piped = path.as_os_str() == "-";
        let source = if piped { read_input()? } else { files::read_source(path)? };
        refuse_broken(&source, path)?;
        let layout = format(source.text());
        let differs = layout != source.text();
        changed += usize::from(differs);
        if piped && !arguments.check {
            // A reader that went away is no fault.
            let _ = std::io::stdout().lock().write_all(layout.as_bytes());
        } else if differs && arguments.check {
            crate::output::say!("{}", path.display());
        } else if differs {
            files::replace_text(path, &layout)?;
            complain!("{}laid out{0:#} {}", style::WENT_OUT, path.display());
        }
    }
    let word = if arguments.check { "would change" } else { "changed" };
    complain!("{}{changed} of {} files {word}{0:#}", style::FAINT, paths.len());
    Ok(if arguments.check && changed > 0 { Status::Found } else { Status::Done })
}

fn read_input() -> Result<Source, Failure> {
    let mut text = String::new();
    let failed = |source| Failure::Read { path: PathBuf::from("standard input"), source };
    std::io::stdin().lock().read_to_string(&mut text).map_err(failed)?;
    Ok(Source::new("standard input", text))
}

/// A file whose form is broken stays as it is: its layout could not be told.
fn refuse_broken(source: &Source, path: &Path) -> Result<(), Failure> {
    let is_error = |finding: &Finding| finding.severity() == Severity::Error;
    let broken = |findings: &[Finding]| findings.iter().any(is_error);
    let is_scene = path.extension().is_some_and(|extension| extension == "scene");
    let mut findings = if is_scene { parse_scene(source).1 } else { parse(source, 0).1 };
    // What comes by a pipe has no name to tell a scene by.
    if path.as_os_str() == "-" && broken(&findings) && !broken(&parse_scene(source).1) {
        findings.clear();
    }
    if broken(&findings) {
        print_findings(&findings, source);
        return Err(Failure::Broken { path: source.name().to_owned() });
    }
    Ok(())
}
