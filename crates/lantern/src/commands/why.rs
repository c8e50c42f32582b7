//! `lantern why`: why an input did what it did, or what keeps a combination from firing.

use lantern_session::shortcuts;
use lantern_x11::{keyboard_is_held, survey};
use serde_json::{Value, json};

use crate::arguments::WhyArguments;
use crate::backends;
use crate::commands::print_json;
use crate::escaping::shown;
use crate::failure::{Failure, Status};
use crate::ipc::client::IpcClient;
use crate::output::say;
use crate::style;
use crate::text::span_words;

pub fn run(arguments: &WhyArguments) -> Result<Status, Failure> {
    let about = arguments.about.as_deref();
    let params = match about.map(|about| (about, about.parse::<usize>())) {
        None => json!({}),
        Some((_, Ok(back))) => json!({ "back": back }),
        Some((key, Err(_))) => json!({ "key": key }),
    };
    let mut told = IpcClient::reach()?.ask("why", &params)?;
    if let Some(key) = told["key"].as_str() {
        let about = on_display(key)?;
        if let (Some(told), Value::Object(about)) = (told.as_object_mut(), about) {
            told.extend(about);
        }
    }
    if arguments.json {
        print_json(&told);
        return Ok(Status::Done);
    }
    match told["key"].as_str() {
        Some(key) => {
            let status = print_near(key, &told["near"]);
            print_display(&told);
            Ok(status)
        }
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
        let steps = text(rule, "steps");
        say!("        {}{}{0:#}", style::FAINT, shown(steps));
    }
    let fires = near.iter().any(|rule| rule["why"].is_null());
    if fires { Status::Done } else { Status::Found }
}

/// What the display knows of a combination: whether a client has grabbed the whole keyboard, and
/// which desktop setting uses it. Outside an X session only the settings are known.
fn on_display(key: &str) -> Result<Value, Failure> {
    let combo = lantern_script::parse_combo(key)
        .map_err(|error| Failure::Refused { message: error.to_string() })?;
    let is_x11 = backends::is_set("DISPLAY") && !backends::is_wayland();
    let manager = if is_x11 { survey()?.manager.unwrap_or_default() } else { String::new() };
    let is_held = is_x11 && keyboard_is_held()?;
    let settings: Vec<Value> = shortcuts(&manager)
        .into_iter()
        .filter(|taken| taken.combo() == combo)
        .map(|taken| json!({ "setting": taken.setting, "free": taken.free.line() }))
        .collect();
    Ok(json!({ "keyboard_held": is_held, "settings": settings }))
}

fn print_display(told: &Value) {
    if told["keyboard_held"] == json!(true) {
        say!(
            "the whole keyboard is held now, by a menu, a lock screen or another program: no rule sees a key"
        );
    }
    for taken in told["settings"].as_array().into_iter().flatten() {
        say!("a setting of the desktop has it: {}", text(taken, "setting"));
        say!("  to free it: {}", text(taken, "free"));
    }
    let wanted = told["near"].as_array().is_some_and(|near| !near.is_empty());
    match told["seen"].as_f64() {
        Some(ago) => say!("{}last pressed {} ago{0:#}", style::FAINT, span_words(ago)),
        None if wanted => {
            say!("{}not pressed since the start{0:#}", style::FAINT)
        }
        None => {}
    }
}

fn print_decisions(told: &Value) {
    let ago = told["ago"].as_f64().unwrap_or(0.0);
    say!("{}{} ago{0:#}", style::HEAD, span_words(ago));
    for decision in told["decisions"].as_array().into_iter().flatten() {
        let mut what = text(decision, "what").to_owned();
        if let Some(later) = decision["later"].as_f64() {
            what = format!("{} later: {what}", span_words(later));
        }
        match decision["rule"].as_str() {
            Some(rule) => {
                let place = text(decision, "place");
                say!("  {rule}  {}{place}{0:#}\n    {what}", style::FAINT);
            }
            None => say!("  {what}"),
        }
    }
}
