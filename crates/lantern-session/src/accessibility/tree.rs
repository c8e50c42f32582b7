//! What programs show of themselves on the accessibility bus: elements, with their names, roles,
//! states, places and actions. Decides nothing.

use futures::executor::block_on;
use lantern_model::Rect;
use serde::Serialize;
use zbus::zvariant::DynamicType;
use zbus::{Connection, OwnedObjectPath, OwnedVariant, connection};

use super::Front;
use lantern_system::ConnectionError as _;

use crate::{SessionError, bus};

/// Elements lie no deeper than this in a window.
pub(super) const DEEPEST: usize = 24;

/// Maximum number of elements of a window that are asked whether they have the focus.
const MAX_ASKED: usize = 1000;

/// Bus name of the registry, which lists every program on the accessibility bus.
pub(super) const REGISTRY: &str = "org.a11y.atspi.Registry";
/// Where a program's own element is, and the registry's.
pub(super) const ROOT: &str = "/org/a11y/atspi/accessible/root";

const ACCESSIBLE: &str = "org.a11y.atspi.Accessible";
const COMPONENT: &str = "org.a11y.atspi.Component";

/// Roles, by their numbers in the AT-SPI enumeration.
pub(super) mod role {
    pub(in crate::accessibility) const CHECK_BOX: u32 = 7;
    pub(in crate::accessibility) const CHECK_MENU_ITEM: u32 = 8;
    pub(in crate::accessibility) const COMBO_BOX: u32 = 11;
    pub(in crate::accessibility) const LIST_ITEM: u32 = 32;
    pub(in crate::accessibility) const MENU: u32 = 33;
    pub(in crate::accessibility) const MENU_BAR: u32 = 34;
    pub(in crate::accessibility) const MENU_ITEM: u32 = 35;
    pub(in crate::accessibility) const PAGE_TAB: u32 = 37;
    pub(in crate::accessibility) const PASSWORD_TEXT: u32 = 40;
    pub(in crate::accessibility) const PUSH_BUTTON: u32 = 43;
    pub(in crate::accessibility) const RADIO_BUTTON: u32 = 44;
    pub(in crate::accessibility) const RADIO_MENU_ITEM: u32 = 45;
    pub(in crate::accessibility) const SLIDER: u32 = 51;
    pub(in crate::accessibility) const SPIN_BUTTON: u32 = 52;
    pub(in crate::accessibility) const TEXT: u32 = 61;
    pub(in crate::accessibility) const TOGGLE_BUTTON: u32 = 62;
    pub(in crate::accessibility) const ENTRY: u32 = 79;
    pub(in crate::accessibility) const LINK: u32 = 88;
    pub(in crate::accessibility) const TREE_ITEM: u32 = 91;
}

/// States, by their bits in the AT-SPI enumeration.
pub(super) mod state {
    pub(in crate::accessibility) const ACTIVE: u32 = 1;
    pub(in crate::accessibility) const FOCUSED: u32 = 12;
    pub(in crate::accessibility) const SENSITIVE: u32 = 24;
    pub(in crate::accessibility) const SHOWING: u32 = 25;
}

/// One thing on the accessibility bus.
#[derive(Debug, Clone)]
pub struct Element {
    pub(super) owner: String,
    pub(super) path: OwnedObjectPath,
}

/// The states an element is in.
#[derive(Debug)]
pub(super) struct States(Vec<u32>);

impl States {
    pub(super) fn have(&self, bit: u32) -> bool {
        let word = self.0.get(bit as usize / 32).copied().unwrap_or(0);
        word & (1 << (bit % 32)) != 0
    }
}

/// A connection to the accessibility bus.
#[derive(Debug)]
pub struct AccessibilityTree {
    bus: Connection,
}

impl AccessibilityTree {
    pub(super) fn connect() -> Result<AccessibilityTree, SessionError> {
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
        .map_err(|_| SessionError::NoAccessibility)?;
        let builder = connection::Builder::address(address.as_str());
        let connected = block_on(builder.method_timeout(bus::PATIENCE).build());
        Ok(AccessibilityTree { bus: connected.map_err(|_| SessionError::NoAccessibility)? })
    }

    /// The window in front.
    pub(super) fn front_window(&self, front: &Front) -> Result<Element, SessionError> {
        let silent = || SessionError::Silent { program: front.name.clone() };
        let program = self.program(front)?.ok_or_else(silent)?;
        self.window(&program, &front.title)?.ok_or_else(silent)
    }

    /// Every program on the bus.
    fn programs(&self) -> Result<Vec<Element>, SessionError> {
        let path = OwnedObjectPath::try_from(ROOT).expect("it is a path");
        self.children(&Element { owner: REGISTRY.to_owned(), path })
    }

    /// The element that has the focus in the active window, if a program on the bus has that window.
    /// Looks at no more than [`MAX_ASKED`] elements.
    pub(super) fn focused_element(&self) -> Result<Option<Element>, SessionError> {
        for program in self.programs()? {
            for window in self.children(&program).unwrap_or_default() {
                // A program or window that left just now has no focus.
                if self.states(&window).is_ok_and(|states| states.have(state::ACTIVE)) {
                    return self.focused_below(window);
                }
            }
        }
        Ok(None)
    }

