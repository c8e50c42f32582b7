//! `lantern doctor`: what works on this machine, what does not, and the one line that mends each.

#[cfg(feature = "audio")]
use lantern_audio::{AudioError, Recognizer, SoundServer, speech_program};
use lantern_backend::BackendError;
#[cfg(feature = "evdev")]
use lantern_evdev::{UDEV_RULE, input_devices, output_exists};
use lantern_session::{InputMethods, SessionError, accessibility_is_there, notice_service};
#[cfg(feature = "wayland")]
use lantern_wayland::{CompositorOffers, PortalOffers, portal_offers, session_offers};
use lantern_x11::{DisplayDiagnostics, survey};
use serde::Serialize;

use crate::arguments::{BackendName, DoctorArguments};
use crate::commands::print_json;
use crate::failure::{Failure, Status};
use crate::files::RulesRead;
use crate::output::say;
use crate::policy::Policy;
use crate::runtime::RuntimeFiles;
use crate::style;
use crate::text::counted;
use crate::{backends, files};

/// The shape of `--json`, version 1.
#[derive(Serialize)]
struct DoctorReport {
    version: u32,
    checks: Vec<Check>,
}

/// One thing that was looked at.
#[derive(Serialize)]
struct Check {
    part: &'static str,
    state: State,
    found: String,
    /// What mends it, or what to know.
    help: Option<String>,
    /// The one that can do that.
    by: Option<Helper>,
}

/// The one that can do what helps.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
enum Helper {
    /// The person, without further rights.
    You,
    /// Someone who may become root: packages, devices, the policy.
    Administrator,
}

