//! A tree to checked rules: names are found, kinds compared, steps lowered to operations, and the
//! rules held against one another.
//!
//! Everything that can be known before running is said here, all at once. Rules come out only when
//! no finding is an error.

mod combos;
mod commands;
mod conflicts;
mod devices;
mod exprs;
mod graph;
mod items;
mod keyboards;
mod kinds;
pub(crate) mod lints;
mod names;
mod needs;
mod prints;
mod routines;
mod rules;
mod settings;
mod shell;
mod steps;
mod triggers;
mod units;

use std::collections::{BTreeMap, BTreeSet};

use lantern_model::{
    Global, LayerId, Layout, RoutineId, RuleSet, Secret, SourceLocation, StrokePath,
};
use lantern_speech::{Phrase, Pronunciations, WordList};

use crate::codes::{Code, Severity};
use crate::tree::{Clause, File, Item};
use crate::{Finding, Source, Span};
use lints::LintInput;
use names::{ItemKind, Names};
pub use needs::Need;
use triggers::Record;
pub use units::wanted_files;
use units::{ModulePart, Units};

/// What came of a set of files.
#[derive(Debug, Clone, PartialEq)]
pub struct Checked {
    /// The rules, if nothing stands against running them.
    pub rules: Option<RuleSet>,
    /// All findings, in the order of the files.
    pub findings: Vec<Finding>,
    /// What not every back end can do, and where the set needs it.
    pub needs: Vec<(Need, Span)>,
}

/// Reads and checks a set: the first file of `source` and those it uses, which must be in `source`
/// under the names that [`wanted_files`] gives.
///
/// ```
/// use lantern_script::{Source, check};
/// let checked = check(&Source::new("bench.lantern", "when key f9 => type \"core\"\n"));
/// assert!(checked.findings.is_empty());
/// assert_eq!(checked.rules.unwrap().rules.len(), 1);
/// ```
pub fn check(source: &Source) -> Checked {
    check_with(source, &Outside::default())
}

/// The same, with facts that only the program can know.
pub fn check_with(source: &Source, outside: &Outside<'_>) -> Checked {
    let units = Units::read(source);
    let mut checker = Checker { outside: *outside, ..Checker::new(source) };
    checker.check_units(&units);
    checker.finish(&units.files)
}

/// Drawings of a file, each of one or more strokes.
pub type Drawings = Result<Vec<Vec<StrokePath>>, NoDrawings>;

/// Why a file has no drawings, for the message of a finding.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NoDrawings(pub String);

/// What a check asks of the world.
#[derive(Clone, Copy)]
pub struct Outside<'o> {
    /// How these words sound: asked once, for the words of all phrases.
    pub pronounce: &'o dyn Fn(&BTreeSet<&str>) -> Pronunciations,
    /// The drawings in a file, or why there are none.
    pub drawings: &'o dyn Fn(&str) -> Drawings,
}

impl Default for Outside<'_> {
    /// Sounds by the letters, and no file beside those of the set.
    fn default() -> Self {
        Outside {
            pronounce: &|words| Pronunciations::of_words(words.iter().copied()),
            drawings: &|_| Err(NoDrawings("it is not there".to_owned())),
        }
    }
}

/// What a set asks of a layout that does not have it: keys, and characters that are typed.
pub fn lacking_on_layout(source: &Source, layout: &Layout, name: &str) -> Vec<Finding> {
    let units = Units::read(source);
    let mut checker = Checker::new(source);
    checker.layout = Some((layout.clone(), name.to_owned()));
    checker.check_units(&units);
    let findings = checker.finish(&units.files).findings;
    findings.into_iter().filter(|finding| finding.code == Code::NotOnLayout).collect()
}

/// The stretch of a rule or macro.
struct BodySpan {
    span: Span,
    is_macro: bool,
}

fn add_bodies(items: &[Item], bodies: &mut Vec<BodySpan>) {
    for item in items {
        match item {
            Item::When(rule) => bodies.push(BodySpan { span: rule.whole, is_macro: false }),
            Item::Macro(definition) => {
                bodies.push(BodySpan { span: definition.whole, is_macro: true });
            }
            Item::Within(_, inner) => add_bodies(inner, bodies),
            _ => {}
        }
    }
}

