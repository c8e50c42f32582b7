//! `lantern capture`: press it, and learn what it is called, what it sends and who has it.

use lantern_model::{Key, KeyCombination};
use lantern_session::{Shortcut, shortcuts};
use lantern_x11::{CapturedCombination, capture, survey};
use serde::Serialize;

use crate::arguments::CaptureArguments;
use crate::commands::bound::bindings_of;
use crate::commands::print_json;
use crate::failure::{Failure, Status};
use crate::files;
use crate::files::RulesRead;
use crate::output::{complain, say};
use crate::pictures::Binding;
use crate::style;

/// The shape of `--json`, version 1; one object for each combination.
#[derive(Serialize)]
struct CaptureReport {
    version: u32,
    combo: Option<String>,
    cap: Option<&'static str>,
    code: Option<&'static str>,
    keysym: String,
    #[serde(skip)]
    sends: Vec<String>,
    kernel: Option<u16>,
    number: u8,
    types: Option<char>,
    device: String,
    held: bool,
    rules: Vec<String>,
    settings: Vec<SettingData>,
}

#[derive(Serialize)]
struct SettingData {
    setting: String,
    free: String,
    give_back: String,
}

pub fn run(arguments: &CaptureArguments) -> Result<Status, Failure> {
    let manager = survey()?.manager.unwrap_or_default();
    let known = shortcuts(&manager);
    let bound = bindings(arguments);
    for _ in 0..arguments.count.max(1) {
        let captured = capture(|| {
            complain!("{}press a key, a button, or several together{0:#}", style::FAINT);
        })?;
        let report = report(&captured, &known, &bound);
        if arguments.json { print_json(&report) } else { print(&report) }
    }
    Ok(Status::Done)
}

fn report(captured: &CapturedCombination, known: &[Shortcut], bound: &[Binding]) -> CaptureReport {
    let families = captured.families;
    let combo = captured.key.map(|key| KeyCombination::with(families, key).to_string());
    let taken_by =
        known.iter().filter(|taken| Some(taken.key) == captured.key && taken.families == families);
    CaptureReport {
        version: 1,
        cap: captured.key.map(|key| key.label()),
        code: captured.key.and_then(|key| key.code()),
        keysym: format!("0x{:04x}", captured.keysym),
        sends: sent_names(captured.key, captured.keysym, captured.code),
        kernel: captured.key.and_then(|key| key.kernel()),
        number: captured.code,
        types: captured.types,
        device: captured.device.clone(),
        held: captured.held,
        rules: combo.as_ref().map_or_else(Vec::new, |combo| rules_for(combo, bound)),
        combo,
        settings: taken_by
            .map(|taken| SettingData {
                setting: taken.setting.clone(),
                free: taken.free.line(),
                give_back: taken.give_back.line(),
            })
            .collect(),
    }
}

/// What the person's file takes, if there is one.
fn bindings(arguments: &CaptureArguments) -> Vec<Binding> {
    let read = files::rules_path(arguments.file.clone()).and_then(|path| files::read_rules(&path));
    let Ok(RulesRead { checked, .. }) = read else {
        return Vec::new();
    };
    checked.rules.as_ref().map(bindings_of).unwrap_or_default()
}

/// The rules that the combination fires.
fn rules_for(combo: &str, bound: &[Binding]) -> Vec<String> {
    let parts = |words: &str| {
        let mut parts: Vec<String> = words.split('+').map(str::to_owned).collect();
        parts.sort();
        parts
    };
    let same = bound.iter().filter(|binding| parts(&binding.combo) == parts(combo));
    same.map(|binding| format!("{} ({})", binding.rule, binding.at)).collect()
}

/// Everything that a key is called: by its cap, by open standards, and by number.
pub fn sent_names(key: Option<Key>, keysym: u32, number: u8) -> Vec<String> {
    let names = [
        key.map(|key| format!("cap {}", key.label())),
        key.and_then(Key::code).map(|code| format!("W3C {code}")),
        (keysym != 0).then(|| format!("keysym 0x{keysym:04x}")),
        key.and_then(Key::kernel).map(|kernel| format!("kernel {kernel}")),
        Some(format!("X {number}")),
    ];
    names.into_iter().flatten().collect()
}

fn print(report: &CaptureReport) {
    let line = |name: &str, words: String| say!("  {}{name:<11}{0:#}{words}", style::FAINT);
    match &report.combo {
        Some(combo) => {
            say!("{}{combo}{0:#}", style::HEAD);
            line("in a rule", format!("when key {combo} => log \"pressed\""));
        }
        None => say!("{}a key that has no name here{0:#}", style::WARNING),
    }
    line("sends", report.sends.join(", "));
    let types = report.types.map_or("nothing".to_owned(), |types| format!("{types:?}"));
    line("types", types);
    line("from", report.device.clone());
    for rule in &report.rules {
        line("fires", rule.clone());
    }
    for taken in &report.settings {
        line("taken by", taken.setting.clone());
        line("free it", taken.free.clone());
        line("give back", taken.give_back.clone());
    }
    if report.settings.is_empty() && report.held {
        let own = "lantern at work, or another program that holds it; the display does not say who";
        line("taken by", own.to_owned());
    } else if !report.held {
        line("taken by", "nobody".to_owned());
    }
}
