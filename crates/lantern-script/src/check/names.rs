//! Name resolution: items at the top of a set, and names inside a body.
//!
//! Names of a file that is used `as NAME` have the prefix `NAME.`. Inside that file names are looked up
//! with that prefix: each use of a file has names of its own.

use std::collections::BTreeMap;

use lantern_model::code::{AssignTarget, WorldQuery};
use lantern_model::{DeviceId, LayerId, RoutineId};

use super::Checker;
use super::kinds::ValueKind;
use crate::codes::Code;
use crate::parser::everyday_words::everyday_value;
use crate::tree::Name;
use crate::{Finding, Span, near_name};

/// What sort of thing a name at the top of a set is for. Names of different sorts may be the same.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum ItemKind {
    Value,
    Macro,
    Rule,
    Layer,
    Device,
    Secret,
    Shape,
    Words,
    /// What `launch ... as` started.
    Started,
}

impl ItemKind {
    pub(super) fn word(self) -> &'static str {
        match self {
            ItemKind::Value => "value",
            ItemKind::Macro => "macro",
            ItemKind::Rule => "rule",
            ItemKind::Layer => "layer",
            ItemKind::Device => "device",
            ItemKind::Secret => "secret",
            ItemKind::Shape => "shape",
            ItemKind::Words => "list of words",
            ItemKind::Started => "started program",
        }
    }

    /// How to define one, for the help of an unknown name.
    fn recipe(self, name: &str) -> String {
        match self {
            ItemKind::Value => format!("name it first: `let {name} = ...`"),
            ItemKind::Macro => format!("write one: `macro {name}() {{ ... }}`"),
            ItemKind::Rule => format!("give a rule the name: `when ... named {name}`"),
            ItemKind::Layer => format!("write one: `layer {name} {{ ... }}`"),
            ItemKind::Device => {
                format!("name it first: `device {name} = serial \"/dev/ttyACM0\" at 9600`")
            }
            ItemKind::Secret => format!("name it first: `secret {name} = file \"{name}.txt\"`"),
            ItemKind::Shape => format!("draw it first: `shape {name} = path \"down right\"`"),
            ItemKind::Words => format!("name them first: `words {name} = \"one | other\"`"),
            ItemKind::Started => format!("name it where it starts: `launch \"program\" as {name}`"),
        }
    }
}

/// Something named at the top of a set.
pub(super) struct NamedItem {
    pub(super) index: usize,
    pub(super) span: Span,
    pub(super) kind: ValueKind,
    pub(super) used: bool,
}

/// A name inside a body.
struct Local {
    name: String,
    slot: usize,
    kind: ValueKind,
    span: Span,
    used: bool,
}

#[derive(Default)]
pub(super) struct Names {
    top: BTreeMap<(ItemKind, String), NamedItem>,
    locals: Vec<Local>,
    slots: usize,
    /// What the names of the file at hand stand under, with a dot at its end.
    pub(super) prefix: String,
    /// Whether the body may ask `held`.
    pub(super) asks_held: bool,
}

impl Names {
    /// Begins a body with no names of its own.
    pub(super) fn begin_body(&mut self) {
        self.locals.clear();
        self.slots = 0;
        self.asks_held = false;
    }

    /// How many slots the body needed.
    pub(super) fn slots(&self) -> usize {
        self.slots
    }

    /// How many names are visible now; hand it to [`Checker::end_block`].
    pub(super) fn mark(&self) -> usize {
        self.locals.len()
    }

    /// A name as it stands in the table.
    pub(super) fn full(&self, name: &str) -> String {
        format!("{}{name}", self.prefix)
    }

    pub(super) fn get(&self, sort: ItemKind, name: &str) -> Option<&NamedItem> {
        self.top.get(&(sort, self.full(name)))
    }

    pub(super) fn get_mut(&mut self, sort: ItemKind, name: &str) -> Option<&mut NamedItem> {
        let key = (sort, self.full(name));
        self.top.get_mut(&key)
    }

    /// Everything of a sort with its full name.
    pub(super) fn all(&self, sort: ItemKind) -> impl Iterator<Item = (&str, &NamedItem)> {
        self.top
            .iter()
            .filter(move |((found, _), _)| *found == sort)
            .map(|((_, name), entry)| (name.as_str(), entry))
    }

    /// The names of a sort, as the file at hand would write them.
    fn known(&self, sort: ItemKind) -> impl Iterator<Item = &str> {
        self.all(sort).filter_map(|(name, _)| name.strip_prefix(self.prefix.as_str()))
    }

