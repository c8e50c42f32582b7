//! Desktop entries: found by id or name, and what each starts (the Desktop Entry Specification).

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use freedesktop_desktop_entry::{DesktopEntry, get_languages_from_env};

use super::error::LaunchError;
use lantern_system::data_folders;
use lantern_system::is_program;

/// Everything that is needed to start a program.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct StartRequest {
    /// What to call it.
    pub name: String,
    /// The program and its arguments.
    pub words: Vec<String>,
    /// The folder it starts in, if not ours.
    pub folder: Option<PathBuf>,
    /// The bus name for D-Bus activation, and what to open; the command line is for the case that
    /// no service owns that name.
    pub bus: Option<(String, Vec<String>)>,
}

impl StartRequest {
    /// A program with its arguments, called by its name.
    pub fn of(words: &[String]) -> StartRequest {
        let name = words.first().cloned().unwrap_or_default();
        StartRequest { name, words: words.to_vec(), ..StartRequest::default() }
    }
}

/// What a desktop entry's id or name, or a program with its arguments, starts.
///
/// # Errors
/// When there is neither, or an entry is broken.
pub fn find(wanted: &str) -> Result<StartRequest, LaunchError> {
    if let Some(entry) = by_id(wanted).or_else(|| by_name(wanted)) {
        return start_of(&entry, &[]);
    }
    let words = shlex::split(wanted).unwrap_or_default();
    let name = words.first().cloned().ok_or(LaunchError::Nothing)?;
    // A name that is known only when the rule fires comes as one word.
    if let [only] = words.as_slice()
        && only != wanted
        && let Some(entry) = by_id(only).or_else(|| by_name(only))
    {
        return start_of(&entry, &[]);
    }
    if !is_program(&name) {
        return Err(LaunchError::NotFound { name: wanted.to_owned() });
    }
    Ok(StartRequest { name, words, ..StartRequest::default() })
}

/// What the installed programs are called, in lower case: executables in PATH; ids, names and window
/// classes of desktop entries.
pub fn installed_names() -> BTreeSet<String> {
    let folders = std::env::var_os("PATH").unwrap_or_default();
    let mut names: BTreeSet<String> = std::env::split_paths(&folders)
        .filter_map(|folder| std::fs::read_dir(folder).ok())
        .flat_map(|listed| listed.flatten())
        .map(|file| file.file_name().to_string_lossy().to_lowercase())
        .collect();
    let languages = get_languages_from_env();
    for NamedEntry { id, entry } in all() {
        let id = id.trim_end_matches(".desktop").to_lowercase();
        names.extend(id.rsplit('.').next().map(str::to_owned));
        names.insert(id);
        let called = [entry.name(&languages), entry.desktop_entry("Name").map(Into::into)];
        names.extend(called.into_iter().flatten().map(|name| name.to_lowercase()));
        names.extend(entry.startup_wm_class().map(str::to_lowercase));
    }
    names
}

/// The entry of that id, `.desktop` or not.
pub(super) fn by_id(id: &str) -> Option<DesktopEntry> {
    if id.is_empty() || id.contains(['/', ' ']) {
        return None;
    }
    let file = if id.ends_with(".desktop") { id.to_owned() } else { format!("{id}.desktop") };
    for folder in data_folders() {
        let folder = folder.join("applications");
        // A dash in an id may stand for a folder.
        let parts: Vec<&str> = file.split('-').collect();
        let places = (0..parts.len()).map(|deep| {
            let (folders, name) = (parts[..deep].iter(), parts[deep..].join("-"));
            folders.fold(folder.clone(), |at, part| at.join(part)).join(name)
        });
        // The first of an id counts, even when it says that there is none.
        if let Some(path) = places.into_iter().find(|path| path.is_file()) {
            return read(&path).filter(is_usable);
        }
    }
    None
}

