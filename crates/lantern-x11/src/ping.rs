//! Pings (`_NET_WM_PING`): a program answers one once it has read all events before it.
//!
//! The answer comes by way of the root window, whose structure events are selected only while one is
//! awaited.

use x11rb::protocol::xproto::{ClientMessageEvent, ConnectionExt as _, EventMask, Window};

use super::connection::XConnection;
use lantern_backend::BackendError;

/// The component that sends a ping.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum PingClient {
    /// Before keycodes change, and before they are used.
    TemporaryKeymap = 1,
    /// After the paste keys.
    Clipboard = 2,
    /// Before another window comes to the front.
    WindowTracker = 3,
}

/// The answer to a ping.
#[derive(Debug, Clone, Copy)]
pub(super) struct Pong {
    pub client: PingClient,
    pub window: Window,
}

/// Selects events of the root window, with the answers to pings if they are awaited.
pub(super) fn select_root_events(
    link: &XConnection,
    awaits_pings: bool,
) -> Result<(), BackendError> {
    let mut mask = EventMask::PROPERTY_CHANGE | EventMask::STRUCTURE_NOTIFY;
    if awaits_pings {
        mask |= EventMask::SUBSTRUCTURE_NOTIFY;
    }
    link.select_root(mask)
}

/// Sends a ping to the program of a window.
pub(super) fn ping(
    link: &XConnection,
    window: Window,
    client: PingClient,
) -> Result<(), BackendError> {
    select_root_events(link, true)?;
    // A window manager puts a time in the second place. The program returns all of it.
    let data = [link.atoms._NET_WM_PING, client as u32, window, 0, 0];
    let message = ClientMessageEvent::new(32, window, link.atoms.WM_PROTOCOLS, data);
    link.conn.send_event(false, window, EventMask::NO_EVENT, message)?;
    Ok(())
}

/// The answer to a ping of ours in a client message, if it is one.
pub(super) fn pong_of(link: &XConnection, message: &ClientMessageEvent) -> Option<Pong> {
    let [kind, client, window, ..] = message.data.as_data32();
    let clients = [PingClient::TemporaryKeymap, PingClient::Clipboard, PingClient::WindowTracker];
    let client = clients.into_iter().find(|known| *known as u32 == client)?;
    (kind == link.atoms._NET_WM_PING).then_some(Pong { client, window })
}
