//! `lantern check`: everything that is wrong in a set, at once; and what it can do.

use std::path::Path;

use lantern_model::{Layout, RuleSet};
use lantern_script::{Finding, Power, Source, lacking_on_layout, powers};
use serde::Serialize;

use crate::arguments::CheckArguments;
use crate::commands::fixes::{WrittenFix, write_fixes};
use crate::commands::installed::{MissingProgram, missing_programs};
use crate::commands::print_json;
use crate::consent::{Consent, missing_lines};
use crate::diagnostics::{FindingData, finding_data, lacking_on, print_findings, summary};
use crate::failure::{Failure, Status};
use crate::files::RulesRead;
use crate::output::{complain, say};
use crate::policy::Policy;
use crate::text::{counted, power_words};
use crate::{files, style};

/// The shape of `--json`, version 1.
#[derive(Serialize)]
struct CheckReport<'a> {
    version: u32,
    file: &'a str,
    rules: usize,
    findings: Vec<FindingData<'a>>,
    /// What `--fix` changed.
    #[serde(skip_serializing_if = "<[WrittenFix]>::is_empty")]
    fixed: &'a [WrittenFix],
    /// Programs that rules name and that are not installed here.
    not_installed: &'a [MissingProgram],
    /// What used files can do that the person has not agreed to: `run` refuses until then.
    not_agreed: Vec<PowerData<'a>>,
}

/// The shape of `--powers --json`, version 1.
#[derive(Serialize)]
struct PowersReport<'a> {
    version: u32,
    file: &'a str,
    powers: Vec<PowerData<'a>>,
}

#[derive(Serialize)]
struct PowerData<'a> {
    power: &'static str,
    what: &'a str,
    file: &'a str,
    line: u32,
    agreed: bool,
}

pub fn run(arguments: &CheckArguments) -> Result<Status, Failure> {
    let [first, others @ ..] = arguments.files.as_slice() else {
        return check_file(&files::rules_path(None)?, arguments);
    };
    if others.is_empty() {
        return check_file(first, arguments);
    }
    let mut status = Status::Done;
    for path in &arguments.files {
        // One that cannot be read keeps none of the others from being checked.
        match check_file(path, arguments) {
            Ok(Status::Done) => {}
            Ok(Status::Found) => status = Status::Found,
            Err(failure) => {
                failure.report();
                status = Status::Found;
            }
        }
    }
    Ok(status)
}