/// The entry that is called so, in the person's language or in none.
fn by_name(name: &str) -> Option<DesktopEntry> {
    let languages = get_languages_from_env();
    let wanted = name.trim().to_lowercase();
    let is_it = |entry: &DesktopEntry| {
        let names = [entry.name(&languages), entry.desktop_entry("Name").map(Into::into)];
        names.into_iter().flatten().any(|known| known.trim().to_lowercase() == wanted)
    };
    all().into_iter().map(|named| named.entry).find(|entry| is_usable(entry) && is_it(entry))
}

/// An entry with its id: its path below `applications`, with dashes for slashes.
pub(super) struct NamedEntry {
    pub id: String,
    pub entry: DesktopEntry,
}

/// Every entry, the person's own first; of each id the first alone.
pub(super) fn all() -> Vec<NamedEntry> {
    let mut seen = BTreeSet::new();
    let mut entries = Vec::new();
    for folder in data_folders() {
        let top = folder.join("applications");
        let mut open = vec![top.clone()];
        while let Some(folder) = open.pop() {
            let Ok(listed) = std::fs::read_dir(&folder) else {
                continue;
            };
            let mut paths: Vec<PathBuf> = listed.flatten().map(|file| file.path()).collect();
            paths.sort();
            for path in paths {
                let id = id_of(&top, &path);
                if path.is_dir() {
                    open.push(path);
                } else if id.ends_with(".desktop") && seen.insert(id.clone()) {
                    entries.extend(read(&path).map(|entry| NamedEntry { id, entry }));
                }
            }
        }
    }
    entries
}

fn id_of(top: &Path, path: &Path) -> String {
    path.strip_prefix(top).unwrap_or(path).to_string_lossy().replace('/', "-")
}

fn read(path: &Path) -> Option<DesktopEntry> {
    // A broken entry is as good as none: another of its name may do.
    DesktopEntry::from_path(path, Some(&get_languages_from_env())).ok()
}

pub(super) fn is_usable(entry: &DesktopEntry) -> bool {
    let tried = entry.try_exec().is_none_or(is_program);
    entry.type_() == Some("Application") && !entry.hidden() && tried
}

/// What the entry starts, to open these files or addresses.
pub(super) fn start_of(
    entry: &DesktopEntry,
    targets: &[String],
) -> Result<StartRequest, LaunchError> {
    let broken = || LaunchError::EmptyEntry { path: entry.path.clone() };
    let name =
        entry.name(&get_languages_from_env()).map_or(entry.id().to_owned(), |name| name.into());
    let served = entry.dbus_activatable() && entry.id().contains('.');
    let bus = served.then(|| (entry.id().to_owned(), targets.iter().map(|t| address(t)).collect()));
    let mut words = match entry.exec() {
        Some(line) => expand(line, entry, &name, targets).ok_or_else(broken)?,
        None if bus.is_some() => Vec::new(),
        None => return Err(broken()),
    };
    if entry.terminal() && !words.is_empty() {
        let terminal = terminal().ok_or(LaunchError::NoTerminal { name: name.clone() })?;
        words.splice(0..0, terminal);
    }
    let folder = entry.path().filter(|path| !path.is_empty()).map(PathBuf::from);
    Ok(StartRequest { name, words, folder, bus })
}

/// The words of an `Exec` line, with its field codes filled in.
fn expand(line: &str, entry: &DesktopEntry, name: &str, targets: &[String]) -> Option<Vec<String>> {
    let mut words = Vec::new();
    for (word, quoted) in split(line)? {
        if quoted {
            words.push(word);
            continue;
        }
        match word.as_str() {
            "%F" => words.extend(targets.iter().map(|target| file(target))),
            "%U" => words.extend(targets.iter().cloned()),
            "%i" => {
                if let Some(icon) = entry.icon().filter(|icon| !icon.is_empty()) {
                    words.extend(["--icon".to_owned(), icon.to_owned()]);
                }
            }
            "%f" | "%u" if targets.is_empty() => {}
            // Codes that the standard has given up stand for nothing.
            "%d" | "%D" | "%n" | "%N" | "%v" | "%m" => {}
            _ => words.push(filled(&word, entry, name, targets)),
        }
    }
    (!words.is_empty()).then_some(words)
}

