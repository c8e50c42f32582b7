//! Whether the person is there: the screen is not locked, the session is the one in front, and the
//! machine is awake. Told by the session's screen saver service and by the login manager
//! (org.freedesktop.login1); where neither is at work the person is taken to be there.

use std::sync::{Arc, Mutex};
use std::thread;

use futures::StreamExt;
use futures::executor::block_on;
use zbus::message::Type;
use zbus::{
    Connection, MatchRule, Message, MessageStream, OwnedObjectPath, OwnedVariant, connection,
};

use crate::{SessionError, bus};

const LOGIN: &str = "org.freedesktop.login1";
const MANAGER: &str = "org.freedesktop.login1.Manager";
const MANAGER_PATH: &str = "/org/freedesktop/login1";
const SESSION: &str = "org.freedesktop.login1.Session";
const PROPERTIES: &str = "org.freedesktop.DBus.Properties";

/// What keeps the person away; any of it does.
#[derive(Debug, Default)]
struct LockReasons {
    saver: bool,
    locked: bool,
    in_the_back: bool,
    asleep: bool,
}

impl LockReasons {
    fn any(&self) -> bool {
        self.saver || self.locked || self.in_the_back || self.asleep
    }
}

/// Tells from now on, on threads of its own, whether the person is away, whenever that changes.
pub fn watch(tell: impl Fn(bool) + Send + Sync + 'static) {
    let away = Arc::new(Mutex::new(LockReasons::default()));
    let tell = Arc::new(tell);
    let note = move |change: &dyn Fn(&mut LockReasons)| {
        let Ok(mut away) = away.lock() else { return };
        let before = away.any();
        change(&mut away);
        if away.any() != before {
            tell(away.any());
        }
    };
    let of_login = note.clone();
    // Without the bus the state is unknown, and the thread ends.
    thread::spawn(move || drop(watch_saver(&note)));
    thread::spawn(move || drop(watch_login(&of_login)));
}

type Note<'n> = &'n dyn Fn(&dyn Fn(&mut LockReasons));

/// Screen savers tell of a locked screen by `ActiveChanged`, each desktop by its own name.
fn watch_saver(note: Note<'_>) -> Result<(), SessionError> {
    let session = bus::session()?;
    let rule = MatchRule::builder().msg_type(Type::Signal).member("ActiveChanged").build()?;
    let mut events = block_on(MessageStream::for_match_rule(rule, &session, None))?;
    let saver = "org.freedesktop.ScreenSaver";
    if bus::is_served(&session, saver)? {
        let path = "/org/freedesktop/ScreenSaver";
        let reply = block_on(session.call_method(Some(saver), path, Some(saver), "GetActive", &()));
        let active = reply.ok().and_then(|reply| reply.body().deserialize().ok()).unwrap_or(false);
        note(&|away| away.saver = active);
    }
    while let Some(event) = block_on(events.next()) {
        let event = event?;
        let of_saver = event.header().interface().is_some_and(|i| i.ends_with("ScreenSaver"));
        if let (true, Ok(active)) = (of_saver, event.body().deserialize::<bool>()) {
            note(&|away| away.saver = active);
        }
    }
    Ok(())
}

/// The login manager tells of locks, of the session in front and of sleep.
fn watch_login(note: Note<'_>) -> Result<(), SessionError> {
    let system = block_on(connection::Builder::system().method_timeout(bus::PATIENCE).build())?;
    let rule = MatchRule::builder().msg_type(Type::Signal).sender(LOGIN).build()?;
    let mut events = block_on(MessageStream::for_match_rule(rule, &system, None))?;
    let own = own_session(&system)?;
    let look = || {
        let flag = |name: &str| property(&system, &own, name).unwrap_or_default();
        let (locked, in_front) = (flag("LockedHint"), flag("Active"));
        note(&|away| (away.locked, away.in_the_back) = (locked, !in_front));
    };
    look();
    while let Some(event) = block_on(events.next()) {
        let event = event?;
        if is_named(&event, MANAGER, "PrepareForSleep") {
            if let Ok(asleep) = event.body().deserialize::<bool>() {
                note(&|away| away.asleep = asleep);
            }
        } else if is_named(&event, PROPERTIES, "PropertiesChanged")
            && event.header().path().is_some_and(|path| path.as_str() == own.as_str())
        {
            look();
        }
    }
    Ok(())
}

fn is_named(event: &Message, interface: &str, member: &str) -> bool {
    let header = event.header();
    header.interface().is_some_and(|name| name.as_str() == interface)
        && header.member().is_some_and(|name| name.as_str() == member)
}

/// The session that we are in.
fn own_session(system: &Connection) -> Result<OwnedObjectPath, SessionError> {
    let (method, process) = ("GetSessionByPID", std::process::id());
    let call = system.call_method(Some(LOGIN), MANAGER_PATH, Some(MANAGER), method, &process);
    Ok(block_on(call)?.body().deserialize()?)
}

fn property(
    system: &Connection,
    session: &OwnedObjectPath,
    name: &str,
) -> Result<bool, SessionError> {
    let asked = (SESSION, name);
    let path = session.as_str();
    let reply = block_on(system.call_method(Some(LOGIN), path, Some(PROPERTIES), "Get", &asked))?;
    let value: OwnedVariant = reply.body().deserialize()?;
    Ok(bool::try_from(value).unwrap_or(false))
}
