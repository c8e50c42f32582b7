//! A tree to checked rules: names are found, kinds compared, steps lowered to operations, and the
//! rules held against one another.
//!
//! Everything that can be known before running is said here, all at once. Rules come out only when
//! no finding is an error.

mod combos;
mod conflicts;
mod exprs;
mod kinds;
mod names;
mod routines;
mod rules;
mod steps;

use std::collections::BTreeSet;

use lantern_model::{Global, Place, RoutineId, RuleSet, Settings};

use crate::codes::{Code, Severity};
use crate::tree::{self, ExprKind, File, Item};
use crate::{Finding, Source, Span, near_name, parse};
use names::Names;

/// What came of a file.
#[derive(Debug, Clone, PartialEq)]
pub struct Checked {
    /// The rules, if nothing stands against running them.
    pub rules: Option<RuleSet>,
    /// All findings, in the order of the file.
    pub findings: Vec<Finding>,
    /// The files it uses, as written, with their place.
    pub used_files: Vec<(String, Span)>,
}

impl Checked {
    /// Adds a finding that only the reader of files can make.
    pub fn add(&mut self, finding: Finding) {
        if finding.severity() == Severity::Error {
            self.rules = None;
        }
        self.findings.push(finding);
        self.findings.sort_by_key(|finding| finding.span);
    }
}

/// Reads and checks a file.
///
/// ```
/// use lantern_script::{Source, check};
/// let checked = check(&Source::new("bench.lantern", "when key f9 => type \"core\"\n"));
/// assert!(checked.findings.is_empty());
/// assert_eq!(checked.rules.unwrap().rules.len(), 1);
/// ```
pub fn check(source: &Source) -> Checked {
    let (file, findings) = parse(source);
    let mut checker = Checker::new(source, findings);
    checker.check_file(&file);
    checker.finish()
}

/// Where the triggers of a rule stand, one for each of its own.
type TriggerSpans = Vec<Span>;

struct Checker<'a> {
    source: &'a Source,
    findings: Vec<Finding>,
    names: Names,
    set: RuleSet,
    spans: Vec<TriggerSpans>,
    panic_span: Option<Span>,
    used_files: Vec<(String, Span)>,
    /// For each macro, the macros it calls and where.
    calls: Vec<Vec<(RoutineId, Span)>>,
    /// Words inside what this version does not do; they count as used.
    mentions: BTreeSet<String>,
    /// Words of parts that could not be read; what they may have named is not missed.
    broken: BTreeSet<String>,
}

impl<'a> Checker<'a> {
    fn new(source: &'a Source, findings: Vec<Finding>) -> Checker<'a> {
        let set = RuleSet { file: source.name.clone(), ..RuleSet::default() };
        Checker {
            source,
            findings,
            names: Names::default(),
            set,
            spans: Vec::new(),
            panic_span: None,
            used_files: Vec::new(),
            calls: Vec::new(),
            mentions: BTreeSet::new(),
            broken: BTreeSet::new(),
        }
    }

    fn check_file(&mut self, file: &File) {
        self.broken = file.broken.iter().cloned().collect();
        self.mentions = file.mentions.iter().chain(&file.broken).cloned().collect();
        let items = flatten(&file.items, &[]);
        self.declare(&items);
        for (item, apps) in &items {
            match item {
                Item::Settings(settings) => self.check_settings(settings),
                Item::Macro(definition) => self.lower_macro(definition),
                Item::When(rule) => self.lower_rule(rule, apps),
                Item::Use(path, span) => self.used_files.push((path.clone(), *span)),
                Item::Let(..) | Item::InApp(..) => {}
            }
        }
    }

    /// Names everything at the top of the file, so that order does not matter but for values.
    fn declare(&mut self, items: &[(&Item, &[(String, Span)])]) {
        for (item, _) in items {
            match item {
                Item::Let(name, value) => {
                    let (first, kind) = self.lower_expr(value);
                    self.declare_global(name, kind);
                    self.set.globals.push(Global { name: name.text.clone(), first });
                }
                Item::Macro(definition) => self.declare_macro(definition),
                Item::When(rule) => self.declare_rule_name(rule),
                _ => {}
            }
        }
    }

    fn check_settings(&mut self, settings: &[(tree::Name, tree::Expr)]) {
        for (name, value) in settings {
            match name.text.as_str() {
                "panic" => self.check_panic(value),
                "attention" => self.say(
                    Finding::new(
                        Code::NotYet,
                        name.span,
                        "the attention word: this version does not do that yet",
                    )
                    .label("not yet")
                    .help("the rest of the file is still checked; take this part out to run it"),
                ),
                other => {
                    let near = near_name(other, ["panic", "attention"]);
                    self.say(
                        Finding::new(
                            Code::NoSuchName,
                            name.span,
                            format!("there is no setting `{other}`"),
                        )
                        .label("no such setting")
                        .help("the settings are `panic` and `attention`")
                        .maybe_help(near.map(|near| format!("did you mean `{near}`?"))),
                    );
                }
            }
        }
    }

    fn check_panic(&mut self, value: &tree::Expr) {
        let ExprKind::Key(combo) = &value.kind else {
            if value.kind != ExprKind::Unread {
                self.say(
                    Finding::new(Code::WrongKind, value.span, "`panic` is a key")
                        .label("not a key")
                        .help("write `panic = key ctrl+alt+shift+escape`"),
                );
            }
            return;
        };
        if self.panic_span.replace(value.span).is_some() {
            self.say(
                Finding::new(Code::NamedTwice, value.span, "`panic` is set twice").label("again"),
            );
        }
        if let Some(panic) = combo.fixed() {
            self.set.settings = Settings { panic };
        }
    }

    fn say(&mut self, finding: Finding) {
        self.findings.push(finding);
    }

    fn place(&self, span: Span) -> Place {
        self.source.place(span.start)
    }

    fn finish(mut self) -> Checked {
        self.check_conflicts();
        self.check_call_cycles();
        self.check_unused();
        self.findings.sort_by_key(|finding| finding.span);
        let failed = self.findings.iter().any(|finding| finding.severity() == Severity::Error);
        Checked {
            rules: if failed { None } else { Some(self.set) },
            findings: self.findings,
            used_files: self.used_files,
        }
    }
}

/// The parts of a file with the programs of the blocks around them, innermost only.
fn flatten<'t>(
    items: &'t [Item],
    apps: &'t [(String, Span)],
) -> Vec<(&'t Item, &'t [(String, Span)])> {
    let mut flat = Vec::with_capacity(items.len());
    for item in items {
        match item {
            Item::InApp(inner_apps, inner) => flat.extend(flatten(inner, inner_apps)),
            other => flat.push((other, apps)),
        }
    }
    flat
}
