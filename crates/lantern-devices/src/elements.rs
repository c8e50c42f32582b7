//! What a program shows of itself on the accessibility bus (AT-SPI): menus and their entries,
//! buttons, links, fields.

use futures::executor::block_on;
use serde::Serialize;
use zbus::zvariant::DynamicType;
use zbus::{Connection, OwnedObjectPath, OwnedVariant, connection};

use crate::{ServiceError, bus};

/// Elements lie no deeper than this in a window.
const DEEPEST: usize = 24;

const ACCESSIBLE: &str = "org.a11y.atspi.Accessible";

/// Roles, by their numbers in the AT-SPI enumeration.
mod role {
    pub(super) const MENU: u32 = 33;
    pub(super) const MENU_BAR: u32 = 34;
}

/// States, by their bits in the AT-SPI enumeration.
mod state {
    pub(super) const ACTIVE: u32 = 1;
    pub(super) const SENSITIVE: u32 = 24;
}

/// The program in front, as the desk knows it.
#[derive(Debug, Clone, Default)]
pub struct Front {
    /// Its process.
    pub process: Option<u32>,
    /// What to call it.
    pub name: String,
    /// Its window's title.
    pub title: String,
}

/// One thing on the accessibility bus.
#[derive(Debug, Clone)]
pub struct Element {
    owner: String,
    path: OwnedObjectPath,
}

/// A connection to the accessibility bus.
#[derive(Debug)]
pub struct Tree {
    bus: Connection,
}

/// Looks whether the accessibility bus can be reached.
///
/// # Errors
/// When it cannot.
pub fn is_there() -> Result<(), ServiceError> {
    Tree::connect().map(drop)
}

