//! `lantern windows`: what is open, with the text by which a rule knows it.

use lantern_model::App;
use lantern_x11::list_windows;
use serde::Serialize;

use crate::arguments::WindowsArguments;
use crate::commands::print_json;
use crate::failure::{Failure, Status};
use crate::output::complain;
use crate::text::quoted;
use crate::{style, table};

/// The shape of `--json`, version 1.
#[derive(Serialize)]
struct WindowsReport {
    version: u32,
    windows: Vec<WindowData>,
}

#[derive(Serialize)]
struct WindowData {
    rule: String,
    names: Vec<String>,
    title: String,
    process: Option<u32>,
    frame: Option<[i32; 4]>,
}

/// A title in a table takes no more characters.
const TITLE: usize = 44;

pub fn run(arguments: &WindowsArguments) -> Result<Status, Failure> {
    let windows = list_windows()?;
    let rule = |app: &App| rule_words(app, &windows);
    let frame = |app: &App| app.bounds.map(|f| [f.x, f.y, f.width, f.height]);
    if arguments.json {
        let data = windows.iter().map(|app| WindowData {
            rule: rule(app),
            names: app.names.clone(),
            title: app.title.clone(),
            process: app.process,
            frame: frame(app),
        });
        print_json(&WindowsReport { version: 1, windows: data.collect() });
    } else if windows.is_empty() {
        complain!("no window is open, or no window manager lists them");
    } else {
        let row = |app: &App| {
            let mut title: String = app.title.chars().take(TITLE).collect();
            if title.len() < app.title.len() {
                title.push('…');
            }
            let process = app.process.map_or("-".to_owned(), |process| process.to_string());
            let place = frame(app).map_or("-".to_owned(), |[x, y, width, height]| {
                format!("{width}x{height} at {x},{y}")
            });
            vec![rule(app), title, place, process]
        };
        let rows: Vec<Vec<String>> = windows.iter().map(row).collect();
        table::print(&["in a rule", "title", "place", "process"], &rows);
        let counted = match rows.len() {
            1 => "1 window".to_owned(),
            count => format!("{count} windows, the one in front first"),
        };
        complain!("{}{counted}{0:#}", style::FAINT);
    }
    Ok(if windows.is_empty() { Status::Found } else { Status::Done })
}

/// The clause that means this window and, if possible, no other.
fn rule_words(app: &App, all: &[App]) -> String {
    let alone = all.iter().filter(|other| other.names.first() == app.names.first()).count() == 1;
    match app.names.first() {
        Some(name) if alone || app.title.is_empty() => format!("in app {}", quoted(name)),
        Some(name) => format!("in app {} in title {}", quoted(name), quoted(&app.title)),
        None => format!("in title {}", quoted(&app.title)),
    }
}
