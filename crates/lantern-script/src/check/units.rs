//! The files of a set: which uses which, and under what names.
//!
//! A file that is used twice counts twice, so a few lines can stand for a set without end. What a
//! set may grow to is counted before its files are put together, without following each way.

use std::collections::BTreeMap;

use super::graph;
use crate::codes::Code;
use crate::tree::{Clause, ExprSyntax, File, Item, Name, Use};
use crate::{Finding, Source, Span, parse};

/// Most files within files.
const MOST_LEVELS: usize = 32;
/// Most times that files of a set are used, all together.
const MOST_USES: usize = 1024;

/// A top-level part of a file, with everything around it.
pub(super) struct ModulePart<'t> {
    pub(super) item: &'t Item,
    /// The clauses of the blocks around it, the outermost first.
    pub(super) around: Vec<&'t Clause>,
    /// What its file's names stand under, with a dot at its end.
    pub(super) prefix: String,
    /// The same for the file that uses its file.
    pub(super) outer: String,
    /// What its file is given instead of its own values.
    pub(super) given: &'t [(Name, ExprSyntax)],
}

/// All files of a set as trees.
pub(super) struct Units {
    pub(super) files: Vec<File>,
    pub(super) findings: Vec<Finding>,
    /// For each `use`, by its place, the file it means.
    targets: BTreeMap<Span, usize>,
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
        let mut units = Units { files: Vec::new(), findings: Vec::new(), targets: BTreeMap::new() };
        let names: Vec<String> = source.names().map(str::to_owned).collect();
        for (file, name) in names.iter().enumerate() {
            let (tree, findings) = parse(source, file);
            units.findings.extend(findings);
            for used in uses_of(&tree.items) {
                let path = joined(name, &used.path.0);
                match source.file_named(&path) {
                    Some(target) => {
                        units.targets.insert(used.span, target);
                    }
                    None if names.len() >= Source::MOST_FILES => units.findings.push(
                        Finding::new(
                            Code::TooMuch,
                            used.path.1,
                            format!("the set has more than {} files", Source::MOST_FILES),
                        )
                        .label("not read any more")
                        .help("put rules that belong together into one file"),
                    ),
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
        units.cut_cycles(&names);
        units.limit_uses();
        units
    }

    fn target(&self, used: &Use) -> Option<usize> {
        self.targets.get(&used.span).copied()
    }

    /// For each file, its uses with the files they mean, in the order of the text.
    fn uses(&self) -> Vec<Vec<(Span, usize)>> {
        let of_file = |file: &File| {
            let uses = uses_of(&file.items).into_iter();
            uses.filter_map(|used| Some((used.span, self.target(used)?))).collect()
        };
        self.files.iter().map(of_file).collect()
    }

    /// Finds the files that lead back to themselves, and forgets the uses that close a cycle.
    fn cut_cycles(&mut self, names: &[String]) {
        let uses = self.uses();
        let edges: Vec<Vec<usize>> =
            uses.iter().map(|uses| uses.iter().map(|(_, target)| *target).collect()).collect();
        let component = graph::components(&edges);
        let mut is_done = vec![false; uses.len()];
        for root in 0..uses.len() {
            // The files on the way from the root, each with the index of its next use.
            let mut trail: Vec<(usize, usize)> = Vec::new();
            if !is_done[root] {
                trail.push((root, 0));
            }
            while let Some((file, next)) = trail.last_mut() {
                let file = *file;
                let Some((span, target)) = uses[file].get(*next).copied() else {
                    is_done[file] = true;
                    trail.pop();
                    continue;
                };
                *next += 1;
                if component[file] == component[target]
                    && let Some(from) = trail.iter().position(|(known, _)| *known == target)
                {
                    let way = trail[from..].iter().map(|(file, _)| *file).chain([target]);
                    let way: Vec<&str> = way.map(|file| names[file].as_str()).collect();
                    self.targets.remove(&span);
                    self.findings.push(closes_cycle(span, &way));
                } else if !is_done[target] {
                    trail.push((target, 0));
                }
            }
        }
    }

    /// Refuses a set whose files are used too often or too deep, by leaving out the uses of its
    /// first file. There are no cycles any more.
    fn limit_uses(&mut self) {
        let uses = self.uses();
        let mut sizes: Vec<Option<(usize, usize)>> = vec![None; uses.len()];
        let mut open: Vec<usize> = vec![0];
        while let Some(file) = open.last().copied() {
            if sizes[file].is_some() {
                open.pop();
                continue;
            }
            let unsized_uses = uses[file].iter().map(|(_, target)| *target);
            let before = open.len();
            open.extend(unsized_uses.filter(|target| sizes[*target].is_none()));
            if open.len() > before {
                continue;
            }
            open.pop();
            let of_uses = uses[file].iter().filter_map(|(_, target)| sizes[*target]);
            let add = |(count, levels): (usize, usize), (more, deeper): (usize, usize)| {
                (more.saturating_add(count), levels.max(deeper + 1))
            };
            sizes[file] = Some(of_uses.fold((1, 0), add));
        }
        let (count, levels) = sizes[0].unwrap_or((1, 0));
        if count <= MOST_USES && levels <= MOST_LEVELS {
            return;
        }
        let largest = uses[0].iter().max_by_key(|(_, target)| sizes[*target]);
        let Some((span, _)) = largest.copied() else { return };
        let message = if count > MOST_USES {
            format!("the files of this set are used more than {MOST_USES} times")
        } else {
            format!("files use files more than {MOST_LEVELS} levels deep")
        };
        self.findings.push(
            Finding::new(Code::TooMuch, span, message)
                .label("most of it comes by way of this")
                .help("each `use` of a file counts, and so does each `use` within it; use a file once where once is enough"),
        );
        for (span, _) in &uses[0] {
            self.targets.remove(span);
        }
    }

    /// All parts of all files as often as they are used, in the order in which they count.
    pub(super) fn flatten<'t>(&'t self, parts: &mut Vec<ModulePart<'t>>) {
        let place = ModulePart {
            item: &EMPTY,
            around: Vec::new(),
            prefix: String::new(),
            outer: String::new(),
            given: &[],
        };
        self.add(&self.files[0].items, &place, parts);
    }

    fn add<'t>(
        &'t self,
        items: &'t [Item],
        place: &ModulePart<'t>,
        parts: &mut Vec<ModulePart<'t>>,
    ) {
        for item in items {
            match item {
                Item::Within(clause, inner) => {
                    let around = place.around.iter().copied().chain([clause]).collect();
                    self.add(inner, &ModulePart { around, ..place.copy() }, parts);
                }
                Item::Use(used) => {
                    let Some(target) = self.target(used) else { continue };
                    let prefix = match &used.name {
                        Some(name) => format!("{}{}.", place.prefix, name.text),
                        None => place.prefix.clone(),
                    };
                    let outer = place.prefix.clone();
                    let within = ModulePart { prefix, outer, given: &used.given, ..place.copy() };
                    self.add(&self.files[target].items, &within, parts);
                }
                item => parts.push(ModulePart { item, ..place.copy() }),
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

fn closes_cycle(span: Span, way: &[&str]) -> Finding {
    Finding::new(Code::UsesItself, span, "this file leads back to itself")
        .label("closes the circle")
        .help(format!("the way is {}; take one `use` of it out", shortened(way)))
}

/// Names with arrows between them; of many, the first and the last few.
fn shortened(way: &[&str]) -> String {
    const SHOWN: usize = 4;
    if way.len() <= 2 * SHOWN + 1 {
        return way.join(" → ");
    }
    let between = way.len() - 2 * SHOWN;
    let (first, last) = (&way[..SHOWN], &way[way.len() - SHOWN..]);
    format!("{} → ({between} files) → {}", first.join(" → "), last.join(" → "))
}

static EMPTY: Item = Item::Settings(Vec::new());

impl<'t> ModulePart<'t> {
    fn copy(&self) -> ModulePart<'t> {
        ModulePart {
            item: self.item,
            around: self.around.clone(),
            prefix: self.prefix.clone(),
            outer: self.outer.clone(),
            given: self.given,
        }
    }
}
