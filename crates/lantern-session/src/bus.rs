//! A connection to the session's message bus.

use std::collections::BTreeMap;
use std::time::Duration;

use futures::executor::block_on;
use zbus::{Connection, Variant, connection};

use lantern_system::try_twice;

use crate::SessionError;

/// A program that is slower than this is taken for hung.
pub const PATIENCE: Duration = Duration::from_secs(5);

/// Connects to the session bus.
pub fn session() -> Result<Connection, SessionError> {
    block_on(connection::Builder::session().method_timeout(PATIENCE).build())
        .map_err(|_| SessionError::NoBus)
}

/// Has the program of that name start, or show itself, and open the addresses (D-Bus activation as
/// in the Desktop Entry Specification); gives its process.
pub fn activate(
    connection: &mut Option<Connection>,
    name: &str,
    addresses: &[String],
) -> Result<u32, SessionError> {
    try_twice(connection, session, |open| block_on(activate_on(open, name, addresses)))
}

async fn activate_on(
    open: &Connection,
    name: &str,
    addresses: &[String],
) -> Result<u32, SessionError> {
    let path = format!("/{}", name.replace('.', "/").replace('-', "_"));
    let about: BTreeMap<&str, Variant<'_>> = BTreeMap::new();
    let interface = Some("org.freedesktop.Application");
    let path = path.as_str();
    if addresses.is_empty() {
        open.call_method(Some(name), path, interface, "Activate", &about).await?;
    } else {
        let body = (addresses, &about);
        open.call_method(Some(name), path, interface, "Open", &body).await?;
    }
    let (bus, path) = ("org.freedesktop.DBus", "/org/freedesktop/DBus");
    let method = "GetConnectionUnixProcessID";
    let reply = open.call_method(Some(bus), path, Some(bus), method, &name).await?;
    Ok(reply.body().deserialize()?)
}

/// Whether a service owns that name now.
pub fn is_served(connection: &Connection, name: &str) -> Result<bool, SessionError> {
    let (bus, path) = ("org.freedesktop.DBus", "/org/freedesktop/DBus");
    let call = connection.call_method(Some(bus), path, Some(bus), "NameHasOwner", &name);
    Ok(block_on(call)?.body().deserialize()?)
}

/// Whether no service owns that name, now or on demand.
pub fn is_unserved(error: &zbus::Error) -> bool {
    use zbus::fdo::Error;
    matches!(
        error,
        zbus::Error::FDO(error) if matches!(
            **error,
            Error::ServiceUnknown(_)
                | Error::NameHasNoOwner(_)
                | Error::NoReply(_)
                | Error::SpawnExecFailed(_)
                | Error::SpawnChildExited(_)
                | Error::SpawnFailed(_)
                | Error::SpawnServiceNotFound(_)
        )
    )
}
