//! `lantern service`: what starts it with the session: a systemd user unit, and an autostart entry for
//! sessions without systemd.

use std::fs;
use std::path::{Path, PathBuf};

use lantern_system::home_folder;

use crate::arguments::ServiceArguments;
use crate::failure::{Failure, Status};
use crate::files;
use crate::output::{complain, say};
use crate::style;

/// A file that belongs to the service.
struct ServiceFile {
    what: &'static str,
    path: PathBuf,
    text: String,
}

pub fn run(arguments: &ServiceArguments) -> Result<Status, Failure> {
    let config = home_folder("XDG_CONFIG_HOME", ".config").unwrap_or_default();
    let (unit, entry) = (
        config.join("systemd/user/cold-lantern.service"),
        config.join("autostart/cold-lantern.desktop"),
    );
    if arguments.remove {
        return remove(&[unit, entry]);
    }
    let rules = files::rules_path(arguments.file.clone())?;
    let rules = rules.canonicalize().unwrap_or(rules);
    let program = std::env::current_exe().unwrap_or_else(|_| "lantern".into());
    let parts = [
        ServiceFile { what: "systemd user unit", path: unit, text: unit_text(&program, &rules) },
        ServiceFile { what: "autostart entry", path: entry, text: entry_text(&program, &rules) },
    ];
    for part in &parts {
        if arguments.install {
            write(part)?;
            complain!("{}written{0:#} {} ({})", style::WENT_OUT, part.path.display(), part.what);
        } else {
            say!("{}# {}: {}{0:#}\n{}", style::FAINT, part.what, part.path.display(), part.text);
        }
    }
    if arguments.install {
        complain!(
            "{}next{0:#}: `systemctl --user enable --now cold-lantern` where systemd runs the session; \
             elsewhere the autostart entry starts it at the next login",
            style::HELP
        );
    }
    Ok(Status::Done)
}

fn write(part: &ServiceFile) -> Result<(), Failure> {
    let failed = |source| Failure::Write { path: part.path.clone(), source };
    if let Some(folder) = part.path.parent() {
        fs::create_dir_all(folder).map_err(failed)?;
    }
    fs::write(&part.path, &part.text).map_err(failed)
}

fn remove(paths: &[PathBuf]) -> Result<Status, Failure> {
    let mut removed = false;
    for path in paths {
        match fs::remove_file(path) {
            Ok(()) => {
                removed = true;
                complain!("{}removed{0:#} {}", style::WENT_OUT, path.display());
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
            Err(source) => return Err(Failure::Write { path: path.clone(), source }),
        }
    }
    if !removed {
        complain!("nothing of it is installed");
    }
    Ok(if removed { Status::Done } else { Status::Found })
}

/// A stop asks the main process alone, which releases everything; the guardian sees it end and
/// follows, and programs that rules started live on. After a crash it starts again, but not after an error
/// that stays until a person mends it (status 2), nor more than five times a minute. Programs that rules
/// start inherit whatever the unit forbids: `docs/security.md` has the reason for each directive that is
/// left out.
fn unit_text(program: &Path, rules: &Path) -> String {
    format!(
        "[Unit]\nDescription=Cold Lantern: rules for the desktop\n\
         PartOf=graphical-session.target\nAfter=graphical-session.target\n\
         StartLimitIntervalSec=60\nStartLimitBurst=5\n\n\
         [Service]\nType=notify\nNotifyAccess=main\nExecStart={} run {}\nKillMode=process\nTimeoutStopSec=10\n\
         Restart=on-failure\nRestartSec=2\nRestartPreventExitStatus=2\nWatchdogSec=20\n\
         OOMPolicy=continue\nSyslogIdentifier=cold-lantern\n\n\
         [Install]\nWantedBy=graphical-session.target\n",
        unit_word(program),
        unit_word(rules)
    )
}

/// A word of a unit's command line: `%` and `$` mean something there.
fn unit_word(path: &Path) -> String {
    let text = path.display().to_string();
    let text =
        text.replace('\\', "\\\\").replace('"', "\\\"").replace('%', "%%").replace('$', "$$");
    format!("\"{text}\"")
}

/// Sessions that systemd runs start the unit instead.
fn entry_text(program: &Path, rules: &Path) -> String {
    format!(
        "[Desktop Entry]\nType=Application\nName=Cold Lantern\n\
         Comment=Rules for the desktop: keys, voice, gestures and devices\n\
         Exec={} run {}\nX-systemd-skip=true\nNoDisplay=true\n",
        entry_word(program),
        entry_word(rules)
    )
}

/// A word of an `Exec` line, quoted as the Desktop Entry Specification says.
fn entry_word(path: &Path) -> String {
    let mut quoted = String::new();
    for character in path.display().to_string().chars() {
        match character {
            '"' | '`' | '$' | '\\' => quoted.extend(['\\', '\\', character]),
            '%' => quoted.push_str("%%"),
            character => quoted.push(character),
        }
    }
    format!("\"{quoted}\"")
}