fn filled(word: &str, entry: &DesktopEntry, name: &str, targets: &[String]) -> String {
    let mut given = String::new();
    let mut signs = word.chars();
    let first = targets.first().map_or("", String::as_str);
    while let Some(sign) = signs.next() {
        if sign != '%' {
            given.push(sign);
            continue;
        }
        match signs.next() {
            Some('%') => given.push('%'),
            Some('f') => given.push_str(&file(first)),
            Some('u') => given.push_str(first),
            Some('c') => given.push_str(name),
            Some('k') => given.push_str(&entry.path.to_string_lossy()),
            _ => {}
        }
    }
    given
}

/// Splits an `Exec` line by the standard's quoting, each word with whether it was quoted; `None`
/// when a quote is left open.
fn split(line: &str) -> Option<Vec<(String, bool)>> {
    let mut words = Vec::new();
    let mut word: Option<(String, bool)> = None;
    let mut signs = line.chars();
    while let Some(sign) = signs.next() {
        match sign {
            ' ' | '\t' | '\n' => words.extend(word.take()),
            '"' => {
                let (text, quoted) = word.get_or_insert_default();
                *quoted = true;
                loop {
                    match signs.next()? {
                        '"' => break,
                        '\\' => text.push(signs.next()?),
                        other => text.push(other),
                    }
                }
            }
            other => word.get_or_insert_default().0.push(other),
        }
    }
    words.extend(word);
    Some(words)
}

/// The words before a program that needs a terminal.
fn terminal() -> Option<Vec<String>> {
    if is_program("xdg-terminal-exec") {
        return Some(vec!["xdg-terminal-exec".to_owned()]);
    }
    let own = std::env::var("TERMINAL").ok();
    let known = ["x-terminal-emulator", "xterm"].map(str::to_owned);
    let found = own.into_iter().chain(known).find(|name| is_program(name))?;
    Some(vec![found, "-e".to_owned()])
}

/// A target as a file, for programs that know no addresses.
fn file(target: &str) -> String {
    target.strip_prefix("file://").map_or_else(|| target.to_owned(), super::file_address::unescaped)
}

/// A target as an address.
fn address(target: &str) -> String {
    if target.starts_with('/') {
        super::file_address::file_address(target)
    } else {
        target.to_owned()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry(lines: &str) -> DesktopEntry {
        let text = format!("[Desktop Entry]\nType=Application\nName=Core log\n{lines}\n");
        DesktopEntry::from_str("/x/core-log.desktop", &text, None::<&[String]>).unwrap()
    }

    fn words(exec: &str, targets: &[&str]) -> Vec<String> {
        let targets: Vec<String> = targets.iter().map(|target| (*target).to_owned()).collect();
        start_of(&entry(&format!("Icon=core\nExec={exec}")), &targets).unwrap().words
    }

    #[test]
    fn field_codes_are_filled_in() {
        assert_eq!(words("log %f", &["/a b"]), ["log", "/a b"]);
        assert_eq!(words("log %f", &[]), ["log"]);
        assert_eq!(words("log %F", &["/a", "file:///b%20c"]), ["log", "/a", "/b c"]);
        assert_eq!(
            words("log %U end", &["https://x.example/"]),
            ["log", "https://x.example/", "end"]
        );
        assert_eq!(words("log --file=%u", &["/a"]), ["log", "--file=/a"]);
        assert_eq!(words("log %i %c", &[]), ["log", "--icon", "core", "Core log"]);
        assert_eq!(words("log %k 5%% %m", &[]), ["log", "/x/core-log.desktop", "5%"]);
    }

    #[test]
    fn quotes_are_those_of_the_standard() {
        assert_eq!(
            words(r#""/opt/core log/run" "%f" "a\\$b""#, &["/x"]),
            ["/opt/core log/run", "%f", "a$b"]
        );
        assert!(start_of(&entry("Exec=\"open"), &[]).is_err());
        assert!(start_of(&entry("Exec="), &[]).is_err());
        assert!(start_of(&entry("Comment=none"), &[]).is_err());
    }
}
