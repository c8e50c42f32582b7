//! Windows: the one in front, the others, bringing one to the front and closing one, all by the
//! hints that window managers share (EWMH).

use std::fs;

use lantern_model::{App, Rect};
use x11rb::connection::{Connection, RequestConnection};
use x11rb::protocol::res::{self, ClientIdMask, ClientIdSpec, ConnectionExt as _};
use x11rb::protocol::xproto::{
    AtomEnum, ClientMessageEvent, ConnectionExt as _, EventMask, InputFocus, Window,
};

use super::connection::XConnection;
use lantern_backend::BackendError;

/// Source indication for window managers (EWMH): a tool that acts for the person.
const FROM_THE_PERSON: u32 = 2;

/// The window in front, 0 for none; none if no window manager reports it. Some managers still name
/// a window that was destroyed.
pub(super) fn active_window(link: &XConnection) -> Result<Window, BackendError> {
    let named = windows_in(link, link.atoms._NET_ACTIVE_WINDOW)?.first().copied().unwrap_or(0);
    let is_there = named != x11rb::NONE && link.conn.get_geometry(named)?.reply().is_ok();
    Ok(if is_there { named } else { x11rb::NONE })
}

/// Whether some window gets what is typed: the one that has the focus or, where the focus follows the
/// pointer, one that is under it.
pub(super) fn has_focus(link: &XConnection) -> Result<bool, BackendError> {
    let focus = link.conn.get_input_focus()?.reply()?.focus;
    let follows_pointer = focus == u32::from(InputFocus::POINTER_ROOT) || focus == link.root;
    if follows_pointer {
        return Ok(link.conn.query_pointer(link.root)?.reply()?.child != x11rb::NONE);
    }
    Ok(focus != x11rb::NONE)
}

/// The windows that a property of the root window lists.
fn windows_in(link: &XConnection, name: u32) -> Result<Vec<Window>, BackendError> {
    numbers(link, link.root, name, AtomEnum::WINDOW.into())
}

/// A property's numbers; none if the window has none, or is gone.
pub(super) fn numbers(
    link: &XConnection,
    window: Window,
    name: u32,
    kind: u32,
) -> Result<Vec<u32>, BackendError> {
    Ok(numbers_in(&property(link, window, name, kind)?))
}

/// The numbers that a property's bytes are.
pub(super) fn numbers_in(bytes: &[u8]) -> Vec<u32> {
    let number = |four: &[u8]| u32::from_ne_bytes(four.try_into().expect("four bytes were taken"));
    bytes.chunks_exact(4).map(number).collect()
}

/// Every window of a program, the one opened last at the end.
pub(super) fn all(link: &XConnection) -> Result<Vec<Window>, BackendError> {
    windows_in(link, link.atoms._NET_CLIENT_LIST)
}

/// The window that owns a selection, 0 for none.
pub(super) fn owner_of(link: &XConnection, selection: u32) -> Result<Window, BackendError> {
    Ok(link.conn.get_selection_owner(selection)?.reply()?.owner)
}

/// Whether a window manager tells which window is in front.
pub(super) fn tells_front(link: &XConnection) -> Result<bool, BackendError> {
    let (active, any) = (link.atoms._NET_ACTIVE_WINDOW, AtomEnum::ANY);
    let cookie = link.conn.get_property(false, link.root, active, any, 0, 1)?;
    Ok(cookie.reply().is_ok_and(|reply| reply.type_ != x11rb::NONE))
}

/// Whether a window manager manages the screen.
pub(super) fn is_managed(link: &XConnection) -> Result<bool, BackendError> {
    let cookie = link.conn.get_property(
        false,
        link.root,
        link.atoms._NET_SUPPORTING_WM_CHECK,
        AtomEnum::ANY,
        0,
        1,
    )?;
    Ok(cookie.reply().is_ok_and(|reply| reply.type_ != x11rb::NONE))
}

/// The topmost window of a program, if it has one.
pub(super) fn of_program(link: &XConnection, name: &str) -> Result<Option<Window>, BackendError> {
    let mut windows = windows_in(link, link.atoms._NET_CLIENT_LIST_STACKING)?;
    if windows.is_empty() {
        windows = all(link)?;
    }
    let name = name.to_lowercase();
    for window in windows.into_iter().rev() {
        if describe(link, window)?.is_named(&name) {
            return Ok(Some(window));
        }
    }
    Ok(None)
}

/// Brings a window to the front.
pub(super) fn raise(link: &XConnection, window: Window) -> Result<(), BackendError> {
    if !is_managed(link)? {
        link.conn.configure_window(
            window,
            &x11rb::protocol::xproto::ConfigureWindowAux::new()
                .stack_mode(x11rb::protocol::xproto::StackMode::ABOVE),
        )?;
        link.conn.set_input_focus(InputFocus::PARENT, window, x11rb::CURRENT_TIME)?;
        return Ok(());
    }
    ask_manager(link, window, link.atoms._NET_ACTIVE_WINDOW, [FROM_THE_PERSON, 0, 0, 0, 0])
}

