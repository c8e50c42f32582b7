//! Input by the portal: one session, opened at the start and again when it has ended.

use std::fs;
use std::path::{Path, PathBuf};

use futures::channel::mpsc::UnboundedReceiver;
use futures::future::Either;
use futures::{StreamExt, future};
use lantern_model::{CommandError, EffectId};
use lantern_system::write_private;
use zbus::{Connection, OwnedObjectPath, Variant};

use super::bus::{
    Options, PATH, PORTAL, REFUSED, REMOTE, Signals, create_session, end_of_session, request,
    signals, version,
};
use super::{PortalEvent, PortalEventSender};

/// A batch without an outcome to report.
pub(super) const WITHOUT_OUTCOME: EffectId = EffectId(u64::MAX - 1);
/// Keyboard and pointer.
const DEVICES: u32 = 1 | 2;
/// The permission is kept until the person takes it back.
const PERSISTS: u32 = 2;
/// The first version that knows restore tokens.
const WITH_TOKENS: u32 = 2;

/// One movement of input.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum PortalInput {
    /// A key by its kernel code.
    Key(u16, bool),
    /// A character's keysym.
    Symbol(u32, bool),
    /// A button by its kernel code.
    Button(u16, bool),
    /// Relative motion of the pointer in pixels.
    Motion(f64, f64),
    /// The wheel: axis and steps.
    Turn(u32, i32),
}

/// A batch of input with the effect that reports its outcome.
pub(super) type Batch = (EffectId, Vec<PortalInput>);

/// The session of input, if it is open.
struct InputSession {
    path: OwnedObjectPath,
    signals: Signals,
}

/// Sends batches in their order, until the back end is dropped. `token` is the file that keeps the
/// permission.
pub(super) async fn serve_input(
    bus: Connection,
    token: PathBuf,
    mut batches: UnboundedReceiver<Batch>,
    events: PortalEventSender,
) {
    let mut session = open_and_report(&bus, &token, &events).await;
    loop {
        let batch = match &mut session {
            Ok(open) => match future::select(batches.next(), open.signals.next()).await {
                Either::Left((batch, _)) => batch,
                Either::Right((signal, _)) => {
                    let ended = match signal {
                        Some(Ok(signal)) => end_of_session(&signal, &open.path),
                        _ => Some("the session bus ended".to_owned()),
                    };
                    if let Some(why) = ended {
                        events.send(PortalEvent::InputLost(why.clone()));
                        session = Err(InputRefusal { why, is_final: false });
                    }
                    continue;
                }
            },
            Err(_) => batches.next().await,
        };
        let Some((effect, moves)) = batch else { return };
        // A session that ended is asked for anew when something is to be sent; a refusal stays.
        if session.as_ref().is_err_and(|refusal| !refusal.is_final) {
            session = open_and_report(&bus, &token, &events).await;
        }
        let result = match &session {
            Ok(open) => send_batch(&bus, &open.path, moves).await,
            Err(refusal) => {
                Err(CommandError::refused(format!("no input by the portal: {}", refusal.why)))
            }
        };
        if effect != WITHOUT_OUTCOME {
            events.send(PortalEvent::Done(effect, result));
        }
    }
}

/// Why there is no session.
struct InputRefusal {
    why: String,
    /// Whether the person or the desktop refused: then it is not asked again.
    is_final: bool,
}

async fn open_and_report(
    bus: &Connection,
    token: &Path,
    events: &PortalEventSender,
) -> Result<InputSession, InputRefusal> {
    match open(bus, token).await {
        Ok(session) => {
            events.send(PortalEvent::InputReady);
            Ok(session)
        }
        Err(error) => {
            let is_final = matches!(&error, zbus::Error::Failure(why) if why == REFUSED);
            let why = error.to_string();
            events.send(PortalEvent::InputLost(why.clone()));
            Err(InputRefusal { why, is_final })
        }
    }
}

/// Asks for a session with keyboard and pointer.
async fn open(bus: &Connection, token: &Path) -> zbus::Result<InputSession> {
    let missing = |_| zbus::Error::Failure("this desktop has no portal for input".to_owned());
    let has_tokens = version(bus, REMOTE).await.map_err(missing)? >= WITH_TOKENS;
    let signals = signals(bus, REMOTE).await?;
    let (path, _) = create_session(bus, REMOTE, "cold_lantern_input", Options::new()).await?;
    let known = fs::read_to_string(token).unwrap_or_default();
    let mut asked = Options::from([
        ("handle_token", Variant::from("cold_lantern_devices")),
        ("types", Variant::from(DEVICES)),
    ]);
    if has_tokens {
        asked.insert("persist_mode", Variant::from(PERSISTS));
        if !known.trim().is_empty() {
            asked.insert("restore_token", Variant::from(known.trim()));
        }
    }
    request(bus, REMOTE, "SelectDevices", "cold_lantern_devices", &(&path, asked)).await?;
    let about = Options::from([("handle_token", Variant::from("cold_lantern_start"))]);
    let started = request(bus, REMOTE, "Start", "cold_lantern_start", &(&path, "", about)).await?;
    if let Some(fresh) = started.get("restore_token")
        && let Ok(fresh) = String::try_from(fresh.try_clone()?)
    {
        // Where it cannot be kept the person is asked again the next time.
        let _ = write_private(token, fresh.as_bytes());
    }
    Ok(InputSession { path, signals })
}

async fn send_batch(
    bus: &Connection,
    session: &OwnedObjectPath,
    moves: Vec<PortalInput>,
) -> Result<(), CommandError> {
    for one in moves {
        send_move(bus, session, one)
            .await
            .map_err(|error| CommandError::refused(format!("the portal refused input: {error}")))?;
    }
    Ok(())
}

async fn send_move(
    bus: &Connection,
    session: &OwnedObjectPath,
    one: PortalInput,
) -> zbus::Result<()> {
    let none = Options::new();
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
