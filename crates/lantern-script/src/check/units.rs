//! The files of a set: which uses which, and under what names.

use crate::codes::Code;
use crate::tree::{Clause, Expr, File, Item, Name, Use};
use crate::{Finding, Source, Span, parse};

/// Files within files, at the most.
const DEEPEST: usize = 16;

/// A top-level part of a file, with everything around it.
pub(super) struct Part<'t> {
    pub(super) item: &'t Item,
    /// The clauses of the blocks around it, the outermost first.
    pub(super) around: Vec<&'t Clause>,
    /// What its file's names stand under, with a dot at its end.
    pub(super) prefix: String,
    /// The same for the file that uses its file.
    pub(super) outer: String,
    /// What its file is given instead of its own values.
    pub(super) given: &'t [(Name, Expr)],
}

/// All files of a set as trees.
pub(super) struct Units {
    pub(super) files: Vec<File>,
    pub(super) findings: Vec<Finding>,
    /// For each `use`, by its place, the file it means.
    targets: Vec<(Span, usize)>,
}

/// The files that the set's last-added file uses and that are not in it yet, by the names under
/// which they must be added: paths seen from where the first file's is.
pub fn wanted_files(source: &Source, file: usize) -> Vec<String> {
    // A look at the letters spares most files a reading of their own.
    let uses = source.text_of(file).lines().any(|line| line.trim_start().starts_with("use "));
    if !uses {
        return Vec::new();
    }
    let name = source.names().nth(file).unwrap_or_default().to_owned();
    let (tree, _) = parse(source, file);
    let paths = uses_of(&tree.items).into_iter().map(|found| joined(&name, &found.path.0));
    paths.filter(|path| source.file_named(path).is_none()).collect()
}

fn uses_of(items: &[Item]) -> Vec<&Use> {
    let mut found = Vec::new();
    for item in items {
        match item {
            Item::Use(used) => found.push(used),
            Item::Within(_, inner) => found.extend(uses_of(inner)),
            _ => {}
        }
    }
    found
}

/// `path` seen from the folder of the file `from`.
pub(super) fn joined(from: &str, path: &str) -> String {
    if path.starts_with('/') {
        return path.to_owned();
    }
    let folder = from.rfind('/').map_or("", |at| &from[..at]);
    let absolute = from.starts_with('/');
    let mut parts: Vec<&str> = Vec::new();
    for part in folder.split('/').chain(path.split('/')) {
        match part {
            "" | "." => {}
            ".." if parts.last().is_some_and(|last| *last != "..") => {
                parts.pop();
            }
            other => parts.push(other),
        }
    }
    format!("{}{}", if absolute { "/" } else { "" }, parts.join("/"))
}

impl Units {
    /// Reads every file that is reached from the first.
    pub(super) fn read(source: &Source) -> Units {
        let mut units = Units { files: Vec::new(), findings: Vec::new(), targets: Vec::new() };
        let names: Vec<String> = source.names().map(str::to_owned).collect();
        for (file, name) in names.iter().enumerate() {
            let (tree, findings) = parse(source, file);
            units.findings.extend(findings);
            for used in uses_of(&tree.items) {
                let path = joined(name, &used.path.0);
                match source.file_named(&path) {
                    Some(target) => units.targets.push((used.span, target)),
                    None => units.findings.push(
                        Finding::new(
                            Code::NoSuchFile,
                            used.path.1,
                            format!("there is no file `{}` that can be read", used.path.0),
                        )
                        .label("not there")
                        .help(format!("looked for {path}")),
                    ),
                }
            }
            units.files.push(tree);
        }
        units.find_cycles(&names);
        units
    }

    fn target(&self, used: &Use) -> Option<usize> {
        self.targets.iter().find(|(span, _)| *span == used.span).map(|(_, target)| *target)
    }

    /// Says which files lead back to themselves, and forgets the step that closes the circle.
    fn find_cycles(&mut self, names: &[String]) {
        let mut trail = Vec::new();
        let mut closed = Vec::new();
        self.follow(0, &mut trail, &mut closed);
        for (span, trail) in closed {
            self.targets.retain(|(known, _)| *known != span);
            let way: Vec<&str> = trail.iter().map(|file| names[*file].as_str()).collect();
            self.findings.push(
                Finding::new(Code::UsesItself, span, "this file leads back to itself")
                    .label("closes the circle")
                    .help(format!("the way is {}; take one `use` of it out", way.join(" → "))),
            );
        }
    }

    fn follow(&self, file: usize, trail: &mut Vec<usize>, closed: &mut Vec<(Span, Vec<usize>)>) {
        trail.push(file);
        for used in uses_of(&self.files[file].items) {
            let Some(target) = self.target(used) else { continue };
            if let Some(from) = trail.iter().position(|known| *known == target) {
                let way = trail[from..].iter().copied().chain([target]).collect();
                if !closed.iter().any(|(span, _)| *span == used.span) {
                    closed.push((used.span, way));
                }
            } else if trail.len() < DEEPEST {
                self.follow(target, trail, closed);
            }
        }
        trail.pop();
    }

    /// All parts of all files as often as they are used, in the order in which they count.
    pub(super) fn flatten<'t>(&'t self, parts: &mut Vec<Part<'t>>) {
        let place = Part {
            item: &EMPTY,
            around: Vec::new(),
            prefix: String::new(),
            outer: String::new(),
            given: &[],
        };
        self.add(&self.files[0].items, &place, parts);
    }

    fn add<'t>(&'t self, items: &'t [Item], place: &Part<'t>, parts: &mut Vec<Part<'t>>) {
        for item in items {
            match item {
                Item::Within(clause, inner) => {
                    let around = place.around.iter().copied().chain([clause]).collect();
                    self.add(inner, &Part { around, ..place.copy() }, parts);
                }
                Item::Use(used) => {
                    let Some(target) = self.target(used) else { continue };
                    let prefix = match &used.name {
                        Some(name) => format!("{}{}.", place.prefix, name.text),
                        None => place.prefix.clone(),
                    };
                    let outer = place.prefix.clone();
                    let within = Part { prefix, outer, given: &used.given, ..place.copy() };
                    self.add(&self.files[target].items, &within, parts);
                }
                item => parts.push(Part { item, ..place.copy() }),
            }
        }
    }

    /// The names that a `use` gives and its file does not have.
    pub(super) fn unknown_given(&self) -> Vec<&Name> {
        let mut unknown = Vec::new();
        for used in self.files.iter().flat_map(|file| uses_of(&file.items)) {
            let Some(target) = self.target(used) else { continue };
            let has = |name: &Name| {
                self.files[target]
                    .items
                    .iter()
                    .any(|item| matches!(item, Item::Let(own, _) if own.text == name.text))
            };
            unknown.extend(used.given.iter().map(|(name, _)| name).filter(|name| !has(name)));
        }
        unknown
    }
}

static EMPTY: Item = Item::Settings(Vec::new());

impl<'t> Part<'t> {
    fn copy(&self) -> Part<'t> {
        Part {
            item: self.item,
            around: self.around.clone(),
            prefix: self.prefix.clone(),
            outer: self.outer.clone(),
            given: self.given,
        }
    }
}