/// Asks a window to close, as its own close button does.
pub(super) fn close(link: &XConnection, window: Window) -> Result<(), BackendError> {
    ask_manager(link, window, link.atoms._NET_CLOSE_WINDOW, [0, FROM_THE_PERSON, 0, 0, 0])
}

fn ask_manager(
    link: &XConnection,
    window: Window,
    what: u32,
    data: [u32; 5],
) -> Result<(), BackendError> {
    let message = ClientMessageEvent::new(32, window, what, data);
    let mask = EventMask::SUBSTRUCTURE_NOTIFY | EventMask::SUBSTRUCTURE_REDIRECT;
    link.conn.send_event(false, link.root, mask, message)?;
    link.conn.flush()?;
    Ok(())
}

/// The program in front; none if no window is, or no window manager reports it.
pub(super) fn active_app(link: &XConnection) -> Result<App, BackendError> {
    match active_window(link)? {
        0 => Ok(App::default()),
        window => describe(link, window),
    }
}

/// What is known of a window; its number alone if it is gone.
pub(super) fn describe(link: &XConnection, window: Window) -> Result<App, BackendError> {
    let text = |bytes: Vec<u8>| String::from_utf8_lossy(&bytes).into_owned();
    let id = text(property(link, window, link.atoms._GTK_APPLICATION_ID, link.atoms.UTF8_STRING)?);
    let class = text(property(link, window, AtomEnum::WM_CLASS.into(), AtomEnum::STRING.into())?);
    let mut title = text(property(link, window, link.atoms._NET_WM_NAME, link.atoms.UTF8_STRING)?);
    if title.is_empty() {
        title = text(property(link, window, AtomEnum::WM_NAME.into(), AtomEnum::STRING.into())?);
    }
    // WM_CLASS holds the instance, then the class, which is the better name.
    let classes: Vec<&str> = class.split('\0').rev().collect();
    let process = process_of(link, window)?;
    let executable = process.and_then(|pid| {
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
    Ok(App { window: window.into(), names, title, process, bounds: frame_of(link, window)? })
}

/// The process a window belongs to, as it says or, if it does not, as the server knows.
pub(super) fn process_of(link: &XConnection, window: Window) -> Result<Option<u32>, BackendError> {
    let pid = numbers(link, window, link.atoms._NET_WM_PID, AtomEnum::CARDINAL.into())?;
    if let Some(pid) = pid.first() {
        return Ok(Some(*pid));
    }
    if link.conn.extension_information(res::X11_EXTENSION_NAME)?.is_none() {
        return Ok(None);
    }
    let mask = ClientIdMask::LOCAL_CLIENT_PID;
    let ids = link.conn.res_query_client_ids(&[ClientIdSpec { client: window, mask }])?;
    let ids = ids.reply().map(|reply| reply.ids).unwrap_or_default();
    Ok(ids.iter().find_map(|id| id.value.first().copied()))
}

/// Whether a process is a client of the display, if the server can tell. It remains one until the
/// server has read all that it sent.
pub(super) fn is_client(link: &XConnection, process: u32) -> Result<bool, BackendError> {
    if link.conn.extension_information(res::X11_EXTENSION_NAME)?.is_none() {
        return Ok(false);
    }
    let everybody = ClientIdSpec { client: x11rb::NONE, mask: ClientIdMask::LOCAL_CLIENT_PID };
    let ids = link.conn.res_query_client_ids(&[everybody])?.reply()?.ids;
    Ok(ids.iter().any(|id| id.value.contains(&process)))
}

/// Where a window is on the screen; nothing if it is gone.
fn frame_of(link: &XConnection, window: Window) -> Result<Option<Rect>, BackendError> {
    let size = link.conn.get_geometry(window)?;
    let corner = link.conn.translate_coordinates(window, link.root, 0, 0)?;
    let (Ok(size), Ok(corner)) = (size.reply(), corner.reply()) else {
        return Ok(None);
    };
    Ok(Some(Rect {
        x: corner.dst_x.into(),
        y: corner.dst_y.into(),
        width: size.width.into(),
        height: size.height.into(),
    }))
}

/// A property's bytes; none if the window has none, or is gone.
fn property(
    link: &XConnection,
    window: Window,
    name: u32,
    kind: u32,
) -> Result<Vec<u8>, BackendError> {
    const WORDS: u32 = 1024;
    let cookie = link.conn.get_property(false, window, name, kind, 0, WORDS)?;
    Ok(cookie.reply().map(|reply| reply.value).unwrap_or_default())
}

/// The window that has the keyboard, if it answers pings.
pub(super) fn focused_window(link: &XConnection) -> Result<Option<Window>, BackendError> {
    let protocols = link.atoms.WM_PROTOCOLS;
    let mut window = link.conn.get_input_focus()?.reply()?.focus;
    // 0 and 1 mean no window and the root. The focus may be a child of what speaks protocols.
    while window > 1 && window != link.root {
        let spoken = numbers(link, window, protocols, AtomEnum::ATOM.into())?;
        if spoken.contains(&link.atoms._NET_WM_PING) {
            return Ok(Some(window));
        }
        match link.conn.query_tree(window)?.reply() {
            Ok(tree) => window = tree.parent,
            Err(_) => break,
        }
    }
    Ok(None)
}
