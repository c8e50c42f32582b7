//! The context in which triggers are matched and expressions are evaluated: the focused program, the
//! active layers, the layout, the screen lock, pauses, the pointer, the wall clock.
//!
//! Owns what the back ends have reported last. Decides which rules apply. The engine writes it.

use std::collections::BTreeSet;

use lantern_model::{App, ContextFilter, LayerId, Layout, Rect, Rule, Time, WallTime};

/// What a new layout is compared with the one before.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum LayoutChange {
    /// There was none.
    First,
    /// It is another one.
    Changed,
    /// It is the same.
    Unchanged,
}

/// State of the desktop and of the engine by which rules are filtered.
#[derive(Debug)]
pub(crate) struct Context {
    layout: Option<Layout>,
    /// Stands in for the layout until the first one is reported.
    us_layout: Layout,
    app: App,
    /// The title of the focused window, in lower case.
    title: String,
    screens: Vec<Rect>,
    pointer: (i32, i32),
    /// Active layers, the one entered last at the end.
    layers: Vec<LayerId>,
    is_locked: bool,
    /// The process whose password field has the keyboard.
    password_field: Option<u32>,
    is_input_method_active: bool,
    is_all_paused: bool,
    paused_names: BTreeSet<String>,
    clock: WallClock,
}

impl Default for Context {
    fn default() -> Context {
        Context {
            layout: None,
            us_layout: Layout::us(),
            app: App::default(),
            title: String::new(),
            screens: Vec::new(),
            pointer: (0, 0),
            layers: Vec::new(),
            is_locked: false,
            password_field: None,
            is_input_method_active: false,
            is_all_paused: false,
            paused_names: BTreeSet::new(),
            clock: WallClock::default(),
        }
    }
}

impl Context {
    /// The keyboard's layout; the US layout before one was reported.
    pub(crate) fn layout(&self) -> &Layout {
        self.layout.as_ref().unwrap_or(&self.us_layout)
    }

    /// Whether a layout was reported.
    pub(crate) fn has_layout(&self) -> bool {
        self.layout.is_some()
    }

    pub(crate) fn set_layout(&mut self, layout: Layout) -> LayoutChange {
        let change = match &self.layout {
            None => LayoutChange::First,
            Some(before) if *before != layout => LayoutChange::Changed,
            Some(_) => LayoutChange::Unchanged,
        };
        self.layout = Some(layout);
        change
    }

    /// The focused program.
    pub(crate) fn app(&self) -> &App {
        &self.app
    }

    /// Takes the focused program; whether its window is another one than before.
    pub(crate) fn set_app(&mut self, app: App) -> bool {
        let is_new_window = self.app.window != app.window;
        self.title = app.title.to_lowercase();
        self.app = app;
        is_new_window
    }

    pub(crate) fn screens(&self) -> &[Rect] {
        &self.screens
    }

    pub(crate) fn set_screens(&mut self, screens: Vec<Rect>) {
        self.screens = screens;
    }

    /// The place of the pointer in pixels.
    pub(crate) fn pointer(&self) -> (i32, i32) {
        self.pointer
    }

    pub(crate) fn set_pointer(&mut self, x: i32, y: i32) {
        self.pointer = (x, y);
    }

    /// Active layers, the one entered last at the end.
    pub(crate) fn layers(&self) -> &[LayerId] {
        &self.layers
    }

    pub(crate) fn set_layers(&mut self, layers: Vec<LayerId>) {
        self.layers = layers;
    }

    /// Switches a layer on, above all others, or off.
    pub(crate) fn switch_layer(&mut self, layer: LayerId, on: bool) {
        self.layers.retain(|known| *known != layer);
        if on {
            self.layers.push(layer);
        }
    }

    pub(crate) fn is_locked(&self) -> bool {
        self.is_locked
    }

    /// Takes whether the screen is locked; whether that has changed.
    pub(crate) fn set_locked(&mut self, locked: bool) -> bool {
        std::mem::replace(&mut self.is_locked, locked) != locked
    }

    /// Takes the process whose password field has the keyboard.
    pub(crate) fn set_password_field(&mut self, process: Option<u32>) {
        self.password_field = process;
    }

