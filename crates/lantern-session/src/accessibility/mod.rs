//! What a program shows of itself on the accessibility bus (AT-SPI): menus and their entries,
//! buttons, links, fields.

mod announcer;
mod fields;
mod numbered;
mod tree;

pub use announcer::Announcer;
pub use fields::watch as watch_fields;
pub use numbered::NumberedElements;
pub(crate) use tree::AccessibilityTree;

use std::thread;
use std::time::{Duration, Instant};

use crate::SessionError;
use tree::{Element, role, state};

/// Maximum time for a menu to open.
const OPENING: Duration = Duration::from_secs(1);
/// Time between two reads of a menu that opens: no event of an opening menu is sent by all
/// programs.
const LOOKING: Duration = Duration::from_millis(20);

/// The program in front, as the back end knows it.
#[derive(Debug, Clone, Default)]
pub struct Front {
    /// Its process.
    pub process: Option<u32>,
    /// What to call it.
    pub name: String,
    /// Its window's title.
    pub title: String,
}

/// Looks whether the accessibility bus can be reached.
///
/// # Errors
/// When it cannot.
pub fn is_there() -> Result<(), SessionError> {
    AccessibilityTree::connect().map(drop)
}

/// Chooses an entry of the front program's menus, by the titles on the way to it.
pub fn choose(
    tree: &mut Option<AccessibilityTree>,
    front: &Front,
    titles: &[String],
) -> Result<(), SessionError> {
    lantern_system::try_twice(tree, AccessibilityTree::connect, |open| {
        choose_in(open, front, titles)
    })
}

fn choose_in(
    tree: &AccessibilityTree,
    front: &Front,
    titles: &[String],
) -> Result<(), SessionError> {
    let window = tree.front_window(front)?;
    let mut bars = Vec::new();
    tree.collect(&window, role::MENU_BAR, 0, &mut bars)?;
    let mut level = Vec::new();
    for bar in &bars {
        level.extend(tree.children(bar)?);
    }
    if level.is_empty() {
        return Err(SessionError::Silent { program: front.name.clone() });
    }
    let mut found: Option<Element> = None;
    for title in titles {
        if let Some(parent) = &found {
            level = opened(tree, parent)?;
        }
        let names = level.iter().map(|entry| tree.name(entry)).collect::<Result<Vec<_>, _>>()?;
        let at = names.iter().position(|name| is_titled(name, title));
        let missing = || SessionError::NoEntry {
            program: front.name.clone(),
            entry: title.clone(),
            among: among(&names),
        };
        found = Some(level[at.ok_or_else(missing)?].clone());
    }
    let silent = || SessionError::Silent { program: front.name.clone() };
    let entry = found.ok_or_else(silent)?;
    if !tree.states(&entry)?.have(state::SENSITIVE) {
        return Err(SessionError::Greyed { entry: titles.join(", ") });
    }
    tree.act(&entry)
}

/// A menu's entries. Some programs fill a menu only when it opens: such a one is opened.
fn opened(tree: &AccessibilityTree, menu: &Element) -> Result<Vec<Element>, SessionError> {
    let entries = tree.entries(menu)?;
    if !entries.is_empty() {
        return Ok(entries);
    }
    tree.act(menu)?;
    wait_for_some(|| tree.entries(menu))
}

/// Looks until there is something, as long as a menu may take to open.
fn wait_for_some<T>(
    look: impl Fn() -> Result<Vec<T>, SessionError>,
) -> Result<Vec<T>, SessionError> {
    let until = Instant::now() + OPENING;
    loop {
        let found = look()?;
        if !found.is_empty() || Instant::now() >= until {
            return Ok(found);
        }
        thread::sleep(LOOKING);
    }
}

/// Whether a menu's entry has that title, spaces, dots and case aside.
fn is_titled(name: &str, title: &str) -> bool {
    let plain = |text: &str| {
        let text = text.trim().trim_end_matches(['.', '…']).trim();
        text.to_lowercase()
    };
    plain(name) == plain(title)
}

fn among(names: &[String]) -> String {
    let named: Vec<&str> = names.iter().map(|n| n.trim()).filter(|n| !n.is_empty()).collect();
    if named.is_empty() { String::new() } else { format!("; there are {}", named.join(", ")) }
}
