//! Keys that are withheld: passive grabs on the master keyboard, as few as the rules need now.
//!
//! The server searches its grabs in a line for every key of every program, so there is one for each
//! combination, under the locks that are on; when a lock changes they are taken anew.
//!
//! A core grab is tried first, for a fraction of a millisecond, because only core grabs tell of a
//! core grab somebody else has; the XInput 2 grab then taken tells of those of its own kind.

use std::collections::{BTreeMap, BTreeSet};

use lantern_model::ArmedKey;
use x11rb::CURRENT_TIME;
use x11rb::protocol::xinput::{
    self, ConnectionExt as _, GrabMode22, GrabOwner, GrabType, XIEventMask,
};
use x11rb::protocol::xproto::{ConnectionExt as _, GrabMode};

use super::connection::Link;
use super::keymap::{Keymap, core_mask, keycode_of};
use crate::DeskError;

/// What is grabbed now.
#[derive(Debug, Default)]
pub(super) struct Grabs {
    taken: BTreeMap<ArmedKey, u32>,
    codes: BTreeSet<u8>,
}

impl Grabs {
    /// The armed key that a press of `code` under `mask` belongs to. Locks do not count: one may
    /// have changed between the press and now.
    pub(super) fn find(&self, keymap: &Keymap, code: u8, mask: u32) -> Option<ArmedKey> {
        let bare = |mask: u32| mask & 0xff & !u32::from(keymap.locks());
        let mut own = self.of_code(code);
        own.find(|(_, taken)| bare(*taken) == bare(mask)).map(|(armed, _)| armed)
    }

    /// Whether any combination with the keycode is grabbed.
    pub(super) fn has_code(&self, code: u8) -> bool {
        self.codes.contains(&code)
    }

    /// Grabs exactly `wanted`; gives those that somebody else holds.
    pub(super) fn replace(
        &mut self,
        link: &Link,
        keymap: &Keymap,
        locked: u16,
        wanted: &[ArmedKey],
    ) -> Result<Vec<(ArmedKey, String)>, DeskError> {
        let mut refused = Vec::new();
        let mut goal: BTreeMap<ArmedKey, u32> = BTreeMap::new();
        for armed in wanted {
            if armed.further || armed.key.is_pointer() {
                let what = if armed.further { "remaps" } else { "buttons, wheel and pen" };
                refused.push((*armed, format!("this version takes no {what} on X11 yet")));
                continue;
            }
            match (keycode_of(armed.key), keymap.grab_mask(armed.families, locked)) {
                (Some(_), Some(mask)) => {
                    goal.insert(*armed, mask);
                }
                _ => refused.push((*armed, "this keyboard cannot press it".to_owned())),
            }
        }
        for (armed, mask) in &self.taken {
            if goal.get(armed) != Some(mask) {
                ungrab(link, *armed, *mask)?;
            }
        }
        self.taken.retain(|armed, mask| goal.get(armed) == Some(mask));
        let fresh = goal.into_iter().filter(|(armed, _)| !self.taken.contains_key(armed)).collect();
        self.grab_all(link, fresh, &mut refused)?;
        self.codes = self.taken.keys().filter_map(|armed| keycode_of(armed.key)).collect();
        Ok(refused)
    }

    /// Grabs all of `fresh`, with one round trip for each of the two kinds of grab.
    fn grab_all(
        &mut self,
        link: &Link,
        fresh: Vec<(ArmedKey, u32)>,
        refused: &mut Vec<(ArmedKey, String)>,
    ) -> Result<(), DeskError> {
        let mut probes = Vec::with_capacity(fresh.len());
        for (armed, mask) in &fresh {
            let code = keycode_of(armed.key).expect("keys without a keycode were refused");
            let mode = GrabMode::ASYNC;
            let mask = core_mask(*mask);
            probes.push(link.conn.grab_key(true, link.root, mask, code, mode, mode)?);
        }
        let mut grabs = Vec::with_capacity(fresh.len());
        for ((armed, mask), probe) in fresh.into_iter().zip(probes) {
            let code = keycode_of(armed.key).expect("keys without a keycode were refused");
            let free = probe.check().is_ok();
            link.conn.ungrab_key(code, link.root, core_mask(mask))?;
            if free {
                grabs.push((armed, mask, grab(link, armed, mask)?));
            } else {
                refused.push((armed, "another program holds it".to_owned()));
            }
        }
        for (armed, mask, cookie) in grabs {
            if cookie.reply()?.modifiers.is_empty() {
                self.taken.insert(armed, mask);
            } else {
                refused.push((armed, "another program holds it".to_owned()));
            }
        }
        Ok(())
    }

    /// Lets the grabs of a keycode go, so that what is injected does not come back to us.
    pub(super) fn suspend(&self, link: &Link, code: u8) -> Result<(), DeskError> {
        self.of_code(code).try_for_each(|(armed, mask)| ungrab(link, armed, mask))
    }

    /// Takes them again.
    pub(super) fn resume(&self, link: &Link, code: u8) -> Result<(), DeskError> {
        for (armed, mask) in self.of_code(code) {
            grab(link, armed, mask)?.discard_reply_and_errors();
        }
        Ok(())
    }

    fn of_code(&self, code: u8) -> impl Iterator<Item = (ArmedKey, u32)> {
        let own = self.taken.iter().filter(move |(armed, _)| keycode_of(armed.key) == Some(code));
        own.map(|(armed, mask)| (*armed, *mask))
    }
}

type GrabCookie<'c> = x11rb::cookie::Cookie<
    'c,
    x11rb::rust_connection::RustConnection,
    xinput::XIPassiveGrabDeviceReply,
>;

fn grab<'c>(link: &'c Link, armed: ArmedKey, mask: u32) -> Result<GrabCookie<'c>, DeskError> {
    let code = keycode_of(armed.key).expect("keys without a keycode were refused");
    let events = XIEventMask::KEY_PRESS | XIEventMask::KEY_RELEASE;
    Ok(link.conn.xinput_xi_passive_grab_device(
        CURRENT_TIME,
        link.root,
        x11rb::NONE,
        code.into(),
        link.devices.master_keyboard,
        GrabType::KEYCODE,
        GrabMode22::ASYNC,
        GrabMode::ASYNC,
        GrabOwner::NO_OWNER,
        &[events.into()],
        &[mask],
    )?)
}

fn ungrab(link: &Link, armed: ArmedKey, mask: u32) -> Result<(), DeskError> {
    let code = keycode_of(armed.key).expect("keys without a keycode were refused");
    let keyboard = link.devices.master_keyboard;
    link.conn.xinput_xi_passive_ungrab_device(
        link.root,
        code.into(),
        keyboard,
        GrabType::KEYCODE,
        &[mask],
    )?;
    Ok(())
}