/// Chooses an entry of the front program's menus, by the titles on the way to it.
pub fn choose(
    tree: &mut Option<Tree>,
    front: &Front,
    titles: &[String],
) -> Result<(), ServiceError> {
    let open = match tree {
        Some(open) => open,
        None => tree.insert(Tree::connect()?),
    };
    let silent = || ServiceError::Silent { program: front.name.clone() };
    let program = open.program(front)?.ok_or_else(silent)?;
    let window = open.window(&program, &front.title)?.ok_or_else(silent)?;
    let mut bars = Vec::new();
    open.collect(&window, role::MENU_BAR, 0, &mut bars)?;
    let mut level = Vec::new();
    for bar in &bars {
        level.extend(open.children(bar)?);
    }
    if level.is_empty() {
        return Err(silent());
    }
    let mut found = None;
    for title in titles {
        if let Some(parent) = &found {
            level = open.entries(parent)?;
        }
        let names = level.iter().map(|entry| open.name(entry)).collect::<Result<Vec<_>, _>>()?;
        let at = names.iter().position(|name| is_titled(name, title));
        let missing = || ServiceError::NoEntry {
            program: front.name.clone(),
            entry: title.clone(),
            among: among(&names),
        };
        found = Some(level[at.ok_or_else(missing)?].clone());
    }
    let entry = found.ok_or_else(silent)?;
    if !open.has_state(&entry, state::SENSITIVE)? {
        return Err(ServiceError::Greyed { entry: titles.join(", ") });
    }
    open.act(&entry)
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

impl Tree {
    fn connect() -> Result<Tree, ServiceError> {
        let session = bus::session()?;
        let address: String = block_on(async {
            let reply = session
                .call_method(
                    Some("org.a11y.Bus"),
                    "/org/a11y/bus",
                    Some("org.a11y.Bus"),
                    "GetAddress",
                    &(),
                )
                .await?;
            reply.body().deserialize()
        })
        .map_err(|_| ServiceError::NoAccessibility)?;
        let builder = connection::Builder::address(address.as_str());
        let connected = block_on(builder.method_timeout(bus::PATIENCE).build());
        Ok(Tree { bus: connected.map_err(|_| ServiceError::NoAccessibility)? })
    }

    /// The program with that process.
    fn program(&self, front: &Front) -> Result<Option<Element>, ServiceError> {
        let root = Element {
            owner: "org.a11y.atspi.Registry".to_owned(),
            path: OwnedObjectPath::try_from("/org/a11y/atspi/accessible/root")
                .expect("it is a path"),
        };
        for program in self.children(&root)? {
            let process: Result<u32, _> = self.reply(
                "org.freedesktop.DBus",
                "/org/freedesktop/DBus",
                "org.freedesktop.DBus",
                "GetConnectionUnixProcessID",
                &program.owner,
            );
            // One that left just now is not it.
            if process.is_ok_and(|process| Some(process) == front.process) {
                return Ok(Some(program));
            }
        }
        Ok(None)
    }

    /// The program's window of that title, else the active one, else its only one.
    fn window(&self, program: &Element, title: &str) -> Result<Option<Element>, ServiceError> {
        let windows = self.children(program)?;
        for window in &windows {
            if self.name(window)? == title {
                return Ok(Some(window.clone()));
            }
        }
        for window in &windows {
            if self.has_state(window, state::ACTIVE)? {
                return Ok(Some(window.clone()));
            }
        }
        Ok(windows.into_iter().next())
    }

    /// Everything of that role below an element; not what lies within one of them.
    fn collect(
        &self,
        element: &Element,
        wanted: u32,
        depth: usize,
        found: &mut Vec<Element>,
    ) -> Result<(), ServiceError> {
        if depth > DEEPEST {
            return Ok(());
        }
        for child in self.children(element)? {
            let role = self.role(&child)?;
            if role == wanted {
                found.push(child);
            } else if role != role::MENU {
                self.collect(&child, wanted, depth + 1, found)?;
            }
        }
        Ok(())
    }

    /// A menu's entries; some programs put a menu of no name between.
    fn entries(&self, menu: &Element) -> Result<Vec<Element>, ServiceError> {
        let children = self.children(menu)?;
        if let [only] = children.as_slice()
            && self.role(only)? == role::MENU
            && self.name(only)?.is_empty()
        {
            return self.children(only);
        }
        Ok(children)
    }

    fn children(&self, element: &Element) -> Result<Vec<Element>, ServiceError> {
        let children: Vec<(String, OwnedObjectPath)> = self.ask(element, "GetChildren", &())?;
        let no_null = |(_, path): &(String, OwnedObjectPath)| !path.as_str().ends_with("/null");
        let element = |(owner, path)| Element { owner, path };
        Ok(children.into_iter().filter(no_null).map(element).collect())
    }

    fn role(&self, element: &Element) -> Result<u32, ServiceError> {
        self.ask(element, "GetRole", &())
    }

    fn name(&self, element: &Element) -> Result<String, ServiceError> {
        let value: OwnedVariant = self.reply(
            &element.owner,
            element.path.as_str(),
            "org.freedesktop.DBus.Properties",
            "Get",
            &(ACCESSIBLE, "Name"),
        )?;
        Ok(String::try_from(value).unwrap_or_default())
    }

    fn has_state(&self, element: &Element, bit: u32) -> Result<bool, ServiceError> {
        let words: Vec<u32> = self.ask(element, "GetState", &())?;
        let word = words.get(bit as usize / 32).copied().unwrap_or(0);
        Ok(word & (1 << (bit % 32)) != 0)
    }

    /// Does what pressing it would do.
    fn act(&self, element: &Element) -> Result<(), ServiceError> {
        let done: bool = self.reply(
            &element.owner,
            element.path.as_str(),
            "org.a11y.atspi.Action",
            "DoAction",
            &0i32,
        )?;
        if done { Ok(()) } else { Err(ServiceError::Greyed { entry: self.name(element)? }) }
    }

    fn ask<B, R>(&self, element: &Element, method: &str, body: &B) -> Result<R, ServiceError>
    where
        B: Serialize + DynamicType,
        R: serde::de::DeserializeOwned + zbus::zvariant::Type,
    {
        self.reply(&element.owner, element.path.as_str(), ACCESSIBLE, method, body)
    }

    fn reply<B, R>(
        &self,
        owner: &str,
        path: &str,
        interface: &str,
        method: &str,
        body: &B,
    ) -> Result<R, ServiceError>
    where
        B: Serialize + DynamicType,
        R: serde::de::DeserializeOwned + zbus::zvariant::Type,
    {
        let reply =
            block_on(self.bus.call_method(Some(owner), path, Some(interface), method, body))?;
        Ok(reply.body().deserialize()?)
    }
}