/// Where a rule's head and its triggers stand.
struct Head {
    span: Span,
    /// One for each of the rule's triggers.
    triggers: Vec<Span>,
}

/// A phrase of a rule.
struct SpokenPhrase {
    phrase: Phrase,
    rule: usize,
    span: Span,
}

/// What lowering makes of a set: the rules, and where each part of them stands.
#[derive(Default)]
pub(crate) struct LoweredSet {
    set: RuleSet,
    /// For each rule, where its head and its triggers stand.
    heads: Vec<Head>,
    panic_span: Option<Span>,
    /// Where an external recogniser is set.
    recognizer_span: Option<Span>,
    /// Listeners without tokens.
    tokenless_listeners: Vec<Span>,
    /// Where each remap stands.
    remap_spans: Vec<Span>,
    phrases: Vec<SpokenPhrase>,
    lists: BTreeMap<String, WordList>,
    /// For each routine, the macros it calls and where.
    calls: Vec<Vec<(RoutineId, Span)>>,
    /// For each routine, where each of its operations stands.
    op_spans: Vec<Vec<Span>>,
    /// Layers that some step enters.
    entered_layers: BTreeSet<LayerId>,
}

/// Resolves names, infers kinds and lowers the parts of a set to a [`LoweredSet`].
///
/// Each part of the grammar has a file with an `impl` block: a step needs names, kinds, records and
/// findings at once, so that the state cannot be divided among them.
struct Checker<'a> {
    source: &'a Source,
    outside: Outside<'a>,
    /// The layout that keys and texts are checked against, and its name.
    layout: Option<(Layout, String)>,
    findings: Vec<Finding>,
    needs: Vec<(Need, Span)>,
    names: Names,
    lowered: LoweredSet,
    /// What stands in for each secret.
    secrets: Vec<Secret>,
    /// How many examples all shapes have.
    examples: usize,
    /// The macros that the present body calls.
    body_calls: Vec<(RoutineId, Span)>,
    /// What records have, by their number.
    records: Vec<Record>,
    /// Words of parts that could not be read; what they may have named is not reported missing.
    broken: BTreeSet<String>,
}

