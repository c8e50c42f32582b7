//! The conversation with the desktop portal: `GlobalShortcuts` and `RemoteDesktop`, over the session bus.
//!
//! One thread asks and then listens for shortcuts; another sends input, in order. Both tell through a channel.

use std::collections::BTreeMap;
use std::fs::{self, DirBuilder, OpenOptions};
use std::io::{self, Write};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread;

use futures::StreamExt;
use futures::executor::block_on;
use lantern_model::{CommandError, EffectId};
use rustix::event::{EventfdFlags, eventfd};
use serde::Serialize;
use zbus::message::Type;
use zbus::zvariant::DynamicType;
use zbus::{
    Connection, MatchRule, Message, MessageStream, ObjectPath, OwnedObjectPath, OwnedVariant,
    Variant,
};

use lantern_backend::BackendError;

const PORTAL: &str = "org.freedesktop.portal.Desktop";
const PATH: &str = "/org/freedesktop/portal/desktop";
const SHORTCUTS: &str = "org.freedesktop.portal.GlobalShortcuts";
const REMOTE: &str = "org.freedesktop.portal.RemoteDesktop";
const REQUEST: &str = "org.freedesktop.portal.Request";
/// A batch without an outcome to report.
pub(super) const WITHOUT_OUTCOME: EffectId = EffectId(u64::MAX - 1);
/// Keyboard and pointer.
const DEVICES: u32 = 1 | 2;
/// It is remembered until the person takes it back.
const PERSISTS: u32 = 2;

/// One movement of input.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum PortalInput {
    /// A key by its kernel code.
    Key(u16, bool),
    /// A character's keysym.
    Symbol(u32, bool),
    /// A button by its kernel code.
    Button(u16, bool),
    /// The pointer by so many pixels.
    Motion(f64, f64),
    /// The wheel: axis and steps.
    Turn(u32, i32),
}

/// What the portal told.
#[derive(Debug)]
pub(super) enum PortalEvent {
    Pressed(String),
    Released(String),
    /// A step went out, or did not.
    Done(EffectId, Result<(), CommandError>),
    /// The portal is gone, or the person does not want us.
    Ended(String),
}

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

async fn version(bus: &Connection, interface: &str) -> zbus::Result<u32> {
    let properties = "org.freedesktop.DBus.Properties";
    let asked = (interface, "version");
    let reply = bus.call_method(Some(PORTAL), PATH, Some(properties), "Get", &asked).await?;
    let value: OwnedVariant = reply.body().deserialize()?;
    u32::try_from(value)
}

/// Sends events from the threads to the event loop.
#[derive(Debug, Clone)]
struct PortalEventSender {
    told: Sender<PortalEvent>,
    waker: Arc<OwnedFd>,
}

impl PortalEventSender {
    fn tell(&self, told: PortalEvent) {
        // If the receiver is gone, the program is ending.
        if self.told.send(told).is_ok() {
            let _ = rustix::io::write(&*self.waker, &1u64.to_ne_bytes());
        }
    }
}

/// The portal, asked for what is wanted.
#[derive(Debug)]
pub(super) struct Portal {
    told: Receiver<PortalEvent>,
    waker: Arc<OwnedFd>,
    steps: Sender<(EffectId, Vec<PortalInput>)>,
}

impl Portal {
    /// Begins to ask. Shortcuts are given by id, description and trigger.
    pub(super) fn open(
        shortcuts: Vec<(String, String, String)>,
        token: PathBuf,
    ) -> Result<Portal, BackendError> {
        let failed = |error: zbus::Error| BackendError::Portal { why: error.to_string() };
        let bus = block_on(Connection::session()).map_err(failed)?;
        for interface in [SHORTCUTS, REMOTE] {
            block_on(version(&bus, interface)).map_err(|_| BackendError::Portal {
                why: format!("it has no {}", interface.rsplit('.').next().unwrap_or(interface)),
            })?;
        }
        let (told, coming) = channel();
        let flags = EventfdFlags::CLOEXEC | EventfdFlags::NONBLOCK;
        let waker = eventfd(0, flags).map_err(|error| BackendError::Lost(Box::new(error)))?;
        let waker = Arc::new(waker);
        let event_sender = PortalEventSender { told, waker: Arc::clone(&waker) };
        let (steps, orders) = channel();
        let (of_shortcuts, of_input) = (bus.clone(), bus);
        let listening = event_sender.clone();
        thread::spawn(move || {
            let ended = block_on(listen(&of_shortcuts, &shortcuts, &listening));
            let why =
                ended.err().map_or_else(|| "it went away".to_owned(), |error| error.to_string());
            listening.tell(PortalEvent::Ended(why));
        });
        thread::spawn(move || {
            if let Err(error) = block_on(make_input(&of_input, &token, &orders, &event_sender)) {
                event_sender.tell(PortalEvent::Ended(error.to_string()));
            }
        });
        Ok(Portal { told: coming, waker, steps })
    }

