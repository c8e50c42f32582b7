//! Calls to the desktop portal over the session bus: requests that the person may have to answer, sessions,
//! and the signals that end them.

use std::collections::BTreeMap;

use futures::StreamExt;
use futures::executor::block_on;
use futures::stream;
use serde::Serialize;
use zbus::message::Type;
use zbus::zvariant::DynamicType;
use zbus::{
    Connection, MatchRule, Message, MessageStream, ObjectPath, OwnedObjectPath, OwnedVariant,
    Variant,
};

pub(super) const PORTAL: &str = "org.freedesktop.portal.Desktop";
pub(super) const PATH: &str = "/org/freedesktop/portal/desktop";
pub(super) const SHORTCUTS: &str = "org.freedesktop.portal.GlobalShortcuts";
pub(super) const REMOTE: &str = "org.freedesktop.portal.RemoteDesktop";
/// The message of a request that the person refused.
pub(super) const REFUSED: &str = "you refused it";
const REQUEST: &str = "org.freedesktop.portal.Request";
const SESSION: &str = "org.freedesktop.portal.Session";

/// What the portal of this session has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PortalOffers {
    /// Shortcuts in every program.
    pub shortcuts: bool,
    /// Input made by others.
    pub input: bool,
}

/// What the portal of this session has; nothing where there is none.
pub fn portal_offers() -> Option<PortalOffers> {
    let bus = block_on(Connection::session()).ok()?;
    let has = |interface: &str| block_on(version(&bus, interface)).is_ok();
    Some(PortalOffers { shortcuts: has(SHORTCUTS), input: has(REMOTE) })
}

/// The version of an interface of the portal.
///
/// # Errors
/// When the portal or the interface is missing.
pub(super) async fn version(bus: &Connection, interface: &str) -> zbus::Result<u32> {
    let properties = "org.freedesktop.DBus.Properties";
    let asked = (interface, "version");
    let reply = bus.call_method(Some(PORTAL), PATH, Some(properties), "Get", &asked).await?;
    let value: OwnedVariant = reply.body().deserialize()?;
    u32::try_from(value)
}

/// The answer to a request.
pub(super) type Results = BTreeMap<String, OwnedVariant>;

/// Signals from the portal's interface, the end of any session, and the end of the portal itself.
///
/// # Errors
/// When the bus is gone.
pub(super) async fn signals(bus: &Connection, interface: &'static str) -> zbus::Result<Signals> {
    let of = |interface: &'static str| {
        MatchRule::builder().msg_type(Type::Signal).interface(interface).build()
    };
    let own = MessageStream::for_match_rule(of(interface)?, bus, None).await?;
    let closed = MessageStream::for_match_rule(of(SESSION)?, bus, None).await?;
    let owner = owner_changes(bus).await?;
    Ok(Box::pin(stream::select(stream::select(own, closed), owner)))
}

/// A stream of [`signals`].
pub(super) type Signals =
    std::pin::Pin<Box<dyn futures::Stream<Item = zbus::Result<Message>> + Send>>;

/// `NameOwnerChanged` of the portal.
async fn owner_changes(bus: &Connection) -> zbus::Result<MessageStream> {
    let rule = MatchRule::builder()
        .msg_type(Type::Signal)
        .interface("org.freedesktop.DBus")
        .member("NameOwnerChanged")
        .arg(0, PORTAL)
        .build()?;
    MessageStream::for_match_rule(rule, bus, None).await
}

/// Why a session has ended, if a signal says so.
pub(super) fn end_of_session(signal: &Message, session: &OwnedObjectPath) -> Option<String> {
    let header = signal.header();
    let member = header.member().map_or("", |member| member.as_str());
    match member {
        "Closed" if header.path().is_some_and(|path| path.as_str() == session.as_str()) => {
            Some("the desktop ended the session".to_owned())
        }
        "NameOwnerChanged" if lost_owner(signal) => Some("the portal ended".to_owned()),
        _ => None,
    }
}

/// Whether the portal's name has another owner or none.
fn lost_owner(signal: &Message) -> bool {
    let changed: zbus::Result<(String, String, String)> = signal.body().deserialize();
    changed.is_ok_and(|(_, before, _)| !before.is_empty())
}

/// Asks for something that the person may have to agree to, and waits for the answer.
///
/// # Errors
/// When the person refuses, or the portal ends before it answers.
pub(super) async fn request<B>(
    bus: &Connection,
    interface: &str,
    method: &str,
    token: &str,
    body: &B,
) -> zbus::Result<Results>
where
    B: Serialize + DynamicType + Sync,
{
    let sender = bus.unique_name().map_or("", |name| name.as_str());
    let sender = sender.trim_start_matches(':').replace('.', "_");
    let path = format!("{PATH}/request/{sender}/{token}");
    let rule = MatchRule::builder()
        .msg_type(Type::Signal)
        .interface(REQUEST)
        .member("Response")
        .path(path)
        .build()?;
    // It is listened for before it is asked, so that no answer is missed.
    let answers = MessageStream::for_match_rule(rule, bus, None).await?;
    let mut signals = stream::select(answers, owner_changes(bus).await?);
    bus.call_method(Some(PORTAL), PATH, Some(interface), method, body).await?;
    let gone = || zbus::Error::Failure("the portal ended".to_owned());
    loop {
        let signal: Message = signals.next().await.ok_or_else(gone)??;
        let header = signal.header();
        if header.member().is_some_and(|member| member.as_str() == "NameOwnerChanged") {
            if lost_owner(&signal) {
                return Err(gone());
            }
            continue;
        }
        let (response, results): (u32, Results) = signal.body().deserialize()?;
        return match response {
            0 => Ok(results),
            1 => Err(zbus::Error::Failure(REFUSED.to_owned())),
            _ => Err(zbus::Error::Failure("it ended the request".to_owned())),
        };
    }
}

/// Options of a call, by their names.
pub(super) type Options<'o> = BTreeMap<&'o str, Variant<'o>>;

/// Creates a session; gives its path, with the rest of the answer.
///
/// # Errors
/// As [`request`].
pub(super) async fn create_session<'o>(
    bus: &Connection,
    interface: &str,
    name: &'o str,
    more: Options<'o>,
) -> zbus::Result<(OwnedObjectPath, Results)> {
    let mut options = more;
    options.insert("handle_token", Variant::from(name));
    options.insert("session_handle_token", Variant::from(name));
    let results = request(bus, interface, "CreateSession", name, &(options,)).await?;
    let missing = || zbus::Error::Failure("the portal gave no session".to_owned());
    let handle = results.get("session_handle").ok_or_else(missing)?;
    let handle = handle.try_clone()?;
    // It is a text by the specification, and a path in some portals.
    let path = match String::try_from(handle.try_clone()?) {
        Ok(text) => text,
        Err(_) => OwnedObjectPath::try_from(handle)?.to_string(),
    };
    Ok((ObjectPath::try_from(path)?.into(), results))
}

/// Closes a session. One that is closed already needs nothing.
pub(super) async fn close_session(bus: &Connection, session: &OwnedObjectPath) {
    let _ = bus.call_method(Some(PORTAL), session, Some(SESSION), "Close", &()).await;
}