    fn known_values(&self) -> impl Iterator<Item = &str> {
        self.locals.iter().map(|local| local.name.as_str()).chain(self.known(ItemKind::Value))
    }
}

/// Where a value is kept, what kind it is, and what of its name is left: parts of a record.
pub(super) struct FoundValue<'n> {
    pub(super) target: AssignTarget,
    pub(super) kind: ValueKind,
    pub(super) parts: &'n str,
}

impl Checker<'_> {
    /// Gives a name to something at the top of the set.
    pub(super) fn declare(&mut self, sort: ItemKind, name: &Name, index: usize, kind: ValueKind) {
        let key = (sort, self.names.full(&name.text));
        if let Some(earlier) = self.names.top.get(&key) {
            let earlier = earlier.span;
            self.say_named_twice(sort.word(), name, earlier);
            return;
        }
        self.names.top.insert(key, NamedItem { index, span: name.span, kind, used: false });
    }

    fn say_named_twice(&mut self, what: &str, name: &Name, earlier: Span) {
        self.say(
            Finding::new(
                Code::NamedTwice,
                name.span,
                format!("there is a {what} `{}` already", name.text),
            )
            .label("named again")
            .other(earlier, "named first")
            .help("choose another name for one of them"),
        );
    }

    /// A new name in the present block; gives its slot.
    pub(super) fn declare_local(&mut self, name: &Name, kind: ValueKind) -> usize {
        let earlier = self.names.locals.iter().find(|local| local.name == name.text);
        let earlier = earlier
            .map(|local| local.span)
            .or_else(|| self.names.get(ItemKind::Value, &name.text).map(|global| global.span));
        if let Some(earlier) = earlier {
            self.say_named_twice("value", name, earlier);
        }
        let slot = self.names.slots;
        self.names.slots += 1;
        let local = Local { name: name.text.clone(), slot, kind, span: name.span, used: false };
        self.names.locals.push(local);
        slot
    }

    /// Forgets the names of a block, saying which were never used.
    pub(super) fn end_block(&mut self, mark: usize) {
        for local in self.names.locals.split_off(mark) {
            if !local.used && !self.broken.contains(&local.name) {
                self.say_unused("value", &local.name, local.span);
            }
        }
    }

    fn say_unused(&mut self, what: &str, name: &str, span: Span) {
        let finding =
            Finding::new(Code::Unused, span, format!("the {what} `{name}` is never used"))
                .label("never used");
        self.say(if lantern_model::Key::named(name).is_some() {
            let help = format!("`{name}` alone is the key of that name: the value is `({name})`");
            finding.help(help)
        } else {
            finding.help("remove it, or use it")
        });
    }

    /// Something of a sort other than a value; said if it is not there.
    pub(super) fn find(&mut self, sort: ItemKind, name: &Name) -> Option<usize> {
        if let Some(entry) = self.names.get_mut(sort, &name.text) {
            entry.used = true;
            return Some(entry.index);
        }
        if !self.broken.contains(&name.text) {
            self.say_no_such(sort, name);
        }
        None
    }

    fn say_no_such(&mut self, sort: ItemKind, name: &Name) {
        let what = sort.word();
        let message = match sort {
            ItemKind::Rule => format!("no rule is named `{}`", name.text),
            ItemKind::Started => format!("nothing is started as `{}`", name.text),
            _ => format!("there is no {what} `{}`", name.text),
        };
        let near = near_name(&name.text, self.names.known(sort)).map(str::to_owned);
        let finding =
            Finding::new(Code::NoSuchName, name.span, message).label(format!("no such {what}"));
        self.say(match near {
            Some(near) => {
                finding.help(format!("did you mean `{near}`?")).likely_fix(name.span, near)
            }
            None => finding.help(sort.recipe(&name.text)),
        });
    }

    pub(super) fn find_macro(&mut self, name: &Name) -> Option<RoutineId> {
        self.find(ItemKind::Macro, name).map(RoutineId)
    }

    pub(super) fn find_device(&mut self, name: &Name) -> Option<DeviceId> {
        self.find(ItemKind::Device, name).map(DeviceId)
    }

    /// A layer that a rule is in.
    pub(super) fn find_layer(&mut self, name: &Name) -> Option<LayerId> {
        self.find(ItemKind::Layer, name).map(LayerId)
    }

    /// A value by its name, which may have parts of a record behind dots.
    pub(super) fn find_value<'n>(&mut self, word: &'n str, span: Span) -> Option<FoundValue<'n>> {
        let (first, parts) = word.split_once('.').unwrap_or((word, ""));
        if let Some(local) = self.names.locals.iter_mut().rev().find(|local| local.name == first) {
            local.used = true;
            return Some(FoundValue {
                target: AssignTarget::Local(local.slot),
                kind: local.kind,
                parts,
            });
        }
        // The longest name that is known: `room.reading` before `room`.
        let ends = std::iter::once(word.len()).chain(word.rmatch_indices('.').map(|(at, _)| at));
        for end in ends {
            if let Some(entry) = self.names.get_mut(ItemKind::Value, &word[..end]) {
                entry.used = true;
                let parts = word[end..].trim_start_matches('.');
                let target = AssignTarget::Global(entry.index);
                return Some(FoundValue { target, kind: entry.kind, parts });
            }
        }
        if !self.broken.contains(first) {
            self.say_no_value(word, span);
        }
        None
    }

    fn say_no_value(&mut self, word: &str, span: Span) {
        if let Some(entry) = self.names.get_mut(ItemKind::Secret, word) {
            entry.used = true;
            let message = format!("`{word}` is a secret, which only devices are shown");
            let finding = Finding::new(Code::WrongKind, span, message).label("a secret");
            self.say(
                finding.help("it stands behind the `with` of a `device` line, and nowhere else"),
            );
            return;
        }
        let finding = Finding::new(Code::NoSuchName, span, format!("there is no value `{word}`"))
            .label("no such value");
        let parts = word.split_once('-').filter(|(left, right)| {
            let known = |part: &str| {
                part.bytes().all(|byte| byte.is_ascii_digit())
                    || self.names.known_values().any(|name| name == part)
            };
            known(left) && known(right)
        });
        let asked = WorldQuery::PARTS.map(|(thing, part, _)| format!("{thing}.{part}"));
        let known = self.names.known_values().chain(asked.iter().map(String::as_str));
        let near = near_name(word, known).map(str::to_owned);
        let finding = if let Some((left, right)) = parts {
            let text = format!("{left} - {right}");
            finding.help(format!("a minus has a space on both sides: `{text}`")).fix(span, text)
        } else if let Some(near) = near {
            finding.help(format!("did you mean `{near}`?")).likely_fix(span, near)
        } else if let Some(query) = asked.iter().find(|query| query.ends_with(&format!(".{word}")))
        {
            finding.help(format!("write `{query}`")).likely_fix(span, query.as_str())
        } else if lantern_model::Key::named(word).is_some() {
            finding.help(format!("for the key write `key {word}`"))
        } else if lantern_model::Modifier::from_word(word).is_some() {
            finding.help(format!("for a combination of keys write `key {word}+...`"))
        } else if let Some(text) = everyday_value(word) {
            finding.help(format!("write `{text}`")).fix(span, text)
        } else {
            let text = format!("\"{word}\"");
            let help =
                format!("for the text write `{text}`; a value is named first: `let {word} = ...`");
            finding.help(help).likely_fix(span, text)
        };
        self.say(finding);
    }

    /// What is set must be there; being set is not being used.
    pub(super) fn find_target(&mut self, name: &Name) -> Option<(AssignTarget, ValueKind)> {
        let local = self.names.locals.iter().rposition(|local| local.name == name.text);
        if let Some(local) = local {
            let local = &self.names.locals[local];
            return Some((AssignTarget::Local(local.slot), local.kind));
        }
        if let Some(global) = self.names.get(ItemKind::Value, &name.text) {
            return Some((AssignTarget::Global(global.index), global.kind));
        }
        if !self.broken.contains(&name.text) {
            self.say_no_value(&name.text, name.span);
        }
        None
    }

    /// Says what of the first file nothing uses; other files may hold more than is needed.
    pub(super) fn check_unused(&mut self) {
        let sorts = [
            ItemKind::Value,
            ItemKind::Macro,
            ItemKind::Device,
            ItemKind::Secret,
            ItemKind::Shape,
            ItemKind::Words,
        ];
        let first = self.source.span_of(0);
        let unused: Vec<(&str, String, Span)> = sorts
            .into_iter()
            .flat_map(|sort| self.names.all(sort).map(move |(name, entry)| (sort, name, entry)))
            .filter(|(_, name, entry)| {
                !entry.used && entry.span.end <= first.end && !self.broken.contains(*name)
            })
            .map(|(sort, name, entry)| (sort.word(), name.to_owned(), entry.span))
            .collect();
        for (what, name, span) in unused {
            self.say_unused(what, &name, span);
        }
    }
}