    pub(super) fn descriptor(&self) -> BorrowedFd<'_> {
        self.waker.as_fd()
    }

    pub(super) fn next_told(&self) -> Option<PortalEvent> {
        // It only wakes; what was told stands in the channel.
        let _ = rustix::io::read(&*self.waker, &mut [0; 8]);
        self.told.try_recv().ok()
    }

    /// Sends a step behind those before it.
    pub(super) fn send(&self, effect: EffectId, moves: Vec<PortalInput>) {
        // The thread that takes it tells of its own end.
        let _ = self.steps.send((effect, moves));
    }
}

/// What a request is answered with.
type Results = BTreeMap<String, OwnedVariant>;

/// Asks for something that the person may have to agree to, and waits for the answer.
async fn request<B>(
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
    let mut answers = MessageStream::for_match_rule(rule, bus, None).await?;
    bus.call_method(Some(PORTAL), PATH, Some(interface), method, body).await?;
    let gone = || zbus::Error::Failure("the portal went away".to_owned());
    let answer: Message = answers.next().await.ok_or_else(gone)??;
    let (response, results): (u32, Results) = answer.body().deserialize()?;
    match response {
        0 => Ok(results),
        1 => Err(zbus::Error::Failure("the person said no".to_owned())),
        _ => Err(zbus::Error::Failure("it ended the request".to_owned())),
    }
}

fn options<'o>(entries: &[(&'o str, Variant<'o>)]) -> zbus::Result<BTreeMap<&'o str, Variant<'o>>> {
    entries.iter().map(|(name, value)| Ok((*name, value.try_clone()?))).collect()
}

async fn create_session(
    bus: &Connection,
    interface: &str,
    name: &str,
) -> zbus::Result<OwnedObjectPath> {
    let about = options(&[
        ("handle_token", Variant::from(name)),
        ("session_handle_token", Variant::from(name)),
    ])?;
    let results = request(bus, interface, "CreateSession", name, &(about,)).await?;
    let missing = || zbus::Error::Failure("the portal gave no session".to_owned());
    let handle = results.get("session_handle").ok_or_else(missing)?;
    let handle = handle.try_clone()?;
    // It is a text by the specification, and a path in some portals.
    let path = match String::try_from(handle.try_clone()?) {
        Ok(text) => text,
        Err(_) => OwnedObjectPath::try_from(handle)?.to_string(),
    };
    Ok(ObjectPath::try_from(path)?.into())
}

/// Has the portal give us the shortcuts, and tells of them as long as it does.
async fn listen(
    bus: &Connection,
    shortcuts: &[(String, String, String)],
    event_sender: &PortalEventSender,
) -> zbus::Result<()> {
    let rule = MatchRule::builder().msg_type(Type::Signal).interface(SHORTCUTS).build()?;
    let mut signals = MessageStream::for_match_rule(rule, bus, None).await?;
    let session = create_session(bus, SHORTCUTS, "lantern_shortcuts").await?;
    let mut wanted = Vec::new();
    for (id, description, trigger) in shortcuts {
        let about = options(&[
            ("description", Variant::from(description.as_str())),
            ("preferred_trigger", Variant::from(trigger.as_str())),
        ])?;
        wanted.push((id.as_str(), about));
    }
    let about = options(&[("handle_token", Variant::from("lantern_bind"))])?;
    let body = (&session, wanted, "", about);
    request(bus, SHORTCUTS, "BindShortcuts", "lantern_bind", &body).await?;
    while let Some(signal) = signals.next().await {
        let signal = signal?;
        let header = signal.header();
        let Some(member) = header.member() else { continue };
        let is_pressed = member.as_str() == "Activated";
        if !is_pressed && member.as_str() != "Deactivated" {
            continue;
        }
        let (of, id, _, _): (OwnedObjectPath, String, u64, Results) =
            signal.body().deserialize()?;
        if of == session {
            event_sender.tell(if is_pressed {
                PortalEvent::Pressed(id)
            } else {
                PortalEvent::Released(id)
            });
        }
    }
    Ok(())
}