    fn focused_below(&self, window: Element) -> Result<Option<Element>, SessionError> {
        let mut open = vec![window];
        for _ in 0..MAX_ASKED {
            let Some(element) = open.pop() else { break };
            match self.states(&element) {
                Ok(states) if states.have(state::FOCUSED) => return Ok(Some(element)),
                Err(error) if error.is_broken() => return Err(error),
                _ => open.extend(self.children(&element).unwrap_or_default()),
            }
        }
        Ok(None)
    }

    /// The program with that process.
    fn program(&self, front: &Front) -> Result<Option<Element>, SessionError> {
        for program in self.programs()? {
            // One that left just now is not it.
            if front.process.is_some() && self.process(&program)? == front.process {
                return Ok(Some(program));
            }
        }
        Ok(None)
    }

    /// The process that an element is of, unless it is gone.
    pub(super) fn process(&self, element: &Element) -> Result<Option<u32>, SessionError> {
        let (bus, path) = ("org.freedesktop.DBus", "/org/freedesktop/DBus");
        match self.reply(bus, path, bus, "GetConnectionUnixProcessID", &element.owner) {
            Ok(process) => Ok(Some(process)),
            Err(error) if error.is_broken() => Err(error),
            Err(_) => Ok(None),
        }
    }

    pub(super) fn bus(&self) -> &Connection {
        &self.bus
    }

    pub(super) fn into_bus(self) -> Connection {
        self.bus
    }

    /// The program's window of that title, else the active one, else its only one.
    fn window(&self, program: &Element, title: &str) -> Result<Option<Element>, SessionError> {
        let windows = self.children(program)?;
        for window in &windows {
            if self.name(window)? == title {
                return Ok(Some(window.clone()));
            }
        }
        for window in &windows {
            if self.states(window)?.have(state::ACTIVE) {
                return Ok(Some(window.clone()));
            }
        }
        Ok(windows.into_iter().next())
    }

    /// Everything of that role below an element; not what lies within one of them.
    pub(super) fn collect(
        &self,
        element: &Element,
        wanted: u32,
        depth: usize,
        found: &mut Vec<Element>,
    ) -> Result<(), SessionError> {
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
    pub(super) fn entries(&self, menu: &Element) -> Result<Vec<Element>, SessionError> {
        let children = self.children(menu)?;
        if let [only] = children.as_slice()
            && self.role(only)? == role::MENU
            && self.name(only)?.is_empty()
        {
            return self.children(only);
        }
        Ok(children)
    }

    pub(super) fn children(&self, element: &Element) -> Result<Vec<Element>, SessionError> {
        let children: Vec<(String, OwnedObjectPath)> = self.ask(element, "GetChildren", &())?;
        let no_null = |(_, path): &(String, OwnedObjectPath)| !path.as_str().ends_with("/null");
        let element = |(owner, path)| Element { owner, path };
        Ok(children.into_iter().filter(no_null).map(element).collect())
    }

    pub(super) fn role(&self, element: &Element) -> Result<u32, SessionError> {
        self.ask(element, "GetRole", &())
    }

    pub(super) fn name(&self, element: &Element) -> Result<String, SessionError> {
        let value: OwnedVariant = self.reply(
            &element.owner,
            element.path.as_str(),
            "org.freedesktop.DBus.Properties",
            "Get",
            &(ACCESSIBLE, "Name"),
        )?;
        Ok(String::try_from(value).unwrap_or_default())
    }

    pub(super) fn states(&self, element: &Element) -> Result<States, SessionError> {
        Ok(States(self.ask(element, "GetState", &())?))
    }

    /// Where it is on the screen.
    pub(super) fn place(&self, element: &Element) -> Result<Rect, SessionError> {
        const ON_SCREEN: u32 = 0;
        let path = element.path.as_str();
        let (x, y, width, height) =
            self.reply(&element.owner, path, COMPONENT, "GetExtents", &ON_SCREEN)?;
        Ok(Rect { x, y, width, height })
    }

    /// Gives it the keyboard.
    pub(super) fn focus(&self, element: &Element) -> Result<(), SessionError> {
        let path = element.path.as_str();
        let done: bool = self.reply(&element.owner, path, COMPONENT, "GrabFocus", &())?;
        if done { Ok(()) } else { Err(SessionError::Greyed { entry: self.name(element)? }) }
    }

    /// Does what pressing it would do.
    pub(super) fn act(&self, element: &Element) -> Result<(), SessionError> {
        let done: bool = self.reply(
            &element.owner,
            element.path.as_str(),
            "org.a11y.atspi.Action",
            "DoAction",
            &0i32,
        )?;
        if done { Ok(()) } else { Err(SessionError::Greyed { entry: self.name(element)? }) }
    }

    fn ask<B, R>(&self, element: &Element, method: &str, body: &B) -> Result<R, SessionError>
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
    ) -> Result<R, SessionError>
    where
        B: Serialize + DynamicType,
        R: serde::de::DeserializeOwned + zbus::zvariant::Type,
    {
        let reply =
            block_on(self.bus.call_method(Some(owner), path, Some(interface), method, body))?;
        Ok(reply.body().deserialize()?)
    }
}
