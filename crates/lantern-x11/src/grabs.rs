//! Keys and buttons that are withheld: passive grabs on the master devices, as few as the rules need
//! now.
//!
//! The server searches its grabs in a line for every key of every program, so there is one for each
//! combination, under the locks that are on; when a lock changes they are taken anew. A key that is
//! withheld whatever is held beside it is one grab for all.
//!
//! A core grab is tried first, for a fraction of a millisecond, because only a core grab fails on
//! the core grab of another client. The XInput 2 grab taken then fails on those of its own kind.
//!
//! A grab whose press is decided later is synchronous: the server delivers nothing else until we
//! answer, and a button that no rule wants is replayed to the program.

use std::collections::{BTreeMap, BTreeSet};

use lantern_model::{Key, KeyGrab, ModifierSet, Refusal};
use x11rb::CURRENT_TIME;
use x11rb::cookie::VoidCookie;
use x11rb::protocol::xinput::{
    self, ConnectionExt as _, GrabMode22, GrabOwner, GrabType, XIEventMask,
};
use x11rb::protocol::xproto::{ButtonIndex, ConnectionExt as _, EventMask, GrabMode, ModMask};

use super::connection::XConnection;
use super::keymap::{Keymap, core_mask, keycode_of};
use super::pointer::button_of;
use super::raw_events::RawEventSelection;
use super::server::ServerConnection;
use lantern_backend::BackendError;

/// A key or button as the server counts it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum KeyOrButton {
    Code(u8),
    Button(u8),
}

impl KeyOrButton {
    /// What the server calls a key of the board, if it can have it.
    pub(super) fn of(key: Key) -> Option<KeyOrButton> {
        keycode_of(key).map(KeyOrButton::Code).or_else(|| button_of(key).map(KeyOrButton::Button))
    }

    fn number(self) -> u32 {
        match self {
            KeyOrButton::Code(code) => code.into(),
            KeyOrButton::Button(button) => button.into(),
        }
    }
}

/// Modifiers that a grab is taken under.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum GrabModifiers {
    /// Exactly these.
    Mask(u32),
    /// Whatever is down.
    Any,
}

impl GrabModifiers {
    fn modern(self) -> u32 {
        match self {
            GrabModifiers::Mask(mask) => mask,
            GrabModifiers::Any => u32::from(xinput::ModifierMask::ANY),
        }
    }

    fn core(self) -> ModMask {
        match self {
            GrabModifiers::Mask(mask) => core_mask(mask),
            GrabModifiers::Any => ModMask::ANY,
        }
    }
}

/// One grab.
type Grab = (KeyOrButton, GrabModifiers);

/// How a grab is taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct GrabOptions {
    /// Whether the server waits for our answer.
    waits: bool,
    /// Events that are reported besides the presses themselves.
    raw: RawEventSelection,
}

/// Whether a pen and a mouse both have the button. A press of the one that no rule names must be
/// replayed, which the server does for a press only while it waits for our answer.
fn is_shared(detail: KeyOrButton) -> bool {
    matches!(detail, KeyOrButton::Button(1..=3))
}

/// Keys that cannot be had, each with why.
pub(super) type Refusals = Vec<(KeyGrab, Refusal)>;

/// What is grabbed now.
#[derive(Debug, Default)]
pub(super) struct Grabs {
    /// What must be withheld of each key.
    wanted: BTreeMap<KeyOrButton, Vec<KeyGrab>>,
    taken: BTreeMap<Grab, GrabOptions>,
}

impl Grabs {
    /// What is withheld of a key under these families, all that is wanted of it together. A pen and
    /// a mouse share their buttons, so one key may be two.
    pub(super) fn find(&self, key: Key, families: ModifierSet) -> Option<KeyGrab> {
        let of_detail = self.wanted.get(&KeyOrButton::of(key)?)?;
        let takes = |grab: &&KeyGrab| {
            grab.key == key
                && (grab.modifiers == families
                    || grab.any_extra_modifiers
                        && grab.modifiers.iter().all(|f| families.contains(f)))
        };
        let both = |one: KeyGrab, other: &KeyGrab| KeyGrab {
            side_specific: one.side_specific || other.side_specific,
            report_release: one.report_release || other.report_release,
            synchronous: one.synchronous || other.synchronous,
            ..one
        };
        let mut found = of_detail.iter().filter(takes);
        let first = *found.next()?;
        Some(found.fold(first, both))
    }

    /// Whether any combination with the key or button is grabbed.
    pub(super) fn has(&self, detail: KeyOrButton) -> bool {
        self.of(detail).next().is_some()
    }

