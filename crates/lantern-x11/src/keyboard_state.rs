//! The state of the server's keyboard: its map, locks and latches, and the accessibility controls.
//!
//! Sticky, slow and bounce keys (AccessX) work on injected input as on physical keys, so they are switched
//! off for a batch of input and on again after it.

use lantern_model::{HeldModifiers, ModifierSet};
use x11rb::connection::RequestConnection;
use x11rb::protocol::xkb::{
    AXOption, BoolCtrl, ConnectionExt as _, Control, Group, ID, StateNotifyEvent, VMod,
};
use x11rb::protocol::xproto::ModMask;

use super::connection::XConnection;
use super::keymap::Keymap;
use lantern_backend::BackendError;

/// Controls that make a key count late, or not at all when it comes again soon: slow and bounce keys.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
struct AccessXDelays(u32);

impl AccessXDelays {
    const ALL: u32 = 0b110;

    /// Those that are on.
    fn read(link: &XConnection) -> Result<AccessXDelays, BackendError> {
        let controls = link.conn.xkb_get_controls(ID::USE_CORE_KBD.into())?.reply()?;
        Ok(AccessXDelays(u32::from(controls.enabled_controls) & AccessXDelays::ALL))
    }

    fn set(link: &XConnection, on: u32) -> Result<(), BackendError> {
        let (no_keys, no_names) = (ModMask::from(0u16), VMod::from(0u16));
        let (no_bool, no_option) = (BoolCtrl::from(0u32), AXOption::from(0u16));
        let affected = BoolCtrl::from(AccessXDelays::ALL);
        let unchanged = Control::from(0u32);
        link.conn.xkb_set_controls(
            ID::USE_CORE_KBD.into(),
            no_keys,
            no_keys,
            no_keys,
            no_keys,
            no_names,
            no_names,
            no_names,
            no_names,
            1,
            0,
            no_option,
            affected,
            on.into(),
            unchanged,
            0,
            0,
            0,
            0,
            0,
            0,
            0,
            0,
            0,
            0,
            no_bool,
            no_bool,
            no_option,
            no_option,
            &[0; 32],
        )?;
        Ok(())
    }
}

/// What a state event has changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct StateChange {
    /// Locks are on or off.
    pub locks: bool,
    /// Another group of the layout is active.
    pub group: bool,
}

/// The keyboard as the server reported it last.
#[derive(Debug)]
pub(super) struct KeyboardState {
    keymap: Keymap,
    /// Core modifiers that are locked.
    locked: u16,
    /// Core modifiers that count for the next key only.
    latched: u16,
    delays: AccessXDelays,
}

impl KeyboardState {
    /// Reads the state. Changes are reported if they were selected before.
    pub(super) fn read(link: &XConnection) -> Result<KeyboardState, BackendError> {
        let keymap = Keymap::read(&link.conn)?;
        let state = link.conn.xkb_get_state(ID::USE_CORE_KBD.into())?.reply()?;
        let (locked, latched) = (state.locked_mods.into(), state.latched_mods.into());
        Ok(KeyboardState { keymap, locked, latched, delays: AccessXDelays::read(link)? })
    }

    pub(super) fn keymap(&self) -> &Keymap {
        &self.keymap
    }

    /// Core modifiers that are locked.
    pub(super) fn locked(&self) -> u16 {
        self.locked
    }

    /// The families of modifiers on this layout.
    pub(super) fn families_of(&self, modifiers: HeldModifiers) -> ModifierSet {
        modifiers.modifiers(self.keymap.layout.alt_gr_is_level3)
    }

    /// Takes in that controls were changed, also by us.
    pub(super) fn update_controls(&mut self, link: &XConnection) -> Result<(), BackendError> {
        self.delays = AccessXDelays::read(link)?;
        Ok(())
    }

    /// Takes in a state event.
    pub(super) fn update_state(&mut self, state: &StateNotifyEvent) -> StateChange {
        self.latched = state.latched_mods.into();
        let locked = state.locked_mods.into();
        let group = usize::from(u8::from(state.group));
        let locks = std::mem::replace(&mut self.locked, locked) != locked;
        let active = &mut self.keymap.layout.active;
        StateChange { locks, group: std::mem::replace(active, group) != group }
    }

    /// Reads the map anew; whether it has changed. Spare keycodes that characters use stay spare.
    pub(super) fn update_map(
        &mut self,
        link: &XConnection,
        keep_spare: bool,
    ) -> Result<bool, BackendError> {
        let mut keymap = Keymap::read(&link.conn)?;
        if keep_spare {
            keymap.spare.clone_from(&self.keymap.spare);
        }
        let has_changed = keymap != self.keymap;
        self.keymap = keymap;
        Ok(has_changed)
    }

    /// Switches off what would change injected input: a modifier that is latched for the person's next key
    /// (sticky keys) is neither used up nor applied, and no delay drops a key.
    pub(super) fn suspend_accessx(&self, link: &XConnection) -> Result<(), BackendError> {
        if self.latched != 0 {
            set_latches(link, 0)?;
        }
        self.suspend_delays(link)
    }

    /// The end of [`KeyboardState::suspend_accessx`].
    pub(super) fn resume_accessx(&self, link: &XConnection) -> Result<(), BackendError> {
        self.resume_delays(link)?;
        if self.latched != 0 {
            set_latches(link, self.latched)?;
        }
        Ok(())
    }

    /// Switches delays off: a key that was held long enough already is not delayed again when it is
    /// replayed.
    pub(super) fn suspend_delays(&self, link: &XConnection) -> Result<(), BackendError> {
        if self.delays != AccessXDelays::default() {
            AccessXDelays::set(link, 0)?;
        }
        Ok(())
    }

    /// The end of [`KeyboardState::suspend_delays`].
    pub(super) fn resume_delays(&self, link: &XConnection) -> Result<(), BackendError> {
        if self.delays != AccessXDelays::default() {
            AccessXDelays::set(link, self.delays.0)?;
        }
        Ok(())
    }
}

/// Sets those of the locks in `mask` that are in `on`, and clears the others of it.
pub(super) fn set_locks(link: &XConnection, mask: u16, on: u16) -> Result<(), BackendError> {
    let none = ModMask::from(0u16);
    let (mask, on) = (ModMask::from(mask), ModMask::from(mask & on));
    let keyboard = ID::USE_CORE_KBD.into();
    link.conn.xkb_latch_lock_state(keyboard, mask, on, false, Group::M1, none, false, 0)?;
    Ok(())
}

/// The request is put together here, as the protocol description that our library is made from
/// leaves the latches out of it (XKB protocol, section 9.4).
fn set_latches(link: &XConnection, latches: u16) -> Result<(), BackendError> {
    const MINOR: u8 = 5;
    let Some(extension) = link.conn.extension_information("XKEYBOARD")? else {
        return Ok(());
    };
    let device = u16::from(ID::USE_CORE_KBD).to_ne_bytes();
    let length = 4u16.to_ne_bytes();
    let request = [
        extension.major_opcode,
        MINOR,
        length[0],
        length[1],
        device[0],
        device[1],
        0,
        0,
        0,
        0,
        0xff,
        latches as u8,
        0,
        0,
        0,
        0,
    ];
    let bytes = [std::io::IoSlice::new(&request)];
    link.conn.send_request_without_reply(&bytes, Vec::new())?.ignore_error();
    Ok(())
}
