//! `lantern status`: what runs.

use serde_json::{Value, json};

use crate::arguments::StatusArguments;
use crate::commands::print_json;
use crate::failure::{Failure, Status};
use crate::ipc::client::IpcClient;
use crate::output::say;
use crate::style;
use crate::table;
use crate::text::{counted, span_words};

pub fn run(arguments: &StatusArguments) -> Result<Status, Failure> {
    let told = IpcClient::reach()?.ask("status", &json!({}))?;
    if arguments.json {
        print_json(&told);
    } else {
        print(&told);
    }
    Ok(Status::Done)
}

fn print(told: &Value) {
    for line in heading(told) {
        say!("{line}");
    }
    let rows = |name: &str, row: &dyn Fn(&Value) -> Vec<String>| -> Vec<Vec<String>> {
        told[name].as_array().into_iter().flatten().map(row).collect()
    };
    let runs = rows("runs", &|run| {
        let age = span_words(run["seconds"].as_f64().unwrap_or(0.0));
        vec![words(&run["run"]), words(&run["rule"]), age, words(&run["does"]), words(&run["at"])]
    });
    let held = rows("held", &|held| {
        let by = held["by"].as_array().into_iter().flatten().map(words);
        vec![words(&held["key"]), by.collect::<Vec<_>>().join(", ")]
    });
    let programs =
        rows("programs", &|program| vec![words(&program["process"]), words(&program["name"])]);
    let devices = rows("devices", &|device| {
        let unasked = if device["kind"] == "web" { "asked when needed" } else { "not reached yet" };
        let state = device["state"].as_str().unwrap_or(unasked);
        let why = device["why"].as_str().map_or_else(String::new, |why| format!(": {why}"));
        vec![words(&device["name"]), words(&device["at"]), format!("{state}{why}")]
    });
    let refused = rows("refused", &|refused| vec![words(&refused["key"]), words(&refused["rule"])]);
    let abilities =
        rows("abilities", &|ability| vec![words(&ability["name"]), words(&ability["way"])]);
    let tables: [(&[&str], Vec<Vec<String>>); 6] = [
        (&["key not to be had", "rule"], refused),
        (&["device", "at", "is"], devices),
        (&["run", "rule", "for", "does", "at"], runs),
        (&["held key", "by"], held),
        (&["process", "started program"], programs),
        (&["ability", "by"], abilities),
    ];
    for (heads, rows) in tables {
        if !rows.is_empty() {
            say!("");
            table::print(heads, &rows);
        }
        let more = told["run_count"].as_u64().unwrap_or(0).saturating_sub(rows.len() as u64);
        if more > 0 && heads[0] == "run" {
            say!("and {more} more runs");
        }
    }
}

/// Which file, since when, and what stands still.
pub fn heading(told: &Value) -> Vec<String> {
    let (file, process, display) = (&told["file"], &told["process"], &told["display"]);
    let age = span_words(told["seconds"].as_f64().unwrap_or(0.0));
    let mut lines = vec![format!(
        "{} runs on {} for {age}, process {process}: {} active; {} stops everything",
        words(file),
        words(display),
        counted(told["rules"].as_u64().unwrap_or_default() as usize, "rule"),
        words(&told["panic"])
    )];
    let list = |value: &Value| -> Vec<String> {
        value.as_array().into_iter().flatten().map(words).collect()
    };
    if told["broken"] == json!(true) {
        lines.push(format!(
            "{}the file is broken now{0:#}: the rules from before are in force; `lantern check` says where",
            style::ERROR
        ));
    }
    let (paused, until) = (&told["paused"], &told["paused"]["until"]);
    let left = |name: &Value| {
        let of_name = until.as_array().into_iter().flatten().find(|pause| pause["name"] == *name);
        let left = of_name.and_then(|pause| pause["seconds"].as_f64());
        left.map_or_else(String::new, |left| format!(" for {} more", span_words(left)))
    };
    if paused["all"] == json!(true) {
        let left = left(&Value::Null);
        lines.push(format!(
            "{}everything is paused{left}{0:#}: `lantern resume` continues",
            style::WARNING
        ));
    }
    for name in list(&paused["rules"]) {
        let left = left(&json!(name));
        lines.push(format!("{}{name} is paused{left}{0:#}", style::WARNING));
    }
    if let Some(level) = told["microphone"]["level"].as_f64() {
        let noise = told["microphone"]["noise"].as_f64().unwrap_or(level);
        lines.push(match told["microphone"]["speech"] == json!(true) {
            true => format!("hears speech, {:.0} dB above the room", level - noise),
            false => format!("listens; the room is at {noise:.0} dB"),
        });
    }
    let layers = list(&told["layers"]);
    if !layers.is_empty() {
        lines.push(format!("layers that are on: {}", layers.join(", ")));
    }
    lines
}

/// A field as a person reads it.
pub fn words(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        Value::Null => "-".to_owned(),
        other => other.to_string(),
    }
}