    /// Installs exactly the grabs `wanted`; returns those that another client holds.
    pub(super) fn replace(
        &mut self,
        link: &XConnection,
        keymap: &Keymap,
        locked: u16,
        wanted: &[KeyGrab],
        raw: RawEventSelection,
    ) -> Result<Refusals, BackendError> {
        let mut refused = Vec::new();
        self.wanted.clear();
        let mut goal: BTreeMap<Grab, GrabOptions> = BTreeMap::new();
        for grab in wanted {
            let masks = keymap.grab_masks(grab.modifiers, grab.any_extra_modifiers, locked);
            let (Some(detail), false) = (KeyOrButton::of(grab.key), masks.is_empty()) else {
                refused.push((*grab, Refusal::NotOnKeyboard));
                continue;
            };
            self.wanted.entry(detail).or_default().push(*grab);
            let unders = if grab.any_extra_modifiers && grab.modifiers.is_empty() {
                vec![GrabModifiers::Any]
            } else {
                masks.into_iter().map(GrabModifiers::Mask).collect()
            };
            for under in unders {
                let mode = goal.entry((detail, under)).or_insert(GrabOptions { waits: false, raw });
                mode.waits |= grab.synchronous || is_shared(detail);
            }
        }
        let any: BTreeSet<KeyOrButton> =
            goal.keys().filter(|grab| grab.1 == GrabModifiers::Any).map(|grab| grab.0).collect();
        goal.retain(|(detail, under), _| *under == GrabModifiers::Any || !any.contains(detail));
        for old in self.taken.keys().filter(|old| !goal.contains_key(old)) {
            ungrab(link, *old)?;
        }
        let is_new = |(grab, mode): &(&Grab, &GrabOptions)| self.taken.get(grab) != Some(mode);
        let fresh: Vec<(Grab, GrabOptions)> =
            goal.iter().filter(is_new).map(|(grab, mode)| (*grab, *mode)).collect();
        self.taken.retain(|old, _| goal.contains_key(old));
        let missed = self.grab_all(link, &fresh)?;
        // If another client has grabbed the key under some modifiers, it is grabbed under each of
        // the others.
        let (any, single): (Vec<Grab>, Vec<Grab>) =
            missed.into_iter().partition(|grab| grab.1 == GrabModifiers::Any);
        let masks = keymap.grab_masks(ModifierSet::NONE, true, locked);
        let each = |(detail, _): &Grab| {
            let detail = *detail;
            let mode = GrabOptions { waits: true, raw };
            masks
                .iter()
                .map(move |mask| ((detail, GrabModifiers::Mask(*mask)), mode))
                .collect::<Vec<_>>()
        };
        let split: Vec<(Grab, GrabOptions)> = any.iter().flat_map(each).collect();
        let missed = self.grab_all(link, &split)?;
        for (detail, under) in single.into_iter().chain(missed) {
            self.refuse(keymap, detail, under, &mut refused);
        }
        Ok(refused)
    }

    /// Reports a grab that another client has.
    fn refuse(
        &self,
        keymap: &Keymap,
        detail: KeyOrButton,
        under: GrabModifiers,
        refused: &mut Refusals,
    ) {
        let GrabModifiers::Mask(mask) = under else { return };
        let families = keymap.families_in(mask as u16);
        for grab in &self.wanted[&detail] {
            if grab.modifiers == families || grab.any_extra_modifiers {
                refused.push((KeyGrab { modifiers: families, ..*grab }, Refusal::HeldByOther));
            }
        }
    }

    /// Installs all of `fresh`, with one round trip for each of the two kinds of grab; returns
    /// those that another client has.
    fn grab_all(
        &mut self,
        link: &XConnection,
        fresh: &[(Grab, GrabOptions)],
    ) -> Result<Vec<Grab>, BackendError> {
        let mut missed = Vec::new();
        let mut probes = Vec::with_capacity(fresh.len());
        for (wanted, mode) in fresh {
            probes.push((*wanted, *mode, probe(link, *wanted)?));
        }
        let mut grabs = Vec::with_capacity(fresh.len());
        for (wanted, mode, probe) in probes {
            let free = probe.check().is_ok();
            end_probe(link, wanted)?;
            if free {
                grabs.push((wanted, mode, grab(link, wanted, mode)?));
            } else {
                missed.push(wanted);
            }
        }
        for (wanted, mode, cookie) in grabs {
            if cookie.reply()?.modifiers.is_empty() {
                self.taken.insert(wanted, mode);
            } else {
                missed.push(wanted);
            }
        }
        Ok(missed)
    }

