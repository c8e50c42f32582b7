//! Whether fingers are off the keyboard.
//!
//! A key that is down cannot be tapped, so a batch releases its keys first, which delays the
//! target. When a button is pressed, the hand is mostly on the mouse: once no key is down, the next
//! raw key press is selected, and until it comes a batch that answers a button has nothing to
//! release. At most one wake-up follows, and none before another button is answered.

use std::collections::BTreeSet;

use lantern_model::Key;

use super::X11Backend;
use super::pointer::is_pointed;
use super::press_tracker::ActiveGrab;
use crate::BackendError;

/// What is known of the real keyboards.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) enum KeyboardIdle {
    #[default]
    Unknown,
    /// Looked at when nothing else is to do.
    WorldQuery,
    /// No key is down, and presses are selected.
    Untouched,
}

impl X11Backend {
    /// Whether the step that comes next answers a button, with no key down under a finger or by our
    /// doing. If that is not known, it is for the next one.
    pub(super) fn answers_button_alone(&mut self) -> bool {
        // If raw keys are selected for other reasons, the event may come too late.
        let tells = !self.raw_in_grabs().all;
        if !tells || !matches!(self.presses.ending, Some(ActiveGrab::Button { .. })) {
            return false;
        }
        if self.presses.keyboard == KeyboardIdle::Unknown {
            self.presses.keyboard = KeyboardIdle::WorldQuery;
            self.presses.look_again = true;
        }
        self.presses.keyboard == KeyboardIdle::Untouched && !self.held.has_keys()
    }

    /// A key is down on a real keyboard.
    pub(super) fn touch_keyboard(&mut self) -> Result<(), BackendError> {
        if std::mem::take(&mut self.presses.keyboard) == KeyboardIdle::Untouched {
            self.select_raw_events()?;
        }
        Ok(())
    }

    /// Presses are reported from here on, if they were selected.
    pub(super) fn begin_look_at_keyboard(&mut self) -> Result<(), BackendError> {
        if self.presses.keyboard == KeyboardIdle::WorldQuery {
            self.presses.keyboard = KeyboardIdle::Untouched;
        }
        self.select_raw_events()
    }

    /// Keys that are down since presses are reported.
    pub(super) fn end_look_at_keyboard(
        &mut self,
        down: &BTreeSet<Key>,
    ) -> Result<(), BackendError> {
        if down.iter().all(|key| is_pointed(*key)) { Ok(()) } else { self.touch_keyboard() }
    }
}
