//! The structure of the source: no cycles between modules, no long files.
//!
//! Modules with the same parent must depend on each other in one direction. A dependency is a path
//! that begins with `crate::` or `super::`, in a `use` or elsewhere; unit tests are not counted.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// Maximum number of lines of a source file.
const MAX_LINES: usize = 800;

/// The path of a module in its crate, without the crate's name.
type ModulePath = Vec<String>;

/// The children of a module, each with the children that it names.
type Siblings = BTreeMap<String, BTreeSet<String>>;

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..")
}

/// All Rust files below a folder.
fn rust_files(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder).expect("the folder can be read").flatten() {
        let path = entry.path();
        if path.is_dir() {
            found.extend(rust_files(&path));
        } else if path.extension().is_some_and(|extension| extension == "rs") {
            found.push(path);
        }
    }
    found
}

/// The module of a file below `src`.
fn module_of(file: &Path, source_folder: &Path) -> ModulePath {
    let relative =
        file.strip_prefix(source_folder).expect("the file is below it").with_extension("");
    let mut path: ModulePath =
        relative.iter().map(|part| part.to_str().expect("the name is UTF-8").to_owned()).collect();
    if path.last().is_some_and(|name| name == "mod") {
        path.pop();
    }
    if path.len() == 1 && ["lib", "main"].contains(&path[0].as_str()) {
        path.clear();
    }
    path
}

/// The code of a file without line comments and without its unit tests.
fn code_of(file: &Path) -> String {
    let text = std::fs::read_to_string(file).expect("the file is UTF-8");
    let code = text.split("#[cfg(test)]\nmod tests").next().unwrap_or_default();
    let lines = code.lines().map(|line| line.split("//").next().unwrap_or_default());
    lines.collect::<Vec<_>>().join("\n")
}

/// The identifier at the start of a text, and the rest.
fn identifier(text: &str) -> (&str, &str) {
    let is_part = |character: char| character.is_alphanumeric() || character == '_';
    text.split_at(text.find(|character| !is_part(character)).unwrap_or(text.len()))
}

/// Reads a path or a tree of paths as in a `use`, adds each with `prefix`, and returns the rest.
fn read_paths<'t>(text: &'t str, prefix: &[String], found: &mut Vec<ModulePath>) -> &'t str {
    let text = text.trim_start();
    if let Some(mut rest) = text.strip_prefix('{') {
        loop {
            rest = read_paths(rest, prefix, found);
            // Skips a new name (`as NAME`) and `*`.
            let Some(end) = rest.find([',', '}']) else { return rest };
            let is_last = rest[end..].starts_with('}');
            rest = &rest[end + 1..];
            if is_last {
                return rest;
            }
        }
    }
    let (name, rest) = identifier(text);
    if name.is_empty() {
        return rest;
    }
    let path = [prefix, &[name.to_owned()]].concat();
    match rest.strip_prefix("::") {
        Some(rest) => read_paths(rest, &path, found),
        None => {
            found.push(path);
            rest
        }
    }
}

/// The paths in a module's code that begin with `crate` or `super`, from the crate's root.
fn paths_in(code: &str, module: &[String]) -> Vec<ModulePath> {
    let mut found = Vec::new();
    for keyword in ["crate::", "super::"] {
        for (at, _) in code.match_indices(keyword) {
            // The rest of a longer word, or a `super` that follows another.
            if code[..at]
                .ends_with(|before: char| before.is_alphanumeric() || "_:".contains(before))
            {
                continue;
            }
            let mut rest = &code[at..];
            let mut base = if keyword == "crate::" { 0 } else { module.len() };
            while let Some(after) = rest.strip_prefix("super::") {
                (rest, base) = (after, base.saturating_sub(1));
            }
            rest = rest.strip_prefix("crate::").unwrap_or(rest);
            read_paths(rest, &module[..base], &mut found);
        }
    }
    found
}