    /// Lets the grabs of a key go, so that what is injected does not come back to us.
    pub(super) fn suspend(
        &self,
        link: &XConnection,
        detail: KeyOrButton,
    ) -> Result<(), BackendError> {
        self.of(detail).try_for_each(|(taken, _)| ungrab(link, taken))
    }

    /// Takes them again.
    pub(super) fn resume(
        &self,
        link: &XConnection,
        detail: KeyOrButton,
    ) -> Result<(), BackendError> {
        for (taken, mode) in self.of(detail) {
            grab(link, taken, mode)?.discard_reply_and_errors();
        }
        Ok(())
    }

    /// Whether the server waits for our answer to a press of the key.
    pub(super) fn waits(&self, detail: KeyOrButton) -> bool {
        self.of(detail).any(|(_, mode)| mode.waits)
    }

    fn of(&self, detail: KeyOrButton) -> impl Iterator<Item = (Grab, GrabOptions)> {
        let from = self.taken.range((detail, GrabModifiers::Mask(0))..);
        from.take_while(move |((of, _), _)| *of == detail).map(|(grab, mode)| (*grab, *mode))
    }
}

fn probe<'c>(
    link: &'c XConnection,
    (detail, under): Grab,
) -> Result<VoidCookie<'c, ServerConnection>, BackendError> {
    let (root, mode) = (link.root, GrabMode::ASYNC);
    Ok(match detail {
        KeyOrButton::Code(code) => {
            link.conn.grab_key(true, root, under.core(), code, mode, mode)?
        }
        KeyOrButton::Button(button) => link.conn.grab_button(
            true,
            root,
            EventMask::BUTTON_PRESS,
            mode,
            mode,
            x11rb::NONE,
            x11rb::NONE,
            ButtonIndex::from(button),
            under.core(),
        )?,
    })
}

fn end_probe(link: &XConnection, (detail, under): Grab) -> Result<(), BackendError> {
    match detail {
        KeyOrButton::Code(code) => link.conn.ungrab_key(code, link.root, under.core())?,
        KeyOrButton::Button(button) => {
            link.conn.ungrab_button(ButtonIndex::from(button), link.root, under.core())?
        }
    };
    Ok(())
}

/// Whether no client has grabbed a combination.
pub(super) fn is_free(
    link: &XConnection,
    detail: KeyOrButton,
    mask: u32,
) -> Result<bool, BackendError> {
    let wanted = (detail, GrabModifiers::Mask(mask));
    let core = probe(link, wanted)?.check().is_ok();
    end_probe(link, wanted)?;
    let mode = GrabOptions { waits: false, raw: RawEventSelection::default() };
    let modern = grab(link, wanted, mode)?.reply()?.modifiers.is_empty();
    if modern {
        ungrab(link, wanted)?;
        link.conn.get_input_focus()?.reply()?;
    }
    Ok(core && modern)
}

type GrabCookie<'c> = x11rb::cookie::Cookie<'c, ServerConnection, xinput::XIPassiveGrabDeviceReply>;

fn grab<'c>(
    link: &'c XConnection,
    (detail, under): Grab,
    GrabOptions { waits, raw }: GrabOptions,
) -> Result<GrabCookie<'c>, BackendError> {
    let (device, kind, events) = match detail {
        // Its release is selected separately, if needed: each event wakes the program up.
        KeyOrButton::Code(_) => {
            (link.devices.master_keyboard, GrabType::KEYCODE, XIEventMask::KEY_PRESS)
        }
        KeyOrButton::Button(_) => (
            link.devices.master_pointer,
            GrabType::BUTTON,
            XIEventMask::BUTTON_PRESS | XIEventMask::BUTTON_RELEASE,
        ),
    };
    // What waits may be held to draw with.
    let raw = RawEventSelection { motion: raw.motion || waits, ..raw };
    let events = events | raw.of_masters();
    let mode = if waits { GrabMode22::SYNC } else { GrabMode22::ASYNC };
    Ok(link.conn.xinput_xi_passive_grab_device(
        CURRENT_TIME,
        link.root,
        x11rb::NONE,
        detail.number(),
        device,
        kind,
        mode,
        GrabMode::ASYNC,
        GrabOwner::NO_OWNER,
        &[events.into()],
        &[under.modern()],
    )?)
}

fn ungrab(link: &XConnection, (detail, under): Grab) -> Result<(), BackendError> {
    let (device, kind) = match detail {
        KeyOrButton::Code(_) => (link.devices.master_keyboard, GrabType::KEYCODE),
        KeyOrButton::Button(_) => (link.devices.master_pointer, GrabType::BUTTON),
    };
    let (root, number) = (link.root, detail.number());
    link.conn.xinput_xi_passive_ungrab_device(root, number, device, kind, &[under.modern()])?;
    Ok(())
}
