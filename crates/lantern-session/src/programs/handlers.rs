//! Which program opens a file or an address: the person's default by the standards for MIME types
//! (Shared MIME-info Database, Association between MIME types and applications).

use std::cell::OnceCell;
use std::fs;

use freedesktop_desktop_entry::DesktopEntry;
use mime::Mime;
use xdg_mime::SharedMimeInfo;

use super::entries::{self, NamedEntry, StartRequest};
use super::error::LaunchError;
use super::file_address::unescaped;
use lantern_system::{config_folders, data_folders, home_path};

/// What opens a file, a folder or an address.
///
/// # Errors
/// When it is not there, or no program is set for it.
pub fn handler(target: &str) -> Result<StartRequest, LaunchError> {
    let known = SharedMimeInfo::new();
    let (target, kinds) = match scheme(target) {
        Some(scheme) if scheme.eq_ignore_ascii_case("file") => {
            of_file(&known, &unescaped(path_of(target)))?
        }
        Some(scheme) => {
            let scheme = format!("x-scheme-handler/{}", scheme.to_lowercase());
            (target.to_owned(), vec![scheme])
        }
        None => of_file(&known, target)?,
    };
    let lists = association_lists();
    let all = OnceCell::new();
    let found = kinds.iter().find_map(|kind| program_for(kind, &lists, &all));
    let Some(entry) = found else {
        let kind = kinds.into_iter().next().unwrap_or_default();
        return Err(LaunchError::NoHandler { target, kind });
    };
    entries::start_of(&entry, &[target])
}

/// The scheme of an address.
fn scheme(target: &str) -> Option<&str> {
    let (scheme, _) = target.split_once(':')?;
    let mut letters = scheme.chars();
    let first = letters.next().is_some_and(|letter| letter.is_ascii_alphabetic());
    let fits = |letter: char| letter.is_ascii_alphanumeric() || "+-.".contains(letter);
    // A single letter is not used as a scheme.
    (first && scheme.len() > 1 && letters.all(fits)).then_some(scheme)
}

/// The path in an address of a file (RFC 8089): `file:/PATH`, `file:///PATH` or `file://localhost/PATH`.
fn path_of(address: &str) -> &str {
    let rest = address.split_once(':').map_or(address, |(_, rest)| rest);
    let path = rest.strip_prefix("//").unwrap_or(rest);
    path.strip_prefix("localhost").filter(|path| path.starts_with('/')).unwrap_or(path)
}

/// A file's full path, and its MIME types, the most exact first.
fn of_file(known: &SharedMimeInfo, path: &str) -> Result<(String, Vec<String>), LaunchError> {
    let missing = |source| LaunchError::StartRequest { name: path.to_owned(), source };
    let full = home_path(path).canonicalize().map_err(missing)?;
    let shown = full.to_string_lossy().into_owned();
    if full.is_dir() {
        return Ok((shown, vec!["inode/directory".to_owned()]));
    }
    let first = known.guess_mime_type().path(&full).guess().mime_type().clone();
    let mut kinds = vec![first];
    let mut at = 0;
    while let Some(kind) = kinds.get(at).cloned() {
        at += 1;
        let mut parents = known.get_parents(&kind).unwrap_or_default();
        if kind.type_() == mime::TEXT {
            parents.push(mime::TEXT_PLAIN);
        }
        for parent in parents {
            if !kinds.contains(&parent) {
                kinds.push(parent);
            }
        }
    }
    let alias = |kind: &Mime| known.unalias_mime_type(kind);
    let named = kinds.iter().flat_map(|kind| [Some(kind.clone()), alias(kind)]).flatten();
    let mut names: Vec<String> = named.map(|kind| kind.essence_str().to_owned()).collect();
    names.dedup();
    Ok((shown, names))
}

/// A file that says which program is for which kind.
struct Associations {
    defaults: Vec<(String, Vec<String>)>,
    added: Vec<(String, Vec<String>)>,
    removed: Vec<(String, Vec<String>)>,
}

/// All such files, the more important first.
fn association_lists() -> Vec<Associations> {
    let desktops = std::env::var("XDG_CURRENT_DESKTOP").unwrap_or_default().to_lowercase();
    let names: Vec<String> = desktops
        .split(':')
        .filter(|desktop| !desktop.is_empty())
        .map(|desktop| format!("{desktop}-mimeapps.list"))
        .chain(["mimeapps.list".to_owned()])
        .collect();
    let data = data_folders().into_iter().map(|folder| folder.join("applications"));
    let folders = config_folders().into_iter().chain(data);
    let paths = folders
        .flat_map(|folder| names.iter().map(move |name| folder.join(name)).collect::<Vec<_>>());
    paths.filter_map(|path| fs::read_to_string(path).ok()).map(|text| read_list(&text)).collect()
}

fn read_list(text: &str) -> Associations {
    let mut lists = Associations { defaults: Vec::new(), added: Vec::new(), removed: Vec::new() };
    let mut group = "";
    for line in text.lines().map(str::trim) {
        if let Some(name) = line.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
            group = name;
            continue;
        }
        let list = match group {
            "Default Applications" => &mut lists.defaults,
            "Added Associations" => &mut lists.added,
            "Removed Associations" => &mut lists.removed,
            _ => continue,
        };
        if let Some((kind, ids)) = line.split_once('=').filter(|_| !line.starts_with('#')) {
            let ids = ids.split(';').map(str::trim).filter(|id| !id.is_empty());
            list.push((kind.trim().to_owned(), ids.map(str::to_owned).collect()));
        }
    }
    lists
}

fn ids_in<'l>(list: &'l [(String, Vec<String>)], kind: &str) -> impl Iterator<Item = &'l str> {
    let rows = list.iter().filter(move |(known, _)| known == kind);
    rows.flat_map(|(_, ids)| ids).map(String::as_str).collect::<Vec<_>>().into_iter()
}

/// The program for a kind: a default, else one that was added for it, else one that says it can; `all`
/// are the entries, read when they are needed first.
fn program_for(
    kind: &str,
    lists: &[Associations],
    all: &OnceCell<Vec<NamedEntry>>,
) -> Option<DesktopEntry> {
    let default = lists.iter().flat_map(|list| ids_in(&list.defaults, kind));
    if let Some(entry) = default.into_iter().find_map(entries::by_id) {
        return Some(entry);
    }
    let removed: Vec<&str> = lists.iter().flat_map(|list| ids_in(&list.removed, kind)).collect();
    let added = lists.iter().flat_map(|list| ids_in(&list.added, kind));
    if let Some(entry) = added.filter(|id| !removed.contains(id)).find_map(entries::by_id) {
        return Some(entry);
    }
    let found = all.get_or_init(entries::all).iter().find(|NamedEntry { id, entry }| {
        let can = entry.mime_type().is_some_and(|kinds| kinds.contains(&kind));
        can && !removed.contains(&id.as_str()) && entries::is_usable(entry)
    });
    found.map(|named| named.entry.clone())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn schemes_and_paths_of_addresses() {
        assert_eq!(scheme("https://store.example/"), Some("https"));
        assert_eq!(scheme("mailto:store@example.org"), Some("mailto"));
        assert_eq!(scheme("/core:logs"), None);
        assert_eq!(scheme("c:logs"), None);
        assert_eq!(scheme("plain.txt"), None);
        for address in ["file:/core", "file:///core", "FILE://localhost/core"] {
            assert_eq!(path_of(address), "/core", "{address}");
        }
        assert_eq!(path_of("file:aé"), "aé");
        assert_eq!(path_of("file:"), "");
        assert_eq!(path_of("file://localhostess"), "localhostess");
    }
}
