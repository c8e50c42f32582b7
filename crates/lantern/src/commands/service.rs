//! `lantern service`: what starts it with the session: a systemd user unit, and an autostart entry for
//! sessions without systemd.

use std::fs;
use std::path::{Path, PathBuf};

use lantern_system::home_folder;

use crate::arguments::ServiceArguments;
use crate::failure::{Failure, Status};
use crate::files;
use crate::ipc::client::IpcClient;
use crate::output::{complain, say};
use crate::style;

/// A file that belongs to the service.
struct ServiceFile {
    what: &'static str,
    path: PathBuf,
    text: String,
}

/// The files that the service consists of, each with what it is. systemd makes the link when the unit is
/// enabled.
pub fn installed_files() -> Vec<(&'static str, PathBuf)> {
    let Some(config) = home_folder("XDG_CONFIG_HOME", ".config") else { return Vec::new() };
    vec![
        (UNIT, config.join("systemd/user/cold-lantern.service")),
        (
            "link that starts the unit",
            config.join("systemd/user/graphical-session.target.wants/cold-lantern.service"),
        ),
        (ENTRY, config.join("autostart/cold-lantern.desktop")),
    ]
}

const UNIT: &str = "systemd user unit";
const ENTRY: &str = "autostart entry";

pub fn run(arguments: &ServiceArguments) -> Result<Status, Failure> {
    if arguments.remove {
        return remove(installed_files());
    }
    let config = home_folder("XDG_CONFIG_HOME", ".config").unwrap_or_default();
    let unit = config.join("systemd/user/cold-lantern.service");
    let entry = config.join("autostart/cold-lantern.desktop");
    let rules = files::rules_path(arguments.file.clone())?;
    let rules = rules.canonicalize().unwrap_or(rules);
    let program = std::env::current_exe().unwrap_or_else(|_| "lantern".into());
    let parts = [
        ServiceFile { what: UNIT, path: unit, text: unit_text(&program, &rules) },
        ServiceFile { what: ENTRY, path: entry, text: entry_text(&program, &rules) },
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

fn remove(files: Vec<(&str, PathBuf)>) -> Result<Status, Failure> {
    let mut removed = false;
    for (_, path) in files {
        match fs::remove_file(&path) {
            Ok(()) => {
                removed = true;
                complain!("{}removed{0:#} {}", style::WENT_OUT, path.display());
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
            Err(source) => return Err(Failure::Write { path, source }),
        }
    }
    if !removed {
        complain!("nothing of it is installed");
    } else if IpcClient::reach().is_ok() {
        complain!("{}next{0:#}: `lantern quit` ends the one that runs now", style::HELP);
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
