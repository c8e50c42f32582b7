//! Notices, shown by the session's notification service (the Desktop Notifications Specification).

use std::collections::BTreeMap;

use futures::executor::block_on;
use zbus::Connection;
use zbus::Variant;

use crate::{SessionError, bus};

const NAME: &str = "org.freedesktop.Notifications";
const PATH: &str = "/org/freedesktop/Notifications";

/// Shows a notice: the first line is its heading, the rest its text.
pub fn show(connection: &mut Option<Connection>, text: &str) -> Result<(), SessionError> {
    let (heading, rest) = text.split_once('\n').unwrap_or((text, ""));
    let none: [&str; 0] = [];
    let hints: BTreeMap<&str, Variant<'_>> = BTreeMap::new();
    // By default it stays for as long as the service likes.
    let body = ("Cold Lantern", 0u32, "", heading, escaped(rest), &none[..], hints, -1i32);
    call(connection, "Notify", &body)?;
    Ok(())
}

/// What the notification service calls itself.
///
/// # Errors
/// When there is none.
pub fn service_name() -> Result<String, SessionError> {
    let reply = call(&mut None, "GetServerInformation", &())?;
    let body = reply.body();
    let (name, _, version, _): (String, String, String, String) = body.deserialize()?;
    Ok(format!("{name} {version}"))
}

fn call<B>(
    connection: &mut Option<Connection>,
    method: &str,
    body: &B,
) -> Result<zbus::Message, SessionError>
where
    B: serde::Serialize + zbus::zvariant::DynamicType,
{
    lantern_system::try_twice(connection, bus::session, |open| {
        let reply = block_on(open.call_method(Some(NAME), PATH, Some(NAME), method, body));
        reply.map_err(|error| match bus::is_unserved(&error) {
            true => SessionError::NoNotices,
            false => error.into(),
        })
    })
}

/// A notice's text may hold markup; ours never does.
fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}
