//! The grabs that are installed for the rules: what is wanted, what is refused and tried again, and what
//! is suspended while we inject the same keys.

use std::collections::BTreeSet;
use std::time::Duration;

use lantern_model::{
    Event, GrabSet, InputAction, InputBatch, Key, KeyGrab, ModifierKey, ModifierSet, Refusal, Time,
};
use x11rb::CURRENT_TIME;
use x11rb::protocol::xinput::{ConnectionExt as _, GrabOwner, XIEventMask};
use x11rb::protocol::xproto::GrabMode;

use super::connection::XConnection;
use super::grabs::{Grabs, KeyOrButton, Refusals};
use super::keyboard_state::KeyboardState;
use super::pointer::is_pointed;
use super::raw_events::RawEventSelection;
use lantern_backend::BackendError;

/// How often grabs that another program holds are tried again.
const RETRY: Duration = Duration::from_secs(3);

/// The grabs of the rules.
#[derive(Debug, Default)]
pub(super) struct GrabManager {
    wanted: GrabSet,
    grabs: Grabs,
    /// Keys and buttons whose grabs are suspended for the present batch.
    suspended: Vec<KeyOrButton>,
    /// Those whose grabs are suspended as long as we hold them down.
    open: BTreeSet<KeyOrButton>,
    /// Whether the whole keyboard is grabbed.
    is_keyboard_grabbed: bool,
    /// Grabs that another client holds, of those that have been reported.
    reported: Refusals,
    /// Whether any of it is missing now.
    is_missing: bool,
    retry_at: Option<Time>,
}

impl GrabManager {
    /// What the rules need.
    pub(super) fn wanted(&self) -> &GrabSet {
        &self.wanted
    }

    /// Takes what the rules need now; gives what they needed before.
    pub(super) fn set_wanted(&mut self, wanted: GrabSet) -> GrabSet {
        std::mem::replace(&mut self.wanted, wanted)
    }

    /// Raw events that a grab itself must ask for: while it is active, the server reports no others.
    pub(super) fn raw_events(&self) -> RawEventSelection {
        RawEventSelection {
            all: self.wanted.raw_keys || self.wanted.text_input,
            motion: self.wanted.pointer_position,
            ..RawEventSelection::default()
        }
    }

    /// Installs the wanted grabs for the locks that are on. Gives the events that report refused and freed
    /// ones.
    pub(super) fn install(
        &mut self,
        link: &XConnection,
        keyboard: &KeyboardState,
    ) -> Result<Vec<Event>, BackendError> {
        let (keys, raw) = (&self.wanted.keys, self.raw_events());
        let (keymap, locked) = (keyboard.keymap(), keyboard.locked());
        let refused = self.grabs.replace(link, keymap, locked, keys, raw)?;
        for detail in &self.open {
            self.grabs.suspend(link, *detail)?;
        }
        let mut events = Vec::new();
        // Each is reported once, and again if we had it in between.
        let is_ours = |reported: &mut (KeyGrab, Refusal)| {
            self.wanted.keys.contains(&reported.0) && !refused.contains(reported)
        };
        let freed = self.reported.extract_if(.., is_ours).map(|reported| reported.0);
        let freed: Vec<KeyGrab> = freed.collect();
        if !freed.is_empty() {
            events.push(Event::GrabsFreed(freed));
        }
        let is_new = |refused: &&(KeyGrab, Refusal)| !self.reported.contains(refused);
        let new: Refusals = refused.iter().filter(is_new).cloned().collect();
        self.is_missing = refused.iter().any(|(_, why)| *why == Refusal::HeldByOther);
        if !new.is_empty() {
            self.reported.extend(new.iter().cloned());
            events.push(Event::GrabsRefused(new));
        }
        Ok(events)
    }

    /// Tries again to install grabs that another program held. The server sends no event when a grab
    /// ends, so this is called when windows come and go, and every few seconds while a grab is missing.
    pub(super) fn retry(
        &mut self,
        link: &XConnection,
        keyboard: &KeyboardState,
        now: Time,
    ) -> Result<Vec<Event>, BackendError> {
        let events = if self.is_missing { self.install(link, keyboard)? } else { Vec::new() };
        self.retry_at = self.is_missing.then_some(now + RETRY);
        Ok(events)
    }

    /// Whether a grab is missing, and no time is set to try it again.
    pub(super) fn needs_retry(&self) -> bool {
        self.is_missing && self.retry_at.is_none()
    }

    /// When missing grabs are tried again.
    pub(super) fn deadline(&self) -> Option<Time> {
        self.retry_at
    }

    /// How a key under these modifiers is withheld, if it is.
    pub(super) fn grab_of(&self, key: Key, modifiers: ModifierSet) -> Option<KeyGrab> {
        let is_of_keyboard = ModifierKey::of(key).is_none() && !is_pointed(key);
        let whole = || {
            (self.wanted.whole_keyboard && is_of_keyboard).then_some(KeyGrab {
                key,
                modifiers,
                any_extra_modifiers: false,
                side_specific: false,
                report_release: true,
                synchronous: true,
            })
        };
        self.bound_grab_of(key, modifiers).or_else(whole)
    }

