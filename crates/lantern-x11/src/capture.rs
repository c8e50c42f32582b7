//! Captures the next combination the person presses, and what it sends. No other program receives
//! it.

use lantern_model::{Key, ModifierKey, ModifierSet};
use x11rb::connection::Connection;
use x11rb::protocol::Event;
use x11rb::protocol::xinput::{ConnectionExt as _, GrabOwner, KeyEventFlags, XIEventMask};
use x11rb::protocol::xproto::{ConnectionExt as _, GrabMode, GrabStatus};

use super::connection::XConnection;
use super::grabs::{KeyOrButton, is_free};
use super::keymap::{Keymap, key_of};
use super::pointer::key_of_button;
use lantern_backend::BackendError;
use lantern_backend::keysyms::keysym_character;

/// A combination as it was pressed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CapturedCombination {
    /// The key or button, if it is one that can be named.
    pub key: Option<Key>,
    /// The modifiers it was pressed under.
    pub families: ModifierSet,
    /// The server's number of it.
    pub code: u8,
    /// The symbol the layout gives it without modifiers, 0 for a button.
    pub keysym: u32,
    /// What it types, if anything.
    pub types: Option<char>,
    /// The device it came from.
    pub device: String,
    /// Whether another program, or we ourselves at work, holds it.
    pub held: bool,
}

/// Waits for the next combination on the display in DISPLAY. `listening` is called once no other
/// program receives keys.
///
/// # Errors
/// When the display cannot be reached, or another program has the keyboard to itself.
pub fn capture(listening: impl FnOnce()) -> Result<CapturedCombination, BackendError> {
    let link = XConnection::open(None)?;
    let keymap = Keymap::read(&link.conn)?;
    let keys = XIEventMask::KEY_PRESS | XIEventMask::KEY_RELEASE;
    grab(&link, link.devices.master_pointer, XIEventMask::BUTTON_PRESS)?;
    grab(&link, link.devices.master_keyboard, keys)?;
    listening();
    let mut alone: Option<u8> = None;
    let (detail, key, mask, source) = loop {
        match link.conn.wait_for_event()? {
            Event::XinputKeyPress(press) if !press.flags.contains(KeyEventFlags::KEY_REPEAT) => {
                let code = press.detail as u8;
                let key = key_of(code);
                if key.and_then(ModifierKey::of).is_some() {
                    alone = Some(code);
                    continue;
                }
                let mask = press.mods.effective as u16;
                break (KeyOrButton::Code(code), key, mask, press.sourceid);
            }
            Event::XinputKeyRelease(release) if alone == Some(release.detail as u8) => {
                let code = release.detail as u8;
                let own = keymap.mask_of_code(code);
                let mask = release.mods.effective as u16 & !own;
                break (KeyOrButton::Code(code), key_of(code), mask, release.sourceid);
            }
            Event::XinputButtonPress(press) => {
                // The server has applied the device's own map already.
                let button = press.detail as u8;
                let key = key_of_button(&link.devices, press.sourceid, button);
                let mask = press.mods.effective as u16;
                break (KeyOrButton::Button(button), key, mask, press.sourceid);
            }
            _ => {}
        }
    };
    let (conn, devices) = (&link.conn, &link.devices);
    conn.xinput_xi_ungrab_device(x11rb::CURRENT_TIME, devices.master_keyboard)?;
    conn.xinput_xi_ungrab_device(x11rb::CURRENT_TIME, devices.master_pointer)?;
    let families = keymap.families_in(mask);
    let (code, keysym) = match detail {
        KeyOrButton::Code(code) => {
            let symbols = conn.get_keyboard_mapping(code, 1)?.reply()?.keysyms;
            (code, symbols.first().copied().unwrap_or(0))
        }
        KeyOrButton::Button(button) => (button, 0),
    };
    let locked = mask & keymap.locks();
    let types = match (key, keysym) {
        (Some(key), _) => keymap.character(key, families, locked).filter(|c| !c.is_control()),
        (None, keysym) => keysym_character(keysym),
    };
    let device = devices.names.get(&source).cloned().unwrap_or_default();
    let masks = keymap.grab_masks(families, false, locked);
    let mask = masks.first().copied().unwrap_or(0);
    let held = !is_free(&link, detail, mask)?;
    Ok(CapturedCombination { key, families, code, keysym, types, device, held })
}

fn grab(link: &XConnection, device: u16, events: XIEventMask) -> Result<(), BackendError> {
    let mode = GrabMode::ASYNC;
    let reply = link
        .conn
        .xinput_xi_grab_device(
            link.root,
            x11rb::CURRENT_TIME,
            x11rb::NONE,
            device,
            mode,
            mode,
            GrabOwner::NO_OWNER,
            &[events.into()],
        )?
        .reply()?;
    if reply.status == GrabStatus::SUCCESS { Ok(()) } else { Err(BackendError::KeyboardTaken) }
}