    /// Whether the keyboard goes to a password field.
    pub(crate) fn is_password_field_focused(&self) -> bool {
        self.password_field.is_some() && self.password_field == self.app.process
    }

    pub(crate) fn is_input_method_active(&self) -> bool {
        self.is_input_method_active
    }

    pub(crate) fn set_input_method_active(&mut self, is_active: bool) {
        self.is_input_method_active = is_active;
    }

    /// Whether all rules are paused.
    pub(crate) fn is_all_paused(&self) -> bool {
        self.is_all_paused
    }

    /// Names of rules that are paused by their name.
    pub(crate) fn paused_names(&self) -> &BTreeSet<String> {
        &self.paused_names
    }

    /// Whether a rule is paused, by its name or with all others.
    pub(crate) fn is_paused(&self, rule: &Rule) -> bool {
        let by_name = |name: &String| self.paused_names.contains(name);
        self.is_all_paused || rule.name.as_ref().is_some_and(by_name)
    }

    pub(crate) fn pause_all(&mut self) {
        self.is_all_paused = true;
    }

    pub(crate) fn pause_named(&mut self, name: &str) {
        self.paused_names.insert(name.to_owned());
    }

    /// Ends the pause of a name; whether it was paused.
    pub(crate) fn resume_named(&mut self, name: &str) -> bool {
        self.paused_names.remove(name)
    }

    pub(crate) fn resume_all(&mut self) {
        self.is_all_paused = false;
        self.paused_names.clear();
    }

    /// Forgets pauses of names that no rule has.
    pub(crate) fn retain_paused(&mut self, is_known: impl Fn(&str) -> bool) {
        self.paused_names.retain(|name| is_known(name));
    }

    pub(crate) fn clock(&self) -> &WallClock {
        &self.clock
    }

    pub(crate) fn set_clock(&mut self, now: Time, wall: WallTime) {
        self.clock = WallClock { told: Some((now, wall)) };
    }

    /// Whether the context passes a filter, its input devices left aside.
    pub(crate) fn is_in(&self, filter: &ContextFilter) -> bool {
        let named = |names: &[String]| names.iter().any(|name| self.app.is_named(name));
        filter.layer.is_none_or(|layer| self.layers.contains(&layer))
            && filter.apps.as_deref().is_none_or(named)
            && !named(&filter.not_apps)
            && filter
                .titles
                .as_ref()
                .is_none_or(|titles| titles.iter().any(|title| self.title.contains(title)))
    }

    /// Whether a rule may fire in this context.
    pub(crate) fn allows(&self, rule: &Rule) -> bool {
        !self.is_all_paused
            && (rule.allowed_when_locked || !self.is_locked)
            && self.is_in(&rule.filter)
    }

    /// Number of layers that were entered after the filter's own.
    pub(crate) fn depth_of(&self, filter: &ContextFilter) -> usize {
        filter.layer.map_or(0, |layer| {
            self.layers.iter().rev().position(|known| *known == layer).unwrap_or(0)
        })
    }

    /// The part of a filter that the context does not pass, for a person.
    pub(crate) fn unmet_filter(
        &self,
        filter: &ContextFilter,
        layer_names: &[String],
    ) -> Option<String> {
        let front = || match self.app.name() {
            _ if self.app.window == 0 => "no program is in front".to_owned(),
            name => format!("{name} is in front"),
        };
        if let Some(layer) = filter.layer.filter(|layer| !self.layers.contains(layer)) {
            return Some(format!("the layer {} is not on", layer_names[layer.0]));
        }
        if let Some(apps) = &filter.apps
            && !apps.iter().any(|app| self.app.is_named(app))
        {
            return Some(format!("it is for {}, and {}", apps.join(", "), front()));
        }
        if filter.not_apps.iter().any(|app| self.app.is_named(app)) {
            return Some(format!("it is not for {}", self.app.name()));
        }
        if let Some(titles) = &filter.titles
            && !titles.iter().any(|title| self.title.contains(title))
        {
            return Some(format!("it wants a title with \"{}\"", titles.join("\" or \"")));
        }
        None
    }
}

/// The wall clock as it was reported last, with the time of that report.
#[derive(Debug, Default)]
pub(crate) struct WallClock {
    told: Option<(Time, WallTime)>,
}

