//! `lantern check`: everything that is wrong in a file, at once.

use serde::Serialize;

use crate::arguments::CheckArguments;
use crate::commands::print_json;
use crate::failure::{Failure, Status};
use crate::files;
use crate::findings::{FindingData, finding_data, print_findings, summary};
use crate::style::say;

/// The shape of `--json`, version 1.
#[derive(Serialize)]
struct Report<'a> {
    version: u32,
    file: &'a str,
    rules: usize,
    findings: Vec<FindingData<'a>>,
}

pub fn run(arguments: CheckArguments) -> Result<Status, Failure> {
    let path = files::rules_path(arguments.file)?;
    let (source, checked) = files::read_rules(&path)?;
    let rules = checked.rules.as_ref().map_or(0, |set| set.rules.len());
    if arguments.json {
        let findings = checked.findings.iter().map(|finding| finding_data(finding, &source));
        print_json(&Report {
            version: 1,
            file: source.name(),
            rules,
            findings: findings.collect(),
        });
    } else {
        print_findings(&checked.findings, &source);
        if checked.rules.is_some() {
            let count = if rules == 1 { "1 rule".to_owned() } else { format!("{rules} rules") };
            say!("{}: {count}, {}", source.name(), summary(&checked.findings));
        } else {
            say!("{}: {}", source.name(), summary(&checked.findings));
        }
    }
    Ok(if checked.findings.is_empty() { Status::Done } else { Status::Found })
}
