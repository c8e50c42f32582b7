//! Looking at a display without working on it: its windows, its window manager, what it helps the
//! person's hands with.

use lantern_model::App;
use x11rb::connection::RequestConnection;
use x11rb::protocol::xkb::{BoolCtrl, ConnectionExt as _, ID};
use x11rb::protocol::xproto::{AtomEnum, ConnectionExt as _, GrabMode, GrabStatus};
use x11rb::protocol::{randr, shape, xfixes};

use super::connection::XConnection;
use super::keymap::Keymap;
use super::temporary_keymap::lent_levels;
use super::{pointer, windows};
use lantern_backend::BackendError;

/// What a display offers.
#[derive(Debug, Clone)]
pub struct DisplayDiagnostics {
    /// The window manager's name, if there is one.
    pub manager: Option<String>,
    /// Whether it tells which program is in front.
    pub tells_programs: bool,
    /// Extensions that some steps need and the server lacks.
    pub missing: Vec<&'static str>,
    /// The keyboards under the person's hands.
    pub keyboards: Vec<String>,
    /// How many screens there are.
    pub screens: usize,
    /// How many characters that the layout lacks can be typed at a time.
    pub spare: usize,
    /// Helps for the person's hands that are on: sticky keys and their like.
    pub helps: Vec<&'static str>,
}

/// Every window of a program on the display in DISPLAY, the one in front first.
///
/// # Errors
/// When the display cannot be reached.
pub fn list_windows() -> Result<Vec<App>, BackendError> {
    let link = XConnection::open(None)?;
    let front = windows::active_window(&link)?;
    let mut all = windows::all(&link)?;
    all.sort_by_key(|window| *window != front);
    all.into_iter().map(|window| windows::describe(&link, window)).collect()
}

/// Looks at the display in DISPLAY.
///
/// # Errors
/// When the display cannot be reached, or lacks what we cannot do without.
pub fn survey() -> Result<DisplayDiagnostics, BackendError> {
    let link = XConnection::open(None)?;
    let keymap = Keymap::read(&link.conn)?;
    let names = [randr::X11_EXTENSION_NAME, shape::X11_EXTENSION_NAME, xfixes::X11_EXTENSION_NAME];
    let mut missing = Vec::new();
    for name in names {
        if link.conn.extension_information(name)?.is_none() {
            missing.push(name);
        }
    }
    let keyboards = link.devices.keyboards.iter();
    let keyboards = keyboards.filter_map(|id| link.devices.names.get(&(*id).into()).cloned());
    let (manager, keyboards) = (manager(&link)?, keyboards.collect());
    Ok(DisplayDiagnostics {
        tells_programs: windows::tells_front(&link)?,
        manager,
        missing,
        keyboards,
        screens: pointer::screens(&link)?.len(),
        spare: keymap.spare.len() * lent_levels(&keymap),
        helps: helps(&link)?,
    })
}

/// Whether another client has grabbed the keyboard of the display in DISPLAY: a menu, a lock
/// screen, a program that asked for it.
///
/// # Errors
/// When the display cannot be reached.
pub fn keyboard_is_held() -> Result<bool, BackendError> {
    let link = XConnection::open(None)?;
    let (conn, mode, now) = (&link.conn, GrabMode::ASYNC, x11rb::CURRENT_TIME);
    let reply = conn.grab_keyboard(false, link.root, now, mode, mode)?.reply()?;
    // What we took for the question goes with the connection.
    Ok(reply.status == GrabStatus::ALREADY_GRABBED)
}

/// The window manager's name; empty if it has none.
fn manager(link: &XConnection) -> Result<Option<String>, BackendError> {
    if !windows::is_managed(link)? {
        return Ok(None);
    }
    let check = link.atoms._NET_SUPPORTING_WM_CHECK;
    let cookie = link.conn.get_property(false, link.root, check, AtomEnum::WINDOW, 0, 1)?;
    let window = cookie.reply().ok().and_then(|reply| reply.value32()?.next());
    let Some(window) = window else { return Ok(Some(String::new())) };
    let (name, kind) = (link.atoms._NET_WM_NAME, link.atoms.UTF8_STRING);
    let reply = link.conn.get_property(false, window, name, kind, 0, 64)?.reply();
    Ok(Some(
        reply.map(|reply| String::from_utf8_lossy(&reply.value).into_owned()).unwrap_or_default(),
    ))
}

fn helps(link: &XConnection) -> Result<Vec<&'static str>, BackendError> {
    let controls = link.conn.xkb_get_controls(ID::USE_CORE_KBD.into())?.reply()?;
    let on = u32::from(controls.enabled_controls);
    let known = [
        (BoolCtrl::STICKY_KEYS, "sticky keys"),
        (BoolCtrl::SLOW_KEYS, "slow keys"),
        (BoolCtrl::BOUNCE_KEYS, "bounce keys"),
        (BoolCtrl::MOUSE_KEYS, "mouse keys"),
    ];
    Ok(known.iter().filter(|(bit, _)| on & u32::from(*bit) != 0).map(|(_, name)| *name).collect())
}
