//! Shortcuts of the portal: one session for all, asked for anew when it ends or the rules change.

use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

use futures::channel::mpsc::UnboundedReceiver;
use futures::future::Either;
use futures::{StreamExt, future};
use zbus::{Connection, OwnedObjectPath, OwnedVariant, Variant};

use super::bus::{
    Options, Results, SHORTCUTS, close_session, create_session, end_of_session, request, signals,
    version,
};
use super::{PortalEvent, PortalEventSender};

/// The session as the desktop lists it among its shortcuts.
const SESSION_NAME: &str = "cold_lantern";
/// Pause before a session that ended is asked for anew; it doubles while sessions end soon.
const FIRST_PAUSE: Duration = Duration::from_secs(1);
const LONGEST_PAUSE: Duration = Duration::from_secs(60);

/// A shortcut as the portal is asked for it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct PortalShortcut {
    /// The combination as rules write it: some desktops remember keys by it.
    pub(super) id: String,
    pub(super) description: String,
    /// The combination as the XDG shortcuts specification writes it.
    pub(super) trigger: String,
}

/// Why a session of shortcuts is over.
enum SessionEnd {
    /// Other shortcuts are wanted.
    Changed(Vec<PortalShortcut>),
    /// The desktop or the portal ended it.
    Lost(String),
    /// The back end was dropped.
    Unwanted,
}

/// Gets the shortcuts that are wanted and reports their presses, until the back end is dropped.
pub(super) async fn serve_shortcuts(
    bus: Connection,
    mut changes: UnboundedReceiver<Vec<PortalShortcut>>,
    events: PortalEventSender,
) {
    let mut pause = FIRST_PAUSE;
    let mut wanted = Vec::new();
    loop {
        if wanted.is_empty() {
            // Nothing is asked of the person before there is something to ask for.
            match changes.next().await {
                Some(changed) => wanted = changed,
                None => return,
            }
            continue;
        }
        let began = Instant::now();
        match serve_session(&bus, &wanted, &mut changes, &events).await {
            Ok(SessionEnd::Unwanted) => return,
            Ok(SessionEnd::Changed(changed)) => wanted = changed,
            Ok(SessionEnd::Lost(why)) => {
                events.send(PortalEvent::ShortcutsLost(format!("{why}; it is asked again")));
                if began.elapsed() > LONGEST_PAUSE {
                    pause = FIRST_PAUSE;
                }
                std::thread::sleep(pause);
                pause = (pause * 2).min(LONGEST_PAUSE);
            }
            Err(error) => {
                // Asked again for other shortcuts only: a person who refused has answered.
                events.send(PortalEvent::ShortcutsLost(error.to_string()));
                wanted.clear();
            }
        }
    }
}

/// One session, from the request to its end.
async fn serve_session(
    bus: &Connection,
    wanted: &[PortalShortcut],
    changes: &mut UnboundedReceiver<Vec<PortalShortcut>>,
    events: &PortalEventSender,
) -> zbus::Result<SessionEnd> {
    let missing = |_| zbus::Error::Failure("this desktop has no portal for shortcuts".to_owned());
    version(bus, SHORTCUTS).await.map_err(missing)?;
    let mut signals = signals(bus, SHORTCUTS).await?;
    // Some portals take the shortcuts here, and others when they are bound.
    let early = Options::from([("shortcuts", Variant::from(described(wanted)))]);
    let (session, results) = create_session(bus, SHORTCUTS, SESSION_NAME, early).await?;
    let mut granted = granted(&results);
    if !wanted.iter().all(|shortcut| granted.contains(&shortcut.id)) {
        let about = Options::from([("handle_token", Variant::from("cold_lantern_bind"))]);
        let body = (&session, described(wanted), "", about);
        let results = request(bus, SHORTCUTS, "BindShortcuts", "cold_lantern_bind", &body).await?;
        granted.extend(self::granted(&results));
    }
    events.send(PortalEvent::ShortcutsGranted(granted));
    loop {
        let signal = match future::select(signals.next(), changes.next()).await {
            Either::Left((signal, _)) => signal,
            Either::Right((Some(changed), _)) if changed == wanted => continue,
            Either::Right((changed, _)) => {
                close_session(bus, &session).await;
                return Ok(changed.map_or(SessionEnd::Unwanted, SessionEnd::Changed));
            }
        };
        let Some(signal) = signal else {
            return Ok(SessionEnd::Lost("the session bus ended".to_owned()));
        };
        let signal = signal?;
        if let Some(why) = end_of_session(&signal, &session) {
            return Ok(SessionEnd::Lost(why));
        }
        let header = signal.header();
        let member = header.member().map_or("", |member| member.as_str());
        let event: fn(String) -> PortalEvent = match member {
            "Activated" => PortalEvent::Pressed,
            "Deactivated" => PortalEvent::Released,
            _ => continue,
        };
        // A signal of another form is none for us.
        let body: zbus::Result<(OwnedObjectPath, String, u64, Results)> =
            signal.body().deserialize();
        if let Ok((of, id, _, _)) = body
            && of == session
        {
            events.send(event(id));
        }
    }
}

/// The shortcuts in the form of the portal: `a(sa{sv})`.
fn described(wanted: &[PortalShortcut]) -> Vec<(&str, Options<'_>)> {
    let options = |shortcut: &PortalShortcut| {
        Options::from([
            ("description", Variant::from(shortcut.description.clone())),
            ("preferred_trigger", Variant::from(shortcut.trigger.clone())),
        ])
    };
    wanted.iter().map(|shortcut| (shortcut.id.as_str(), options(shortcut))).collect()
}

/// The ids of an answer that have a trigger. A desktop that does not say which trigger it gave leaves the
/// description out; one that gave none leaves it empty.
fn granted(results: &Results) -> BTreeSet<String> {
    let listed = results.get("shortcuts").and_then(|value| value.try_clone().ok());
    let listed: Vec<(String, BTreeMap<String, OwnedVariant>)> =
        listed.and_then(|value| value.try_into().ok()).unwrap_or_default();
    let has_trigger = |about: &BTreeMap<String, OwnedVariant>| {
        let trigger = about.get("trigger_description").and_then(|value| value.try_clone().ok());
        trigger.is_none_or(|value| String::try_from(value).is_ok_and(|text| !text.is_empty()))
    };
    listed.into_iter().filter(|(_, about)| has_trigger(about)).map(|(id, _)| id).collect()
}