impl Helper {
    /// The one that a line of help is for.
    fn of(help: &str) -> Helper {
        let needs_root = help.contains("sudo ")
            || help.starts_with("install ")
            || help.starts_with("an administrator ");
        if needs_root { Helper::Administrator } else { Helper::You }
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
enum State {
    Works,
    Limited,
    Missing,
}

pub fn run(arguments: &DoctorArguments) -> Result<Status, Failure> {
    let backend = BackendName::of_session();
    let mut checks = vec![desk_check(&backend)];
    // Under Wayland a display is only for old programs.
    if matches!(backend, Ok(BackendName::X11)) {
        checks.extend(display_checks());
    }
    if backends::is_wayland() {
        checks.extend(session_checks());
    }
    checks.extend(kernel_checks(matches!(backend, Ok(BackendName::Evdev))));
    checks.push(own_folder());
    checks.push(own_file());
    checks.push(policy_check());
    checks.extend(service_checks());
    checks.push(input_method());
    let missing = checks.iter().any(|check| check.state == State::Missing);
    if arguments.json {
        print_json(&DoctorReport { version: 1, checks });
    } else {
        print(&checks);
    }
    Ok(if missing { Status::Found } else { Status::Done })
}

fn works(part: &'static str, found: impl Into<String>) -> Check {
    Check { part, state: State::Works, found: found.into(), help: None, by: None }
}

fn with_help(
    part: &'static str,
    state: State,
    found: impl Into<String>,
    help: impl Into<String>,
) -> Check {
    let help = help.into();
    let by = Some(Helper::of(&help));
    Check { part, state, found: found.into(), help: Some(help), by }
}

/// Which back end `run` works on here, and why.
fn desk_check(backend: &Result<BackendName, BackendError>) -> Check {
    let session = match backends::is_wayland() {
        true => "this is a Wayland session",
        false => "there is no display",
    };
    let help = |backend: &str| {
        format!("what it cannot do of your rules, `lantern check --backend {backend}` says")
    };
    match backend {
        Ok(BackendName::X11) => works("back end", "X11: keys, windows, menus and the clipboard"),
        Ok(BackendName::Wlroots) => with_help(
            "back end",
            State::Limited,
            "the compositor's input method: keys, remaps, typing and the pointer",
            help("wlroots"),
        ),
        Ok(BackendName::Portal) => with_help(
            "back end",
            State::Limited,
            format!("the desktop's portal, as {session}: shortcuts and typing"),
            help("portal"),
        ),
        Ok(_) => with_help(
            "back end",
            State::Limited,
            format!("the kernel's input, as {session}: keys, buttons, shapes and typing"),
            help("evdev"),
        ),
        Err(error) => with_help("back end", State::Missing, error.to_string(), error.hint()),
    }
}

/// That a part was not built.
#[cfg(not(all(feature = "audio", feature = "evdev", feature = "wayland")))]
fn not_built(part: &'static str, feature: &str) -> Check {
    with_help(
        part,
        State::Limited,
        "this program was built without it",
        format!("`cargo build --release --features {feature}`"),
    )
}

#[cfg(not(feature = "wayland"))]
fn session_checks() -> Vec<Check> {
    vec![not_built("windows", "wayland"), not_built("portal", "wayland")]
}

/// What a Wayland session has besides input.
#[cfg(feature = "wayland")]
fn session_checks() -> Vec<Check> {
    let has = |part, has: bool, what: &'static str, lacks: &'static str| match has {
        true => works(part, what),
        false => with_help(
            part,
            State::Limited,
            lacks,
            "compositors of the wlroots family have it; elsewhere such rules need an X11 session",
        ),
    };
    let mut checks = match session_offers() {
        Ok(CompositorOffers { windows, clipboard, hints }) => vec![
            has(
                "windows",
                windows,
                "by the compositor",
                "the compositor tells others nothing of them",
            ),
            has(
                "clipboard",
                clipboard,
                "by the compositor",
                "the compositor keeps it to the program in front",
            ),
            match hints {
                true => works("hints", "on a layer of the compositor"),
                false => works("hints", "as notices of the desktop"),
            },
        ],
        Err(error) => {
            vec![with_help("windows", State::Limited, error.to_string(), error.hint())]
        }
    };
    checks.push(match portal_offers() {
        Some(PortalOffers { shortcuts: true, input: true }) => {
            works("portal", "shortcuts and input")
        }
        Some(PortalOffers { shortcuts, input }) => {
            let lacks = [(shortcuts, "shortcuts"), (input, "input")];
            let lacks = lacks.into_iter().filter(|(has, _)| !has).map(|(_, what)| what);
            with_help(
                "portal",
                State::Limited,
                format!("without {}", lacks.collect::<Vec<_>>().join(" and ")),
                "the kernel's input needs no portal",
            )
        }
        None => with_help("portal", State::Limited, "none", "the kernel's input needs no portal"),
    });
    checks
}

#[cfg(not(feature = "evdev"))]
fn kernel_checks(_: bool) -> Vec<Check> {
    vec![not_built("kernel input", "evdev")]
}

/// What the kernel back end needs; where another one is used, to be known only.
#[cfg(feature = "evdev")]
fn kernel_checks(needed: bool) -> Vec<Check> {
    let state = if needed { State::Missing } else { State::Limited };
    let only = if needed { "" } else { "; only for `--backend evdev`" };
    let devices = input_devices();
    let names: Vec<String> = devices.iter().filter_map(|device| device.name.clone()).collect();
    let input = if devices.is_empty() {
        with_help("kernel input", state, "no keyboard or mouse is there", "plug one in")
    } else if names.is_empty() {
        with_help(
            "kernel input",
            state,
            format!("{} devices, none of which you may read", devices.len()),
            format!("`sudo usermod -aG input \"$USER\"`, then log in again{only}"),
        )
    } else {
        works("kernel input", names.join(", "))
    };
    let output = match output_exists() {
        Ok(()) => works("kernel output", "/dev/uinput"),
        Err(error) if error.kind() == std::io::ErrorKind::PermissionDenied => with_help(
            "kernel output",
            state,
            "/dev/uinput may not be written",
            format!(
                "echo '{UDEV_RULE}' | sudo tee /etc/udev/rules.d/70-cold-lantern.rules && sudo udevadm trigger /dev/uinput"
            ),
        ),
        Err(error) => with_help(
            "kernel output",
            state,
            format!("/dev/uinput: {error}"),
            format!("`sudo modprobe uinput`{only}"),
        ),
    };
    vec![input, output]
}

fn display_checks() -> Vec<Check> {
    let survey = match survey() {
        Ok(survey) => survey,
        Err(error) => return vec![no_display(&error)],
    };
    let name = std::env::var("DISPLAY").unwrap_or_default();
    let screens = match survey.screens {
        1 => "one screen".to_owned(),
        count => format!("{count} screens"),
    };
    let display = match survey.missing.as_slice() {
        [] => works("display", format!("{name}, {screens}")),
        missing => with_help(
            "display",
            State::Limited,
            format!("{name} lacks {}", missing.join(", ")),
            "use a server with these extensions; some windows of ours look wrong without",
        ),
    };
    vec![display, manager(&survey), keyboards(&survey), foreign_text(&survey), helps(&survey)]
}

fn no_display(error: &BackendError) -> Check {
    let found = match std::error::Error::source(error) {
        Some(source) => format!("{error}: {source}"),
        None => error.to_string(),
    };
    with_help("display", State::Missing, found, error.hint())
}

fn manager(survey: &DisplayDiagnostics) -> Check {
    match &survey.manager {
        Some(name) if survey.tells_programs => works("window manager", name.clone()),
        Some(name) => with_help(
            "window manager",
            State::Limited,
            format!("{name} tells nothing of the window in front now"),
            "open a window; if it stays so, rules with `in app` need one that keeps _NET_ACTIVE_WINDOW",
        ),
        None => with_help(
            "window manager",
            State::Missing,
            "none; rules with `in app`, `focus` and `with app` wait",
            "start a window manager that follows EWMH",
        ),
    }
}

fn keyboards(survey: &DisplayDiagnostics) -> Check {
    match survey.keyboards.as_slice() {
        [] => with_help("keyboards", State::Missing, "none", "plug one in"),
        names => works("keyboards", names.join(", ")),
    }
}

fn foreign_text(survey: &DisplayDiagnostics) -> Check {
    let found = format!("{} characters that the layout lacks at a time", survey.spare);
    match survey.spare {
        0 => with_help(
            "foreign text",
            State::Missing,
            "the layout leaves no keycode free for characters it lacks",
            "use `paste` for them",
        ),
        _ => works("foreign text", found),
    }
}

fn helps(survey: &DisplayDiagnostics) -> Check {
    if survey.helps.is_empty() {
        return works("typing helps", "none is on");
    }
    let found = format!("{} on", survey.helps.join(", "));
    if survey.helps.contains(&"mouse keys") {
        let help = "with mouse keys on, the pad's keys move the pointer and fire rules as well; \
                    bind others";
        return with_help("typing helps", State::Limited, found, help);
    }
    works("typing helps", found)
}

fn own_folder() -> Check {
    match RuntimeFiles::of_session(BackendName::X11) {
        Ok(files) => works("runtime folder", files.folder().display().to_string()),
        Err(failure) => with_help(
            "runtime folder",
            State::Missing,
            failure.to_string(),
            "XDG_RUNTIME_DIR must name a folder that you may write to",
        ),
    }
}

/// What the administrator of the machine forbids.
fn policy_check() -> Check {
    match Policy::read() {
        Ok(policy) if policy.names().is_empty() => works("policy", "nothing is forbidden"),
        Ok(policy) => with_help(
            "policy",
            State::Limited,
            format!("the administrator forbids {}", policy.names().join(", ")),
            "`lantern check` names the rules that use it",
        ),
        Err(failure) => with_help(
            "policy",
            State::Missing,
            failure.to_string(),
            "an administrator has to correct it; no rules run before",
        ),
    }
}

fn own_file() -> Check {
    let path = match files::rules_path(None) {
        Ok(path) => path,
        Err(failure) => {
            return with_help(
                "your rules",
                State::Limited,
                failure.to_string(),
                "`lantern new` writes an example to begin with",
            );
        }
    };
    let name = path.display();
    match files::read_rules(&path) {
        Ok(RulesRead { checked, .. }) if checked.rules.is_some() => {
            let rules = checked.rules.map_or(0, |rules| rules.rules.len());
            works("your rules", format!("{name}, {}", counted(rules, "rule")))
        }
        Ok(_) => with_help(
            "your rules",
            State::Missing,
            format!("{name} has errors"),
            "`lantern check` shows them",
        ),
        Err(failure) => {
            with_help("your rules", State::Missing, failure.to_string(), "mend or move it")
        }
    }
}

fn service_checks() -> Vec<Check> {
    let menus = accessibility_is_there().map(|()| "the accessibility bus".to_owned());
    let mut checks = sound_checks();
    checks.push(service("notices", notice_service(), SessionError::hint));
    checks.push(service("menus", menus, SessionError::hint));
    checks
}

#[cfg(not(feature = "audio"))]
fn sound_checks() -> Vec<Check> {
    vec![not_built("sound", "audio"), not_built("hearing", "audio")]
}

#[cfg(feature = "audio")]
fn sound_checks() -> Vec<Check> {
    let sound = SoundServer::connect().and_then(|mut server| server.output());
    let microphone = SoundServer::connect().and_then(|mut server| server.microphone());
    let hearing = Recognizer::open().map(|_| "the speech library and its English model".to_owned());
    let speech = speech_program().map(str::to_owned).ok_or(AudioError::NoSpeech);
    vec![
        service("sound", sound, AudioError::hint),
        service("microphone", microphone, AudioError::hint),
        service("hearing", hearing, AudioError::hint),
        service("speech", speech, AudioError::hint),
    ]
}

/// A service that works as it says, or what the person can do about it.
fn service<E: std::fmt::Display>(
    part: &'static str,
    found: Result<String, E>,
    hint: impl FnOnce(&E) -> Option<&'static str>,
) -> Check {
    match found {
        Ok(found) => works(part, found),
        Err(error) => {
            let help = hint(&error).unwrap_or("look at the service's own log");
            with_help(part, State::Missing, error.to_string(), help)
        }
    }
}

fn input_method() -> Check {
    match InputMethods::default().composing() {
        Ok(Some(method)) => with_help(
            "input method",
            State::Limited,
            format!("{method} makes something else of what is typed now"),
            "`type` fails then; `paste` goes past it, and `type` with `clipboard = true` in settings",
        ),
        Ok(None) | Err(SessionError::NoBus) => {
            works("input method", "none changes what is typed now")
        }
        Err(error) => with_help(
            "input method",
            State::Limited,
            error.to_string(),
            "texts are typed as if there were none",
        ),
    }
}

fn print(checks: &[Check]) {
    let width = checks.iter().map(|check| check.part.len()).max().unwrap_or(0);
    for check in checks {
        let (word, look) = match check.state {
            State::Works => ("works  ", style::WENT_OUT),
            State::Limited => ("limited", style::WARNING),
            State::Missing => ("missing", style::ERROR),
        };
        say!("{look}{word}{look:#}  {:width$}  {}", check.part, check.found);
    }
    print_help(checks, Helper::You, "What you can do");
    print_help(checks, Helper::Administrator, "What an administrator can do");
}

/// The lines of help for one of the two, each once with all parts that it is for.
fn print_help(checks: &[Check], by: Helper, head: &str) {
    let mut lines: Vec<(Vec<&str>, &str)> = Vec::new();
    for check in checks.iter().filter(|check| check.by == Some(by)) {
        let Some(help) = check.help.as_deref() else { continue };
        match lines.iter_mut().find(|(_, other)| *other == help) {
            Some((parts, _)) => parts.push(check.part),
            None => lines.push((vec![check.part], help)),
        }
    }
    if lines.is_empty() {
        return;
    }
    say!("");
    say!("{}{head}{0:#}", style::HEAD);
    for (parts, help) in lines {
        say!("  {}{}{0:#}: {help}", style::HELP, parts.join(", "));
    }
}
