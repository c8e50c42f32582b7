//! Events of devices: a serial port is found by its path.

use lantern_model::{Device, DeviceKind, RuleSet};

/// The device of the rules at a port, whichever of the port's names either is.
pub(super) fn device_at(rules: &RuleSet, port: &str) -> Option<String> {
    let real = std::fs::canonicalize(port).ok()?;
    let is_it = |device: &&Device| {
        matches!(device.kind, DeviceKind::Serial { .. })
            && std::fs::canonicalize(device.kind.address()).is_ok_and(|path| path == real)
    };
    rules.devices.iter().find(is_it).map(|device| device.name.clone())
}
