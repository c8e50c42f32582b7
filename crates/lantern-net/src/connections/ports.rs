//! Serial ports that are there, with what is plugged in, as the kernel tells it in `/sys`.

use std::fs;
use std::path::{Path, PathBuf};

/// A serial port.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Port {
    /// Where it is now, `/dev/ttyACM0`.
    pub path: PathBuf,
    /// Where it is found again however it is plugged in, if the system gives it such a name.
    pub stable: Option<PathBuf>,
    /// The manufacturer of the device, if it reports one.
    pub vendor: Option<String>,
    /// What it is, as it tells.
    pub product: Option<String>,
    /// Which of its kind it is.
    pub serial_number: Option<String>,
    /// Vendor and product in figures, such as `2341:0043`.
    pub id: Option<String>,
    /// Whether this person may open it.
    pub allowed: bool,
}

/// Every serial port that is there; ports of the board itself only if something answers there.
pub fn ports() -> Vec<Port> {
    let devices = fs::read_dir("/sys/class/tty").into_iter().flatten().flatten();
    let mut found: Vec<Port> = devices.filter_map(|entry| port_of(&entry.path())).collect();
    found.sort();
    found
}

fn port_of(entry: &Path) -> Option<Port> {
    // Consoles and pseudo-terminals hang on no device.
    let device = fs::canonicalize(entry.join("device")).ok()?;
    let driver = fs::canonicalize(device.join("subsystem")).ok()?;
    let is_bare = matches!(driver.file_name()?.to_str()?, "platform" | "serial-base" | "pnp");
    if is_bare && read(&entry.join("type")).is_none_or(|kind| kind == "0") {
        return None;
    }
    let path = Path::new("/dev").join(entry.file_name()?);
    // The nearest thing on the way up that says what it is.
    let told = device.ancestors().find(|above| above.join("idVendor").exists());
    let tells = |what: &str| told.and_then(|told| read(&told.join(what)));
    let id = tells("idVendor").zip(tells("idProduct"));
    let allowed =
        rustix::fs::access(&path, rustix::fs::Access::READ_OK | rustix::fs::Access::WRITE_OK);
    Some(Port {
        stable: stable_name(&path),
        vendor: tells("manufacturer"),
        product: tells("product"),
        serial_number: tells("serial"),
        id: id.map(|(vendor, product)| format!("{vendor}:{product}")),
        allowed: allowed.is_ok(),
        path,
    })
}

/// The name by which it is found again, of those that the system keeps.
fn stable_name(path: &Path) -> Option<PathBuf> {
    let names = fs::read_dir("/dev/serial/by-id").ok()?.flatten();
    names.map(|name| name.path()).find(|name| fs::canonicalize(name).is_ok_and(|real| real == path))
}

fn read(path: &Path) -> Option<String> {
    let text = fs::read_to_string(path).ok()?.trim().to_owned();
    (!text.is_empty()).then_some(text)
}