    /// The same for the combinations of the rules only.
    pub(super) fn bound_grab_of(&self, key: Key, modifiers: ModifierSet) -> Option<KeyGrab> {
        self.grabs.find(key, modifiers)
    }

    /// Whether any combination with the key or button is grabbed.
    pub(super) fn has(&self, detail: KeyOrButton) -> bool {
        self.grabs.has(detail)
    }

    /// Whether the server waits for our answer to a press of the key.
    pub(super) fn is_synchronous(&self, detail: KeyOrButton) -> bool {
        self.grabs.waits(detail)
    }

    /// Whether the whole keyboard is grabbed.
    pub(super) fn is_keyboard_grabbed(&self) -> bool {
        self.is_keyboard_grabbed
    }

    /// Grabs the whole keyboard, or ends that.
    pub(super) fn grab_keyboard(
        &mut self,
        link: &XConnection,
        take: bool,
    ) -> Result<(), BackendError> {
        if take == self.is_keyboard_grabbed {
            return Ok(());
        }
        self.is_keyboard_grabbed = take;
        let (conn, keyboard) = (&link.conn, link.devices.master_keyboard);
        if !take {
            conn.xinput_xi_ungrab_device(CURRENT_TIME, keyboard)?;
            return Ok(());
        }
        let mask = XIEventMask::KEY_PRESS | self.raw_events().of_masters();
        // Should a menu have the keyboard, keys go there, as they do anyway.
        let (mode, owner) = (GrabMode::ASYNC, GrabOwner::NO_OWNER);
        let (root, cursor, masks) = (link.root, x11rb::NONE, [mask.into()]);
        conn.xinput_xi_grab_device(
            root,
            CURRENT_TIME,
            cursor,
            keyboard,
            mode,
            mode,
            owner,
            &masks,
        )?
        .discard_reply_and_errors();
        Ok(())
    }

    /// Grabs the whole keyboard if the rules need it.
    pub(super) fn grab_keyboard_if_wanted(
        &mut self,
        link: &XConnection,
    ) -> Result<(), BackendError> {
        if self.wanted.whole_keyboard { self.grab_keyboard(link, true) } else { Ok(()) }
    }

    /// Whether injecting the key would activate a grab of our own.
    fn is_in_the_way(&self, detail: KeyOrButton) -> bool {
        self.grabs.has(detail) && !self.open.contains(&detail)
    }

    /// Suspends the grabs of a key until [`GrabManager::end_batch`].
    pub(super) fn suspend_for_batch(
        &mut self,
        link: &XConnection,
        detail: KeyOrButton,
    ) -> Result<(), BackendError> {
        if self.is_in_the_way(detail) && !self.suspended.contains(&detail) {
            self.grabs.suspend(link, detail)?;
            self.suspended.push(detail);
        }
        Ok(())
    }

    /// Installs the grabs again that were suspended for a batch, except of keys that stay down: what the
    /// server repeats of them would come to us instead of the program.
    pub(super) fn end_batch(
        &mut self,
        link: &XConnection,
        batch: &InputBatch,
    ) -> Result<(), BackendError> {
        while let Some(detail) = self.suspended.pop() {
            let goes_down = |action: &InputAction| matches!(action, InputAction::Down(key) if KeyOrButton::of(*key) == Some(detail));
            if batch.actions.iter().any(goes_down) {
                self.open.insert(detail);
            } else {
                self.grabs.resume(link, detail)?;
            }
        }
        for action in &batch.actions {
            if let InputAction::Up(key) = action {
                self.close(link, *key)?;
            }
        }
        Ok(())
    }

    /// Suspends the grabs of a key as long as we hold it down.
    pub(super) fn open(&mut self, link: &XConnection, key: Key) -> Result<(), BackendError> {
        if let Some(detail) = KeyOrButton::of(key)
            && self.is_in_the_way(detail)
        {
            self.grabs.suspend(link, detail)?;
            self.open.insert(detail);
        }
        Ok(())
    }

    /// Installs the grabs of a key again that we held down.
    pub(super) fn close(&mut self, link: &XConnection, key: Key) -> Result<(), BackendError> {
        if let Some(detail) = KeyOrButton::of(key)
            && self.open.remove(&detail)
        {
            self.grabs.resume(link, detail)?;
        }
        Ok(())
    }

    /// Does something while the grabs of a key are suspended.
    pub(super) fn without(
        &self,
        link: &XConnection,
        detail: KeyOrButton,
        work: impl FnOnce() -> Result<(), BackendError>,
    ) -> Result<(), BackendError> {
        if !self.is_in_the_way(detail) {
            return work();
        }
        self.grabs.suspend(link, detail)?;
        work()?;
        self.grabs.resume(link, detail)
    }
}
