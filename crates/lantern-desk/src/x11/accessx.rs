//! The server's helps for hands that need them: sticky, slow and bounce keys work on what we put in as
//! on what a finger does, so they are set aside for a step and are back after it.

use x11rb::connection::RequestConnection;
use x11rb::protocol::xkb::{AXOption, BoolCtrl, ConnectionExt as _, Control, ID, VMod};
use x11rb::protocol::xproto::ModMask;

use super::X11Backend;
use super::connection::XConnection;
use crate::BackendError;

/// Helps that make a key count late, or not at all when it comes again soon.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct AccessXDelays(u32);

impl AccessXDelays {
    const ALL: u32 = 0b110;

    /// Those that are on.
    pub(super) fn read(link: &XConnection) -> Result<AccessXDelays, BackendError> {
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

impl X11Backend {
    /// A modifier that was latched for the person's next key (sticky keys) is neither used up nor
    /// seen by what we put in, and no delay eats it.
    pub(super) fn set_helps_aside(&self) -> Result<(), BackendError> {
        if self.latched != 0 {
            self.set_latches(0)?;
        }
        self.set_delays_aside()
    }

    /// The end of [`X11Backend::set_helps_aside`].
    pub(super) fn bring_helps_back(&self) -> Result<(), BackendError> {
        self.bring_delays_back()?;
        if self.latched != 0 {
            self.set_latches(self.latched)?;
        }
        Ok(())
    }

    /// What a finger was slow enough for already is not delayed again when we hand it on.
    pub(super) fn set_delays_aside(&self) -> Result<(), BackendError> {
        if self.delays != AccessXDelays::default() {
            AccessXDelays::set(&self.link, 0)?;
        }
        Ok(())
    }

    /// The end of [`X11Backend::set_delays_aside`].
    pub(super) fn bring_delays_back(&self) -> Result<(), BackendError> {
        if self.delays != AccessXDelays::default() {
            AccessXDelays::set(&self.link, self.delays.0)?;
        }
        Ok(())
    }

    /// The request is put together here, as the protocol description that our library is made from
    /// leaves the latches out of it (XKB protocol, section 9.4).
    fn set_latches(&self, latches: u16) -> Result<(), BackendError> {
        const MINOR: u8 = 5;
        let Some(extension) = self.link.conn.extension_information("XKEYBOARD")? else {
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
        self.link.conn.send_request_without_reply(&bytes, Vec::new())?.ignore_error();
        Ok(())
    }
}
