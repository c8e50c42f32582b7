//! Opens the back end on the desktop's portals for `lantern run`.

use std::path::PathBuf;

use lantern_backend::BackendError;
use lantern_model::RuleSet;
use lantern_system::home_folder;
use lantern_wayland::{PortalBackend, session_offers};

/// Opens the back end with the combinations of a set.
///
/// # Errors
/// When the system is out of descriptors.
pub fn open(rules: &RuleSet) -> Result<PortalBackend, BackendError> {
    let knows_front = session_offers().is_ok_and(|offers| offers.windows);
    PortalBackend::open(rules, portal_token(), knows_front)
}

/// Where it is kept that the person agreed to input by the portal.
fn portal_token() -> PathBuf {
    home_folder("XDG_STATE_HOME", ".local/state")
        .unwrap_or_default()
        .join("cold-lantern")
        .join("portal-token")
}