/// For each module of a crate, which of its children names which other.
fn dependencies(source_folder: &Path) -> BTreeMap<ModulePath, Siblings> {
    let files = rust_files(source_folder);
    let modules: BTreeSet<ModulePath> =
        files.iter().map(|file| module_of(file, source_folder)).collect();
    let mut all: BTreeMap<ModulePath, Siblings> = BTreeMap::new();
    for file in &files {
        let module = module_of(file, source_folder);
        for path in paths_in(&code_of(file), &module) {
            let depth = (0..=path.len()).rev().find(|depth| modules.contains(&path[..*depth]));
            let target = &path[..depth.unwrap_or(0)];
            let shared = module.iter().zip(target).take_while(|(a, b)| a == b).count();
            if let (Some(from), Some(to)) = (module.get(shared), target.get(shared)) {
                let siblings = all.entry(module[..shared].to_vec()).or_default();
                siblings.entry(from.clone()).or_default().insert(to.clone());
            }
        }
    }
    all
}

/// A path from a module over its dependencies back to itself.
fn cycle(siblings: &Siblings, start: &str) -> Option<Vec<String>> {
    let mut before: BTreeMap<&str, &str> = BTreeMap::new();
    let mut open = vec![start];
    while let Some(module) = open.pop() {
        for next in siblings.get(module).into_iter().flatten() {
            if next == start {
                let steps = std::iter::successors(Some(module), |step| before.get(step).copied());
                let mut path: Vec<String> = steps.map(str::to_owned).collect();
                path.reverse();
                return Some(path);
            }
            if !before.contains_key(next.as_str()) {
                before.insert(next, module);
                open.push(next);
            }
        }
    }
    None
}

#[test]
fn modules_with_the_same_parent_form_no_cycle() {
    let (mut edges, mut cycles) = (0, Vec::new());
    for entry in std::fs::read_dir(crates()).expect("the folder can be read").flatten() {
        let source_folder = entry.path().join("src");
        if !source_folder.is_dir() {
            continue;
        }
        for (parent, siblings) in dependencies(&source_folder) {
            edges += siblings.values().map(BTreeSet::len).sum::<usize>();
            let found = siblings.keys().find_map(|module| cycle(&siblings, module));
            if let Some(path) = found {
                let name = entry.file_name().to_string_lossy().into_owned();
                cycles.push(format!("{name}::{}: {}", parent.join("::"), path.join(" -> ")));
            }
        }
    }
    assert!(edges > 400, "the source is read: {edges} dependencies");
    assert!(cycles.is_empty(), "modules depend on each other in a circle:\n{}", cycles.join("\n"));
}

#[test]
fn no_file_is_longer_than_800_lines() {
    let lines =
        |file: &PathBuf| std::fs::read_to_string(file).expect("the file is UTF-8").lines().count();
    let files = rust_files(&crates());
    let long: Vec<_> = files.iter().filter(|file| lines(file) > MAX_LINES).collect();
    assert!(files.len() > 300, "the source is read: {} files", files.len());
    assert!(long.is_empty(), "longer than {MAX_LINES} lines: {long:?}");
}

#[test]
fn paths_are_read_from_use_trees_and_code() {
    let module = ["keys", "chords"].map(str::to_owned);
    let code = "use crate::{timers, plan::{self, Plan as P}};\nuse super::press::Press;\n\
                use super::super::lock;\nfn f() { mycrate::x(); crate::output::say!(\"\") }";
    let found = paths_in(code, &module);
    let mut names: Vec<String> = found.iter().map(|path| path.join("::")).collect();
    names.sort();
    let expected =
        ["keys::press::Press", "lock", "output::say", "plan::Plan", "plan::self", "timers"];
    assert_eq!(names, expected);
}

#[test]
fn a_cycle_is_found() {
    let names = |list: &[&str]| list.iter().map(|name| (*name).to_owned()).collect::<BTreeSet<_>>();
    let mut siblings = Siblings::new();
    siblings.insert("a".to_owned(), names(&["b"]));
    siblings.insert("b".to_owned(), names(&["c"]));
    assert_eq!(cycle(&siblings, "a"), None);
    siblings.insert("c".to_owned(), names(&["d", "a"]));
    assert_eq!(cycle(&siblings, "a"), Some(["a", "b", "c"].map(str::to_owned).to_vec()));
}
