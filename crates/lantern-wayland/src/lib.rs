//! Back ends on Wayland sessions.
//!
//! Owns [`PortalBackend`], which gets shortcuts and sends input by the desktop portals; [`WlrootsBackend`],
//! which is the input method of compositors of the wlroots family; and [`WaylandBackend`], which adds windows and the clipboard of the compositor to another back end.

mod compositor;
mod connection;
mod portal;
mod wlroots;

pub use compositor::{CompositorOffers, WaylandBackend, session_offers};
pub use portal::{PortalBackend, PortalOffers, portal_offers};
pub use wlroots::{WlrootsBackend, wlroots_offers};
