//! `lantern run`: work by the rules until stopped.

use lantern_desk::{HeldKeys, X11Desk};
use lantern_model::RuleSet;
use lantern_script::Source;

use crate::agreement::{Agreement, power_words};
use crate::arguments::RunArguments;
use crate::failure::{Failure, Status};
use crate::findings::{lacking_on_x11, print_findings};
use crate::guardian::Guarded;
use crate::runtime::RuntimeFiles;
use crate::session::Session;
use crate::style::complain;
use crate::{files, style};

pub fn run(arguments: RunArguments) -> Result<Status, Failure> {
    let path = files::rules_path(arguments.file)?;
    let (source, checked) = files::read_rules(&path)?;
    let lacking = lacking_on_x11(&checked.needs);
    let findings: Vec<_> = checked.findings.iter().cloned().chain(lacking).collect();
    print_findings(&findings, &source);
    let Some(rules) = checked.rules else {
        return Err(Failure::Broken { path: source.name().to_owned() });
    };
    refuse_unless_agreed(&source, &rules)?;
    let display = std::env::var("DISPLAY").unwrap_or_default();
    if display.is_empty() {
        return Err(lantern_desk::DeskError::NoDisplay.into());
    }
    let runtime = RuntimeFiles::for_display()?;
    let _claim = runtime.claim()?;
    let held = HeldKeys::open(&runtime.held_keys())?;
    let desk = X11Desk::open(held)?;
    let _guarded = Guarded::start(&runtime.held_keys())?;
    let scoped = rules.rules.iter().any(|rule| !rule.scope.is_anywhere());
    if scoped && !desk.tells_programs()? {
        complain!(
            "{}warning{0:#}: no window manager tells which program is in front, so rules with \
             `in app` wait\n  {}help{1:#}: run a window manager that keeps _NET_ACTIVE_WINDOW",
            style::WARNING,
            style::HELP
        );
    }
    let mut session = Session::new(rules, desk, path.clone(), arguments.verbose)?;
    session.work(|rules| {
        let panic = &rules.settings.panic;
        let count = rules.rules.len();
        let name = path.display();
        complain!("{name}: {count} rules at work on {display}; {panic} stops everything");
    })?;
    complain!("{}: stopped, every key is let go", path.display());
    Ok(Status::Done)
}

/// Whatever used files can do must have been agreed to; the first file is the person's own.
pub fn refuse_unless_agreed(source: &Source, rules: &RuleSet) -> Result<(), Failure> {
    let agreement = Agreement::read();
    let missing = agreement.missing(source, rules);
    if missing.is_empty() {
        return Ok(());
    }
    for (file, power) in &missing {
        complain!("{}{file}{0:#} {}", style::WARNING, power_words(power));
    }
    Err(Failure::NotAgreed { path: source.name().to_owned() })
}
