//! The program in front, as the window manager says.

use std::fs;

use lantern_model::{App, Frame};
use x11rb::protocol::xproto::{AtomEnum, ConnectionExt as _, Window};

use super::connection::Link;
use crate::DeskError;

/// The program in front; nobody if no window is, or no window manager says so.
pub(super) fn active_app(link: &Link) -> Result<App, DeskError> {
    let active = property(link, link.root, link.atoms._NET_ACTIVE_WINDOW, AtomEnum::WINDOW.into())?;
    let window = active
        .get(..4)
        .map_or(0, |bytes| u32::from_ne_bytes(bytes.try_into().expect("four bytes were taken")));
    if window == 0 {
        return Ok(App::default());
    }
    let text = |bytes: Vec<u8>| String::from_utf8_lossy(&bytes).into_owned();
    let id = text(property(link, window, link.atoms._GTK_APPLICATION_ID, link.atoms.UTF8_STRING)?);
    let class = text(property(link, window, AtomEnum::WM_CLASS.into(), AtomEnum::STRING.into())?);
    let title = text(property(link, window, link.atoms._NET_WM_NAME, link.atoms.UTF8_STRING)?);
    let pid = property(link, window, link.atoms._NET_WM_PID, AtomEnum::CARDINAL.into())?;
    // WM_CLASS holds the instance, then the class, which is the better name.
    let classes: Vec<&str> = class.split('\0').rev().collect();
    let executable = pid.get(..4).and_then(|bytes| {
        let pid = u32::from_ne_bytes(bytes.try_into().expect("four bytes were taken"));
        let link = fs::read_link(format!("/proc/{pid}/exe")).ok()?;
        link.file_name().map(|name| name.to_string_lossy().into_owned())
    });
    let mut names: Vec<String> = Vec::new();
    let all = [id.as_str()].into_iter().chain(classes).chain(executable.as_deref());
    for name in all.filter(|name| !name.is_empty()).map(str::to_lowercase) {
        if !names.contains(&name) {
            names.push(name);
        }
    }
    Ok(App { window: window.into(), names, title, frame: frame_of(link, window)? })
}

/// Where a window is on the screen; nothing if it is gone.
fn frame_of(link: &Link, window: Window) -> Result<Option<Frame>, DeskError> {
    let size = link.conn.get_geometry(window)?;
    let corner = link.conn.translate_coordinates(window, link.root, 0, 0)?;
    let (Ok(size), Ok(corner)) = (size.reply(), corner.reply()) else {
        return Ok(None);
    };
    Ok(Some(Frame {
        x: corner.dst_x.into(),
        y: corner.dst_y.into(),
        width: size.width.into(),
        height: size.height.into(),
    }))
}

/// A property's bytes; none if the window has none, or is gone.
fn property(link: &Link, window: Window, name: u32, kind: u32) -> Result<Vec<u8>, DeskError> {
    const WORDS: u32 = 1024;
    let cookie = link.conn.get_property(false, window, name, kind, 0, WORDS)?;
    Ok(cookie.reply().map(|reply| reply.value).unwrap_or_default())
}

/// The window that has the keyboard, if it answers pings.
pub(super) fn focused_window(link: &Link) -> Result<Option<Window>, DeskError> {
    let protocols = link.atoms.WM_PROTOCOLS;
    let mut window = link.conn.get_input_focus()?.reply()?.focus;
    // 0 and 1 mean no window and the root. The focus may be a child of what speaks protocols.
    while window > 1 && window != link.root {
        let spoken = property(link, window, protocols, AtomEnum::ATOM.into())?;
        let answers = spoken.chunks_exact(4).any(|bytes| {
            u32::from_ne_bytes(bytes.try_into().expect("four bytes were taken"))
                == link.atoms._NET_WM_PING
        });
        if answers {
            return Ok(Some(window));
        }
        match link.conn.query_tree(window)?.reply() {
            Ok(tree) => window = tree.parent,
            Err(_) => break,
        }
    }
    Ok(None)
}
