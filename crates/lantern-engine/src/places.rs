//! Where the person is: the program in front, its title, the layers that are on, and whether the
//! screen is locked; and which rules apply there.

use lantern_model::{App, LayerId, Rule, Scope};

/// Where the person is.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Place<'a> {
    pub app: &'a App,
    /// The title of the window in front, in lower case.
    pub title: &'a str,
    /// Layers that are on, the one entered last at the end.
    pub layers: &'a [LayerId],
    pub locked: bool,
    /// Whether everything is paused.
    pub paused: bool,
}

impl Place<'_> {
    /// Whether the place is in that scope, input devices left aside.
    pub(crate) fn is_in(&self, scope: &Scope) -> bool {
        let named = |names: &[String]| names.iter().any(|name| self.app.is_named(name));
        scope.layer.is_none_or(|layer| self.layers.contains(&layer))
            && scope.apps.as_deref().is_none_or(named)
            && !named(&scope.not_apps)
            && scope
                .titles
                .as_ref()
                .is_none_or(|titles| titles.iter().any(|title| self.title.contains(title)))
    }

    /// Whether a rule may fire here.
    pub(crate) fn allows(&self, rule: &Rule) -> bool {
        !self.paused && (rule.even_locked || !self.locked) && self.is_in(&rule.scope)
    }

    /// How many layers were entered after the scope's own.
    pub(crate) fn depth_of(&self, scope: &Scope) -> usize {
        scope.layer.map_or(0, |layer| {
            self.layers.iter().rev().position(|known| *known == layer).unwrap_or(0)
        })
    }
}