/// Checks one set: a file with those it uses.
fn check_file(path: &Path, arguments: &CheckArguments) -> Result<Status, Failure> {
    let fixed = if arguments.fix { write_fixes(path)? } else { Vec::new() };
    if !arguments.json {
        print_fixed(path, &fixed);
    }
    let read = files::read_rules(path)?;
    let writable = files::refuse_if_others_may_write(&read);
    let RulesRead { source, checked, .. } = read;
    if arguments.powers {
        let Some(rules) = &checked.rules else {
            print_findings(&checked.findings, &source);
            return Err(Failure::Broken { path: source.name().to_owned() });
        };
        return tell_powers(arguments, &source, rules);
    }
    let mut findings = checked.findings;
    if let Some(name) = &arguments.layout {
        let layout = Layout::named(name).ok_or_else(|| Failure::NoSuchLayout {
            name: name.clone(),
            known: Layout::NAMES.join(", "),
        })?;
        findings.extend(lacking_on_layout(&source, &layout, name));
    }
    if let Some(backend) = arguments.backend {
        findings.extend(lacking_on(backend, &checked.needs));
    }
    findings.sort_by_key(|finding: &Finding| finding.span);
    let rules = checked.rules.as_ref().map_or(0, |set| set.rules.len());
    let missing = match &checked.rules {
        Some(set) => Consent::read().missing(&source, set),
        None => Vec::new(),
    };
    let to_agree = !missing.is_empty();
    let allowed = match &checked.rules {
        Some(set) => Policy::read().and_then(|policy| policy.refuse_forbidden(set)),
        None => Ok(()),
    };
    let not_installed = checked.rules.as_ref().map_or_else(Vec::new, missing_programs);
    if arguments.json {
        let data = findings.iter().map(|finding| finding_data(finding, &source)).collect();
        let not_agreed = missing.iter().map(|(file, power)| PowerData {
            power: power.kind.words(),
            what: &power.what,
            file,
            line: power.place.line,
            agreed: false,
        });
        let not_agreed = not_agreed.collect();
        let file = source.name();
        let fixed = &fixed;
        let not_installed = &not_installed;
        print_json(&CheckReport {
            version: 1,
            file,
            rules,
            findings: data,
            fixed,
            not_installed,
            not_agreed,
        });
    } else {
        print_findings(&findings, &source);
        if checked.rules.is_some() {
            say!("{}: {}, {}", source.name(), counted(rules, "rule"), summary(&findings));
        } else {
            say!("{}: {}", source.name(), summary(&findings));
        }
        print_not_installed(&not_installed);
        let fixable = findings.iter().filter_map(|finding| finding.fix.as_ref());
        let fixable = fixable.filter(|fix| fix.is_certain).count();
        if fixable > 0 && !arguments.fix {
            let (what, command) = (counted(fixable, "correction"), "lantern check --fix");
            complain!("{}help{0:#}: `{command} {}` writes {what}", style::HELP, source.name());
        }
        if to_agree {
            complain!(
                "`lantern run` does not start it before you agree to what used files can do:"
            );
            missing_lines(&missing).iter().for_each(|line| complain!("{line}"));
            print_agreeing(source.name());
        }
    }
    let is_clean = findings.is_empty() && !to_agree && writable.is_ok() && allowed.is_ok();
    for failure in [writable.err(), allowed.err()].into_iter().flatten() {
        failure.report();
    }
    Ok(if is_clean { Status::Done } else { Status::Found })
}

/// Says which programs are missing on this machine; no finding, since the file may be for another one.
fn print_not_installed(missing: &[MissingProgram]) {
    for MissingProgram { name, file, line, nearest } in missing {
        let near = nearest.as_ref().map_or_else(String::new, |near| format!("; `{near}` is"));
        let name = name.escape_debug();
        complain!("{}note{0:#}: {file}:{line}: `{name}` is not installed here{near}", style::HELP);
    }
}

fn print_fixed(path: &Path, fixed: &[WrittenFix]) {
    for fix in fixed {
        let (before, after) = (fix.before.escape_debug(), fix.after.escape_debug());
        let place = format!("{}:{}:{}", path.display(), fix.line, fix.column);
        say!("{}fixed{0:#} {place}: `{before}` to `{after}`", style::WENT_OUT);
    }
}

fn tell_powers(
    arguments: &CheckArguments,
    source: &Source,
    rules: &RuleSet,
) -> Result<Status, Failure> {
    let mut agreement = Consent::read();
    if arguments.agree {
        agreement.agree(source, rules)?;
    }
    let missing: Vec<Power> =
        agreement.missing(source, rules).into_iter().map(|(_, power)| power).collect();
    let all = powers(rules);
    if arguments.json {
        let data = all.iter().map(|power| PowerData {
            power: power.kind.words(),
            what: &power.what,
            file: &rules.files[usize::from(power.place.file)],
            line: power.place.line,
            agreed: !missing.contains(power),
        });
        let powers = data.collect();
        print_json(&PowersReport { version: 1, file: source.name(), powers });
        return Ok(Status::Done);
    }
    say!("{}{} can{0:#}", style::HEAD, source.name());
    if all.is_empty() {
        say!("  only show words, wait and take hotkeys");
    }
    for power in &all {
        let place = rules.show_place(power.place);
        let mark = if missing.contains(power) { " (not agreed to yet)" } else { "" };
        say!("  {}  {}{place}{mark}{1:#}", power_words(power), style::FAINT);
    }
    if arguments.agree {
        complain!("agreed; `run` asks again when a used file can do more than this");
    } else if !missing.is_empty() {
        print_agreeing(source.name());
    }
    Ok(Status::Done)
}

fn print_agreeing(name: &str) {
    complain!("{}help{0:#}: agree with `lantern check --powers --agree {name}`", style::HELP);
}
