//! Opens the back end on the desktop's portals for `lantern run`.

use std::path::PathBuf;

use lantern_backend::BackendError;
use lantern_model::{RuleSet, TriggerKind};
use lantern_system::home_folder;
use lantern_wayland::{PortalBackend, RequestedShortcut};

/// Opens the back end with the combinations of a set.
///
/// # Errors
/// When the portal does not give us what the rules need.
pub fn open(rules: &RuleSet) -> Result<PortalBackend, BackendError> {
    PortalBackend::open(&wanted(rules), portal_token())
}

/// The combinations of a set, for the portal, each with what it does; the panic combination first.
fn wanted(rules: &RuleSet) -> Vec<RequestedShortcut> {
    let panic = RequestedShortcut {
        combo: rules.settings.panic.clone(),
        description: "Stop everything".to_owned(),
    };
    let mut all = vec![panic];
    for rule in &rules.rules {
        for trigger in &rule.triggers {
            let combos = match &trigger.kind {
                TriggerKind::Key { combo, .. } => std::slice::from_ref(combo),
                TriggerKind::Keys { combos, .. } => combos.as_slice(),
                _ => &[],
            };
            for combo in combos {
                if !all.iter().any(|wanted| wanted.combo == *combo) {
                    let (combo, description) = (combo.clone(), rule.label.clone());
                    all.push(RequestedShortcut { combo, description });
                }
            }
        }
    }
    all
}

/// Where it is kept that the person agreed to input by the portal.
fn portal_token() -> PathBuf {
    home_folder("XDG_STATE_HOME", ".local/state")
        .unwrap_or_default()
        .join("cold-lantern")
        .join("portal-token")
}
