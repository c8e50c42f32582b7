//! The context in which triggers are matched: the focused program, its title, the active layers, the screen
//! lock and a pause.
//!
//! Decides which rules apply in a context. Owns nothing: the engine builds one from its state for each
//! decision.

use lantern_model::{App, ContextFilter, LayerId, Rule};

/// State of the desktop and of the engine by which rules are filtered.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Context<'a> {
    /// The focused program.
    pub app: &'a App,
    /// The title of the focused window, in lower case.
    pub title: &'a str,
    /// Active layers, the one entered last at the end.
    pub layers: &'a [LayerId],
    /// Whether the screen is locked.
    pub locked: bool,
    /// Whether all rules are paused.
    pub paused: bool,
}

impl Context<'_> {
    /// Whether the context passes a filter, its input devices left aside.
    pub(crate) fn is_in(&self, scope: &ContextFilter) -> bool {
        let named = |names: &[String]| names.iter().any(|name| self.app.is_named(name));
        scope.layer.is_none_or(|layer| self.layers.contains(&layer))
            && scope.apps.as_deref().is_none_or(named)
            && !named(&scope.not_apps)
            && scope
                .titles
                .as_ref()
                .is_none_or(|titles| titles.iter().any(|title| self.title.contains(title)))
    }

    /// Whether a rule may fire in this context.
    pub(crate) fn allows(&self, rule: &Rule) -> bool {
        !self.paused && (rule.allowed_when_locked || !self.locked) && self.is_in(&rule.filter)
    }

    /// Number of layers that were entered after the filter's own.
    pub(crate) fn depth_of(&self, scope: &ContextFilter) -> usize {
        scope.layer.map_or(0, |layer| {
            self.layers.iter().rev().position(|known| *known == layer).unwrap_or(0)
        })
    }
}
