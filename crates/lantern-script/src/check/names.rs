//! Who is called what: top-level values, macros, rules, and the names inside a body.

use std::collections::BTreeMap;

use lantern_model::{Parameter, Routine, RoutineId};

use super::Checker;
use super::kinds::Kind;
use crate::codes::Code;
use crate::tree::{ClauseKind, Macro, Name, When};
use crate::{Finding, Span, near_name};

/// A top-level value.
struct Global {
    index: usize,
    kind: Kind,
    span: Span,
    used: bool,
}

/// A macro.
struct Definition {
    id: RoutineId,
    span: Span,
    used: bool,
}

/// A name inside a body.
struct Local {
    name: String,
    slot: usize,
    kind: Kind,
    span: Span,
    used: bool,
}

#[derive(Default)]
pub(super) struct Names {
    globals: BTreeMap<String, Global>,
    macros: BTreeMap<String, Definition>,
    rules: BTreeMap<String, Span>,
    locals: Vec<Local>,
    slots: usize,
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

    fn known(&self) -> impl Iterator<Item = &str> {
        let locals = self.locals.iter().map(|local| local.name.as_str());
        locals.chain(self.globals.keys().map(String::as_str))
    }
}

impl Checker<'_> {
    pub(super) fn declare_global(&mut self, name: &Name, kind: Kind) {
        let index = self.set.globals.len();
        let global = Global { index, kind, span: name.span, used: false };
        if let Some(earlier) = self.names.globals.insert(name.text.clone(), global) {
            self.say_named_twice("value", name, earlier.span);
        }
    }

    pub(super) fn declare_macro(&mut self, definition: &Macro) {
        let id = RoutineId(self.set.routines.len());
        let name = &definition.name;
        let parameters = definition.parameters.iter().map(|(parameter, default)| {
            // Defaults are lowered with the body; here it only counts that there is one.
            let default = default.as_ref().map(|_| super::exprs::nothing());
            Parameter { name: parameter.text.clone(), default }
        });
        self.set.routines.push(Routine {
            name: name.text.clone(),
            parameters: parameters.collect(),
            ..Routine::default()
        });
        self.calls.push(Vec::new());
        let entry = Definition { id, span: name.span, used: false };
        if let Some(earlier) = self.names.macros.insert(name.text.clone(), entry) {
            self.say_named_twice("macro", name, earlier.span);
        }
    }

    pub(super) fn declare_rule_name(&mut self, rule: &When) {
        for clause in &rule.clauses {
            if let ClauseKind::Named(name) = &clause.kind
                && let Some(earlier) = self.names.rules.insert(name.text.clone(), name.span)
            {
                self.say_named_twice("rule", name, earlier);
            }
        }
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
    pub(super) fn declare_local(&mut self, name: &Name, kind: Kind) -> usize {
        let earlier = self.names.locals.iter().find(|local| local.name == name.text);
        let earlier = earlier
            .map(|local| local.span)
            .or_else(|| self.names.globals.get(&name.text).map(|global| global.span));
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
            if !local.used && !self.mentions.contains(&local.name) {
                self.say_unused("value", &local.name, local.span);
            }
        }
    }

    fn say_unused(&mut self, what: &str, name: &str, span: Span) {
        self.say(
            Finding::new(Code::Unused, span, format!("the {what} `{name}` is never used"))
                .label("never used")
                .help("remove it, or use it"),
        );
    }

    /// The expression and kind of a value's name.
    pub(super) fn find_value(&mut self, word: &str, span: Span) -> Option<FoundValue> {
        if let Some(local) = self.names.locals.iter_mut().rev().find(|local| local.name == word) {
            local.used = true;
            return Some(FoundValue::Local(local.slot, local.kind));
        }
        if let Some(global) = self.names.globals.get_mut(word) {
            global.used = true;
            return Some(FoundValue::Global(global.index, global.kind));
        }
        if !self.broken.contains(word) {
            self.say_no_value(word, span);
        }
        None
    }

    fn say_no_value(&mut self, word: &str, span: Span) {
        let finding = Finding::new(Code::NoSuchName, span, format!("there is no value `{word}`"))
            .label("no such value");
        let parts = word.split_once('-').filter(|(left, right)| {
            let known = |part: &str| {
                part.bytes().all(|byte| byte.is_ascii_digit())
                    || self.names.known().any(|n| n == part)
            };
            known(left) && known(right)
        });
        let finding = if let Some((left, right)) = parts {
            let text = format!("{left} - {right}");
            finding.help(format!("a minus has a space on both sides: `{text}`")).fix(span, text)
        } else if let Some(near) = near_name(word, self.names.known()).map(str::to_owned) {
            finding.help(format!("did you mean `{near}`?")).fix(span, near)
        } else if lantern_model::Key::named(word).is_some() {
            finding.help(format!("for the key write `key {word}`"))
        } else {
            finding.help(format!("name it first: `let {word} = ...`; a text stands between quotes"))
        };
        self.say(finding);
    }

    /// The macro with that name.
    pub(super) fn find_macro(&mut self, name: &Name) -> Option<RoutineId> {
        if let Some(definition) = self.names.macros.get_mut(&name.text) {
            definition.used = true;
            return Some(definition.id);
        }
        if self.broken.contains(&name.text) {
            return None;
        }
        let near = near_name(&name.text, self.names.macros.keys().map(String::as_str));
        let finding =
            Finding::new(Code::NoSuchName, name.span, format!("there is no macro `{}`", name.text))
                .label("no such macro");
        let finding = match near {
            Some(near) => finding.help(format!("did you mean `{near}`?")).fix(name.span, near),
            None => finding.help(format!("write one: `macro {}() {{ ... }}`", name.text)),
        };
        self.say(finding);
        None
    }

    /// The number of the macro being lowered.
    pub(super) fn macro_id(&self, definition: &Macro) -> RoutineId {
        let entry = self.names.macros.get(&definition.name.text);
        entry.expect("macros are declared before they are lowered").id
    }

    /// Whether a rule has that name; says so if not.
    pub(super) fn check_rule_name(&mut self, name: &Name) {
        if self.names.rules.contains_key(&name.text) || self.broken.contains(&name.text) {
            return;
        }
        let near = near_name(&name.text, self.names.rules.keys().map(String::as_str));
        let finding =
            Finding::new(Code::NoSuchName, name.span, format!("no rule is named `{}`", name.text))
                .label("no such rule");
        let finding = match near {
            Some(near) => finding.help(format!("did you mean `{near}`?")).fix(name.span, near),
            None => finding.help(format!("give a rule the name: `when ... named {}`", name.text)),
        };
        self.say(finding);
    }

    /// What is set must be there; gives where it is kept.
    pub(super) fn find_target(&mut self, name: &Name) -> Option<FoundValue> {
        // Being set is not being used, so the mark is put back.
        let used_before: Option<bool> = self
            .names
            .locals
            .iter()
            .rev()
            .find(|local| local.name == name.text)
            .map(|local| local.used)
            .or_else(|| self.names.globals.get(&name.text).map(|global| global.used));
        let found = self.find_value(&name.text, name.span)?;
        let used = used_before.unwrap_or(true);
        match found {
            FoundValue::Local(slot, _) => {
                let local = self.names.locals.iter_mut().find(|local| local.slot == slot);
                local.expect("it was found just now").used = used;
            }
            FoundValue::Global(..) => {
                let global = self.names.globals.get_mut(&name.text);
                global.expect("it was found just now").used = used;
            }
        }
        Some(found)
    }

    /// Says which macros and top-level values nothing uses.
    pub(super) fn check_unused(&mut self) {
        let macros = self.names.macros.iter().filter(|(_, definition)| !definition.used);
        let macros = macros.map(|(name, definition)| ("macro", name.clone(), definition.span));
        let globals = self.names.globals.iter().filter(|(_, global)| !global.used);
        let globals = globals.map(|(name, global)| ("value", name.clone(), global.span));
        let unused: Vec<_> =
            macros.chain(globals).filter(|(_, name, _)| !self.mentions.contains(name)).collect();
        for (what, name, span) in unused {
            self.say_unused(what, &name, span);
        }
    }
}

/// Where a value is kept, and what kind it is.
#[derive(Clone, Copy)]
pub(super) enum FoundValue {
    Local(usize, Kind),
    Global(usize, Kind),
}
