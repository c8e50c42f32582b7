//! `lantern why`: why an input did what it did, or what keeps a combination from firing.

use serde_json::{Value, json};

use crate::arguments::WhyArguments;
use crate::commands::print_json;
use crate::failure::{Failure, Status};
use crate::resident::client::Resident;
use crate::style::{self, say};
use crate::wording::span_words;

pub fn run(arguments: &WhyArguments) -> Result<Status, Failure> {
    let about = arguments.about.as_deref();
    let params = match about.map(|about| (about, about.parse::<usize>())) {
        None => json!({}),
        Some((_, Ok(back))) => json!({ "back": back }),
        Some((key, Err(_))) => json!({ "key": key }),
    };
    let told = Resident::reach()?.ask("why", &params)?;
    if arguments.json {
        print_json(&told);
        return Ok(Status::Done);
    }
    match told["key"].as_str() {
        Some(key) => Ok(print_near(key, &told["near"])),
        None => {
            print_decisions(&told);
            Ok(Status::Done)
        }
    }
}

fn text<'v>(value: &'v Value, field: &str) -> &'v str {
    value[field].as_str().unwrap_or_default()
}

/// The rules near to a combination; the status says whether one would fire.
fn print_near(key: &str, near: &Value) -> Status {
    let near = near.as_array().map_or(&[] as &[Value], Vec::as_slice);
    if near.is_empty() {
        say!("no rule wants {key}: it goes to the program in front");
        return Status::Found;
    }
    for rule in near {
        let (label, place) = (text(rule, "rule"), text(rule, "place"));
        match rule["why"].as_str() {
            None => say!("{}fires{0:#}   {label}  {}{place}{1:#}", style::WENT_OUT, style::FAINT),
            Some(why) => {
                say!("{}not now{0:#} {label}  {}{place}{1:#}", style::WARNING, style::FAINT);
                say!("        {why}");
            }
        }
    }
    let fires = near.iter().any(|rule| rule["why"].is_null());
    if fires { Status::Done } else { Status::Found }
}

fn print_decisions(told: &Value) {
    let ago = told["ago"].as_f64().unwrap_or(0.0);
    say!("{}{} ago{0:#}", style::HEAD, span_words(ago));
    for decision in told["decisions"].as_array().into_iter().flatten() {
        let what = text(decision, "what");
        match decision["rule"].as_str() {
            Some(rule) => {
                let place = text(decision, "place");
                say!("  {rule}  {}{place}{0:#}\n    {what}", style::FAINT);
            }
            None => say!("  {what}"),
        }
    }
}
