//! Back ends on Wayland sessions.
//!
//! Owns [`PortalBackend`], which gets shortcuts and sends input by the desktop portals, and
//! [`WaylandBackend`], which adds windows and the clipboard of the compositor to another back end.

mod compositor;
mod portal;

pub use compositor::{CompositorOffers, WaylandBackend, session_offers};
pub use portal::{PortalBackend, PortalOffers, portal_offers};