/// Has the portal let us make input, and makes it.
async fn make_input(
    bus: &Connection,
    token: &Path,
    orders: &Receiver<(EffectId, Vec<PortalInput>)>,
    event_sender: &PortalEventSender,
) -> zbus::Result<()> {
    let session = create_session(bus, REMOTE, "lantern_input").await?;
    let known = fs::read_to_string(token).unwrap_or_default();
    let mut asked = vec![
        ("handle_token", Variant::from("lantern_devices")),
        ("types", Variant::from(DEVICES)),
        ("persist_mode", Variant::from(PERSISTS)),
    ];
    if !known.trim().is_empty() {
        asked.push(("restore_token", Variant::from(known.trim())));
    }
    request(bus, REMOTE, "SelectDevices", "lantern_devices", &(&session, options(&asked)?)).await?;
    let about = options(&[("handle_token", Variant::from("lantern_start"))])?;
    let started = request(bus, REMOTE, "Start", "lantern_start", &(&session, "", about)).await?;
    if let Some(fresh) = started.get("restore_token")
        && let Ok(fresh) = String::try_from(fresh.try_clone()?)
    {
        // Where it cannot be kept the person is asked again the next time.
        let _ = keep_token(token, &fresh);
    }
    while let Ok((effect, moves)) = orders.recv() {
        let mut result = Ok(());
        for one in moves {
            if let Err(error) = make_move(bus, &session, one).await {
                result = Err(CommandError::refused(format!("the portal refused input: {error}")));
                break;
            }
        }
        if effect != WITHOUT_OUTCOME {
            event_sender.tell(PortalEvent::Done(effect, result));
        }
    }
    Ok(())
}

async fn make_move(
    bus: &Connection,
    session: &OwnedObjectPath,
    one: PortalInput,
) -> zbus::Result<()> {
    let none: BTreeMap<&str, Variant<'_>> = BTreeMap::new();
    let call = |method: &'static str| (Some(PORTAL), PATH, Some(REMOTE), method);
    match one {
        PortalInput::Key(code, down) => {
            let body = (session, none, i32::from(code), u32::from(down));
            let (to, path, interface, method) = call("NotifyKeyboardKeycode");
            bus.call_method(to, path, interface, method, &body).await?;
        }
        PortalInput::Symbol(symbol, down) => {
            let body = (session, none, symbol as i32, u32::from(down));
            let (to, path, interface, method) = call("NotifyKeyboardKeysym");
            bus.call_method(to, path, interface, method, &body).await?;
        }
        PortalInput::Button(code, down) => {
            let body = (session, none, i32::from(code), u32::from(down));
            let (to, path, interface, method) = call("NotifyPointerButton");
            bus.call_method(to, path, interface, method, &body).await?;
        }
        PortalInput::Motion(x, y) => {
            let (to, path, interface, method) = call("NotifyPointerMotion");
            bus.call_method(to, path, interface, method, &(session, none, x, y)).await?;
        }
        PortalInput::Turn(axis, steps) => {
            let (to, path, interface, method) = call("NotifyPointerAxisDiscrete");
            bus.call_method(to, path, interface, method, &(session, none, axis, steps)).await?;
        }
    }
    Ok(())
}

/// Writes the portal's restore token to a private file: with it another program could use what the person agreed to.
fn keep_token(path: &Path, token: &str) -> io::Result<()> {
    if let Some(folder) = path.parent() {
        DirBuilder::new().recursive(true).mode(0o700).create(folder)?;
    }
    let beside = path.with_extension("new");
    let mut options = OpenOptions::new();
    options.write(true).create(true).truncate(true).mode(0o600);
    options.open(&beside)?.write_all(token.as_bytes())?;
    fs::rename(&beside, path)
}