impl<'a> Checker<'a> {
    fn new(source: &'a Source) -> Checker<'a> {
        let files = source.names().map(str::to_owned).collect();
        let set = RuleSet { files, ..RuleSet::default() };
        Checker {
            source,
            outside: Outside::default(),
            layout: None,
            findings: Vec::new(),
            needs: Vec::new(),
            names: Names::default(),
            lowered: LoweredSet { set, ..LoweredSet::default() },
            secrets: Vec::new(),
            examples: 0,
            body_calls: Vec::new(),
            records: Vec::new(),
            broken: BTreeSet::new(),
        }
    }

    fn check_units(&mut self, units: &Units) {
        self.findings.extend(units.findings.iter().cloned());
        self.broken = units.files.iter().flat_map(|file| &file.broken).cloned().collect();
        let mut parts = Vec::new();
        units.flatten(&mut parts);
        self.declare_all(&parts);
        self.say_unknown_given(units);
        for part in &parts {
            self.names.prefix.clone_from(&part.prefix);
            match part.item {
                Item::Settings(settings) if self.is_first_file(settings) => {
                    self.check_settings(settings);
                }
                Item::Macro(definition) => self.lower_macro(definition),
                Item::When(rule) => self.lower_rule(rule, &part.around),
                Item::Remap(remap) => self.lower_remap(remap, &part.around),
                _ => {}
            }
        }
        self.names.prefix.clear();
    }

    /// Names everything at the top of the set, so that order does not matter but for values.
    fn declare_all(&mut self, parts: &[ModulePart<'_>]) {
        for part in parts {
            if let Item::Secret(name, place) = part.item {
                self.names.prefix.clone_from(&part.prefix);
                self.declare_secret(name, place);
            }
        }
        let mut rules = 0;
        for part in parts {
            self.names.prefix.clone_from(&part.prefix);
            for clause in &part.around {
                self.declare_layer_of(clause);
            }
            match part.item {
                Item::Let(name, value) => self.declare_let(name, value, part),
                Item::Macro(definition) => self.declare_macro(definition),
                Item::When(rule) => {
                    self.declare_rule(rule, rules);
                    rules += 1;
                }
                Item::Device(device) => self.declare_device(device),
                Item::Words(name, text) => self.declare_words(name, text),
                Item::Shape(shape) => self.declare_shape(shape),
                _ => {}
            }
        }
    }

    fn declare_layer_of(&mut self, clause: &Clause) {
        if let crate::tree::ClauseKind::InLayer(name) = &clause.kind {
            self.declare_layer(name);
        }
    }

    fn declare_layer(&mut self, name: &crate::tree::Name) {
        if self.names.get(ItemKind::Layer, &name.text).is_none() {
            let index = self.lowered.set.layers.len();
            self.lowered.set.layers.push(self.names.full(&name.text));
            self.declare(ItemKind::Layer, name, index, kinds::ValueKind::Any);
        }
    }

    fn declare_let(
        &mut self,
        name: &crate::tree::Name,
        value: &crate::tree::ExprSyntax,
        part: &ModulePart<'_>,
    ) {
        // What the file that uses this one gives instead is seen from there.
        let given = part.given.iter().find(|(given, _)| given.text == name.text);
        let (first, kind) = match given {
            Some((given, value)) => {
                let inner = std::mem::replace(&mut self.names.prefix, part.outer.clone());
                let lowered = self.lower_expr(value);
                self.names.prefix = inner;
                let own = self.kind_of_default(part, name);
                if !lowered.1.fits(own) {
                    let message =
                        format!("`{}` holds {}, not {}", name.text, own.words(), lowered.1.words());
                    let finding = Finding::new(Code::WrongKind, value.span, message);
                    self.say(finding.label(lowered.1.words()).other(given.span, "given here"));
                }
                lowered
            }
            None => self.lower_expr(value),
        };
        let index = self.lowered.set.globals.len();
        self.declare(ItemKind::Value, name, index, kind);
        let print = self.print_of(value.span);
        let (place, is_given) = (self.place(name.span), given.is_some());
        let name = self.names.full(&name.text);
        self.lowered.set.globals.push(Global {
            name,
            initial: first,
            fingerprint: print,
            place,
            is_given,
        });
    }

    /// Whether settings stand in the file that was asked for; those of others do not count.
    fn is_first_file(&self, settings: &[(crate::tree::Name, crate::tree::ExprSyntax)]) -> bool {
        settings.first().is_some_and(|(name, _)| self.source.file_at(name.span.start) == 0)
    }

    fn say_unknown_given(&mut self, units: &Units) {
        for name in units.unknown_given() {
            let message = format!("the other file has no value `{}`", name.text);
            self.say(
                Finding::new(Code::NoSuchName, name.span, message)
                    .label("no such value")
                    .help("`with` gives other values to the `let` lines at the top of that file"),
            );
        }
    }

    /// The kind of a file's own value for a name, if it is a plain literal.
    fn kind_of_default(&self, part: &ModulePart<'_>, name: &crate::tree::Name) -> kinds::ValueKind {
        match part.item {
            Item::Let(own, value) if own.text == name.text => match &value.kind {
                crate::tree::ExprSyntaxKind::Value(value) => kinds::ValueKind::of(value),
                crate::tree::ExprSyntaxKind::Text(_) => kinds::ValueKind::Text,
                crate::tree::ExprSyntaxKind::Key(_) => kinds::ValueKind::Key,
                _ => kinds::ValueKind::Any,
            },
            _ => kinds::ValueKind::Any,
        }
    }

    /// The lists of spoken words that the file at hand may name.
    fn word_lists(&self) -> BTreeMap<String, WordList> {
        let prefix = &self.names.prefix;
        let own = self.lowered.lists.iter().filter_map(|(name, list)| {
            Some((name.strip_prefix(prefix.as_str())?.to_owned(), list.clone()))
        });
        own.collect()
    }

    fn say(&mut self, finding: Finding) {
        self.findings.push(finding);
    }

    fn place(&self, span: Span) -> SourceLocation {
        self.source.place(span.start)
    }

    fn finish(mut self, files: &[File]) -> Checked {
        self.print_rules();
        self.check_unused();
        let input = self.lint_input();
        let mut found = conflicts::conflicts(&input);
        found.extend(lints::call_cycles(&input));
        let lints = lints::lints(&input);
        self.findings.extend(found);
        let sound = self.without_followers_of_errors(lints, files);
        self.findings.extend(sound);
        self.silence(files);
        self.findings.sort_by_key(|finding| finding.span);
        self.findings.dedup();
        let failed = self.findings.iter().any(Finding::is_error);
        let rules = if failed { None } else { Some(self.lowered.set) };
        Checked { rules, findings: self.findings, needs: self.needs }
    }

    fn lint_input(&self) -> LintInput<'_> {
        LintInput {
            lowered: &self.lowered,
            names: &self.names,
            broken: &self.broken,
            outside: self.outside,
        }
    }

    /// Findings of the lints, without those that an error may have caused: findings in a rule or macro
    /// with an error, and findings that depend on such a macro or on items outside of rules.
    fn without_followers_of_errors(&self, lints: Vec<Finding>, files: &[File]) -> Vec<Finding> {
        if !self.findings.iter().any(Finding::is_error) {
            return lints;
        }
        let mut bodies = Vec::new();
        for file in files {
            add_bodies(&file.items, &mut bodies);
        }
        bodies.sort_unstable_by_key(|body| body.span);
        let body_at = |span: Span| {
            let after = bodies.partition_point(|body| body.span.start <= span.start);
            let at = after.checked_sub(1)?;
            (span.start < bodies[at].span.end).then_some(at)
        };
        let mut broken = vec![false; bodies.len()];
        let (mut broken_macro, mut broken_outside) = (false, false);
        for error in self.findings.iter().filter(|finding| finding.is_error()) {
            match body_at(error.span) {
                Some(at) => {
                    broken[at] = true;
                    broken_macro |= bodies[at].is_macro;
                }
                None => broken_outside = true,
            }
        }
        let rests_on_error = |finding: &Finding| {
            let places = finding.others.iter().map(|(span, _)| *span).chain([finding.span]);
            let in_broken = |span: Span| body_at(span).is_some_and(|at| broken[at]);
            places.into_iter().any(in_broken)
                || match finding.code {
                    Code::BusyLoop | Code::UnreleasedPress => broken_macro,
                    Code::SingleWordPhrase | Code::NoAttentionWord | Code::NoToken => {
                        broken_outside
                    }
                    _ => false,
                }
        };
        lints.into_iter().filter(|finding| !rests_on_error(finding)).collect()
    }

    /// Takes away what is allowed by name; a name that is none is a finding itself.
    fn silence(&mut self, files: &[File]) {
        for allow in files.iter().flat_map(|file| &file.allowed) {
            let Some(code) = Code::named(&allow.name.text) else {
                let known = crate::codes::CODES.iter().map(|row| row.name);
                let near = crate::near_name(&allow.name.text, known);
                let finding = Finding::new(
                    Code::NoSuchName,
                    allow.name.span,
                    format!("no finding is named `{}`", allow.name.text),
                );
                self.say(
                    finding
                        .label("nothing is allowed by this")
                        .help("`lantern explain` lists them all")
                        .maybe_help(near.map(|near| format!("did you mean `{near}`?"))),
                );
                continue;
            };
            let line = allow.line;
            let silenced = |finding: &Finding| {
                finding.code == code
                    && finding.severity() == Severity::Warning
                    && (line.start..line.end).contains(&finding.span.start)
            };
            self.findings.retain(|finding| !silenced(finding));
        }
    }
}
