//! What can be pressed, chosen or written in, in the window in front: to be numbered on the screen
//! and picked by its number.

use lantern_model::Rect;

use super::tree::{AccessibilityTree, DEEPEST, Element, role, state};
use super::{Front, wait_for_some};
use crate::SessionError;

/// More than so many are not numbered.
const MOST: usize = 500;

/// What is pressed.
const PRESSED: &[u32] = &[
    role::CHECK_BOX,
    role::CHECK_MENU_ITEM,
    role::COMBO_BOX,
    role::LINK,
    role::MENU,
    role::MENU_ITEM,
    role::PAGE_TAB,
    role::PUSH_BUTTON,
    role::RADIO_BUTTON,
    role::RADIO_MENU_ITEM,
    role::TOGGLE_BUTTON,
];

/// What gets the keyboard instead.
const FOCUSED: &[u32] = &[
    role::ENTRY,
    role::LIST_ITEM,
    role::PASSWORD_TEXT,
    role::SLIDER,
    role::SPIN_BUTTON,
    role::TEXT,
    role::TREE_ITEM,
];

/// The elements of the window in front, in reading order.
#[derive(Debug)]
pub struct NumberedElements {
    tree: AccessibilityTree,
    front: Front,
    elements: Vec<NumberedElement>,
}

/// One of them.
#[derive(Debug)]
struct NumberedElement {
    element: Element,
    role: u32,
    place: Rect,
    /// Whether it is an entry of an open menu.
    in_menu: bool,
}

impl NumberedElements {
    /// Looks at the window in front. While a menu is open, only its entries count.
    ///
    /// # Errors
    /// When the program tells nothing, or there is nothing to press.
    pub fn of(front: Front) -> Result<NumberedElements, SessionError> {
        let mut numbered =
            NumberedElements { tree: AccessibilityTree::connect()?, front, elements: Vec::new() };
        numbered.look()?;
        Ok(numbered)
    }

    fn look(&mut self) -> Result<(), SessionError> {
        let window = self.tree.front_window(&self.front)?;
        let mut found = Vec::new();
        self.collect(&window, false, 0, &mut found)?;
        self.keep(found)
    }

    fn keep(&mut self, mut found: Vec<NumberedElement>) -> Result<(), SessionError> {
        if found.iter().any(|found| found.in_menu) {
            found.retain(|found| found.in_menu);
        }
        found.sort_by_key(|found| (found.place.y, found.place.x));
        if found.is_empty() {
            return Err(SessionError::NothingToPress { program: self.front.name.clone() });
        }
        self.elements = found;
        Ok(())
    }

    /// Where each of them is.
    pub fn places(&self) -> Vec<Rect> {
        self.elements.iter().map(|found| found.place).collect()
    }

    /// Presses one, or gives it the keyboard. Whether that opened a menu, whose entries are those
    /// to pick from now.
    ///
    /// # Errors
    /// When there is no such one, or it does not let itself be pressed.
    pub fn press(&mut self, index: usize) -> Result<bool, SessionError> {
        let Some(found) = self.elements.get(index) else {
            let (program, most) = (self.front.name.clone(), self.elements.len());
            return Err(SessionError::NoNumber { program, number: index + 1, most });
        };
        if FOCUSED.contains(&found.role) {
            return self.tree.focus(&found.element).map(|()| false);
        }
        self.tree.act(&found.element)?;
        if found.role != role::MENU {
            return Ok(false);
        }
        let menu = found.element.clone();
        let entries = wait_for_some(|| {
            let mut entries = Vec::new();
            for element in self.tree.entries(&menu)? {
                self.take(element, true, &mut entries)?;
            }
            Ok(entries)
        })?;
        self.keep(entries)?;
        Ok(true)
    }

    /// Everything below an element that shows and can be pressed.
    fn collect(
        &self,
        element: &Element,
        in_menu: bool,
        depth: usize,
        found: &mut Vec<NumberedElement>,
    ) -> Result<(), SessionError> {
        if depth > DEEPEST {
            return Ok(());
        }
        for child in self.tree.children(element)? {
            if found.len() >= MOST {
                return Ok(());
            }
            if let Some(role) = self.take(child.clone(), in_menu, found)? {
                self.collect(&child, in_menu || role == role::MENU, depth + 1, found)?;
            }
        }
        Ok(())
    }

    /// Takes an element if it can be pressed; its role, if it shows.
    fn take(
        &self,
        element: Element,
        in_menu: bool,
        found: &mut Vec<NumberedElement>,
    ) -> Result<Option<u32>, SessionError> {
        let states = self.tree.states(&element)?;
        if !states.have(state::SHOWING) {
            return Ok(None);
        }
        let role = self.tree.role(&element)?;
        if states.have(state::SENSITIVE) && (PRESSED.contains(&role) || FOCUSED.contains(&role)) {
            let place = self.tree.place(&element)?;
            if place.width > 0 && place.height > 0 {
                found.push(NumberedElement { element, role, place, in_menu });
            }
        }
        Ok(Some(role))
    }
}