impl WallClock {
    /// What the clock shows, if it was reported.
    pub(crate) fn wall(&self, now: Time) -> Option<WallTime> {
        let (at, wall) = self.told?;
        let passed = i64::try_from(now.since(at).as_secs()).unwrap_or(i64::MAX);
        Some(WallTime { local: wall.local.saturating_add(passed), offset: wall.offset })
    }

    /// When it was reported last; `now` if it never was.
    pub(crate) fn told_at(&self, now: Time) -> Time {
        self.told.map_or(now, |(at, _)| at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn app(name: &str, window: u64) -> App {
        App { window, names: vec![name.to_owned()], title: "Core 12".to_owned(), ..App::default() }
    }

    fn scope(apps: &[&str]) -> ContextFilter {
        let apps = apps.iter().map(|app| (*app).to_owned()).collect();
        ContextFilter { apps: Some(apps), ..ContextFilter::default() }
    }

    #[test]
    fn a_filter_of_programs_and_titles_passes_where_both_fit() {
        let mut context = Context::default();
        assert!(context.set_app(app("corelog", 7)));
        assert!(!context.set_app(app("corelog", 7)), "the window is the same one");
        assert!(context.is_in(&scope(&["corelog", "drill"])) && !context.is_in(&scope(&["drill"])));
        let titled = |title: &str| ContextFilter {
            titles: Some(vec![title.to_owned()]),
            ..scope(&["corelog"])
        };
        assert!(context.is_in(&titled("core 1")));
        assert!(!context.is_in(&titled("drill")));
        let unmet = context.unmet_filter(&titled("drill"), &[]);
        assert_eq!(unmet.as_deref(), Some("it wants a title with \"drill\""));
    }

    #[test]
    fn the_layer_entered_last_is_the_nearest() {
        let mut context = Context::default();
        let of = |layer| ContextFilter { layer: Some(LayerId(layer)), ..ContextFilter::default() };
        context.switch_layer(LayerId(0), true);
        context.switch_layer(LayerId(1), true);
        assert_eq!((context.depth_of(&of(0)), context.depth_of(&of(1))), (1, 0));
        context.switch_layer(LayerId(0), true);
        assert_eq!((context.depth_of(&of(0)), context.depth_of(&of(1))), (0, 1));
        context.switch_layer(LayerId(1), false);
        assert!(context.is_in(&of(0)) && !context.is_in(&of(1)));
    }

    #[test]
    fn pauses_and_the_lock_keep_rules_from_firing() {
        let named = Rule { name: Some("log".to_owned()), ..Rule::default() };
        let always = Rule { allowed_when_locked: true, ..Rule::default() };
        let mut context = Context::default();
        context.pause_named("log");
        assert!(context.is_paused(&named) && !context.is_paused(&always));
        assert!(context.resume_named("log") && !context.resume_named("log"));
        assert!(context.set_locked(true) && !context.set_locked(true));
        assert!(!context.allows(&named) && context.allows(&always));
        context.pause_all();
        assert!(!context.allows(&always) && context.is_paused(&named));
        context.resume_all();
        assert!(context.allows(&always));
    }

    #[test]
    fn a_layout_is_compared_with_the_one_before() {
        let mut context = Context::default();
        assert!(!context.has_layout());
        assert_eq!(context.set_layout(Layout::us()), LayoutChange::First);
        assert_eq!(context.set_layout(Layout::us()), LayoutChange::Unchanged);
        let slower = Layout {
            repeat: lantern_model::KeyRepeat {
                delay: std::time::Duration::from_secs(1),
                ..Layout::us().repeat
            },
            ..Layout::us()
        };
        assert_eq!(context.set_layout(slower), LayoutChange::Changed);
    }

    #[test]
    fn a_password_field_counts_while_its_process_is_in_front() {
        let mut context = Context::default();
        context.set_password_field(Some(31));
        assert!(!context.is_password_field_focused());
        context.set_app(App { process: Some(31), ..app("corelog", 7) });
        assert!(context.is_password_field_focused());
        context.set_password_field(None);
        assert!(!context.is_password_field_focused());
    }
}
