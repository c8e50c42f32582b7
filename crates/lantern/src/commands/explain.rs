//! `lantern explain`: a finding in full, with a bad and a good example.

use lantern_script::codes::{CODES, Code, CodeRow, Severity};
use lantern_script::near_name;
use serde::Serialize;

use crate::arguments::ExplainArguments;
use crate::commands::print_json;
use crate::failure::{Failure, Status};
use crate::style;

#[derive(Serialize)]
struct ExplainRow {
    name: &'static str,
    severity: Severity,
    meaning: &'static str,
    bad: &'static str,
    good: &'static str,
}

impl From<&CodeRow> for ExplainRow {
    fn from(row: &CodeRow) -> ExplainRow {
        ExplainRow {
            name: row.name,
            severity: row.severity,
            meaning: row.meaning,
            bad: row.bad,
            good: row.good,
        }
    }
}

pub fn run(arguments: &ExplainArguments) -> Result<Status, Failure> {
    let rows: Vec<&CodeRow> = match &arguments.name {
        Some(name) => vec![find(name)?],
        None => CODES.iter().collect(),
    };
    if arguments.json {
        print_json(&rows.into_iter().map(ExplainRow::from).collect::<Vec<_>>());
    } else if arguments.name.is_some() {
        print_row(rows[0]);
    } else {
        for row in rows {
            let first = row.meaning.split_inclusive(". ").next().unwrap_or(row.meaning).trim_end();
            crate::output::say!(
                "{}{:<16}{0:#} {:<8} {first}",
                style::HEAD,
                row.name,
                word(row.severity)
            );
        }
    }
    Ok(Status::Done)
}

fn find(name: &str) -> Result<&'static CodeRow, Failure> {
    Code::named(name).map(Code::row).ok_or_else(|| Failure::NoSuchFinding {
        name: name.to_owned(),
        near: near_name(name, CODES.iter().map(|row| row.name)).map(str::to_owned),
    })
}

fn word(severity: Severity) -> &'static str {
    match severity {
        Severity::Error => "error",
        Severity::Warning => "warning",
    }
}

fn print_row(row: &CodeRow) {
    crate::output::say!(
        "{}{}{0:#} ({})\n\n{}",
        style::HEAD,
        row.name,
        word(row.severity),
        row.meaning
    );
    for (title, example) in [("With it", row.bad), ("Without", row.good)] {
        crate::output::say!("\n{}{title}{0:#}:", style::HEAD);
        for line in example.lines() {
            crate::output::say!("    {line}");
        }
    }
}
