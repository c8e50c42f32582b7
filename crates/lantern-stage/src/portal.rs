//! A stand-in for the desktop's portal: what it was asked, and how two real portals answer.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::Duration;

use futures::StreamExt;
use futures::executor::block_on;
use zbus::message::Type;
use zbus::{
    Connection, Message, MessageStream, ObjectPath, OwnedObjectPath, OwnedVariant, Variant,
};

/// The longest that anything is waited for.
const PATIENCE: Duration = Duration::from_secs(20);

const NAME: &str = "org.freedesktop.portal.Desktop";
const PATH: &str = "/org/freedesktop/portal/desktop";
const SHORTCUTS: &str = "org.freedesktop.portal.GlobalShortcuts";
const REMOTE: &str = "org.freedesktop.portal.RemoteDesktop";

/// Which portal is stood in for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PortalKind {
    /// As documented: shortcuts are granted when they are bound, and input by version 2 has tokens.
    Documented,
    /// As measured on Plasma 5.27: shortcuts are taken from the creation of the session alone, the key of an
    /// id is remembered, and input is version 1 without tokens.
    Plasma,
    /// As measured on GNOME 43: input alone.
    InputOnly,
}

type About = BTreeMap<String, OwnedVariant>;
type Listed = Vec<(String, About)>;

/// What the portal remembers.
#[derive(Debug, Default)]
struct PortalMemory {
    /// Members of the interface that the person refuses.
    refused: BTreeSet<String>,
    /// Triggers that the desktop keeps for itself.
    kept: BTreeSet<String>,
    /// The trigger of each id, the first one that was asked for.
    triggers: BTreeMap<String, String>,
    /// The session of each interface.
    sessions: BTreeMap<String, String>,
    count: u32,
}

impl PortalMemory {
    /// The answer to a list of shortcuts: each with its trigger, which is empty if it is not granted.
    fn grant(
        &mut self,
        kind: PortalKind,
        wanted: &Listed,
    ) -> Vec<(String, BTreeMap<String, Variant<'static>>)> {
        let mut granted = Vec::new();
        for (id, about) in wanted {
            let asked = word(about, "preferred_trigger");
            let trigger = match kind {
                PortalKind::Plasma => self.triggers.entry(id.clone()).or_insert(asked).clone(),
                _ => asked,
            };
            let trigger = if self.kept.contains(&trigger) { String::new() } else { trigger };
            let about = BTreeMap::from([
                ("description".to_owned(), Variant::from(word(about, "description"))),
                ("trigger_description".to_owned(), Variant::from(trigger)),
            ]);
            granted.push((id.clone(), about));
        }
        granted
    }
}

/// A portal whose person agrees to everything that is not refused, and that tells what it was asked.
#[derive(Debug)]
pub struct StandInPortal {
    bus: Connection,
    memory: Arc<Mutex<PortalMemory>>,
    asked: Receiver<String>,
    seen: Vec<String>,
    /// Of these, what no expectation has met yet: shortcuts and input are asked for side by side.
    unmet: Vec<String>,
}

fn locked(memory: &Mutex<PortalMemory>) -> MutexGuard<'_, PortalMemory> {
    memory.lock().unwrap_or_else(PoisonError::into_inner)
}

impl StandInPortal {
    pub(crate) fn start(address: &str, kind: PortalKind) -> StandInPortal {
        let bus = block_on(async {
            zbus::connection::Builder::address(address).name(NAME).build().await
        });
        let bus = bus.expect("the name is free");
        let (sender, asked) = channel();
        let memory = Arc::new(Mutex::new(PortalMemory::default()));
        let desk = Desk { bus: bus.clone(), kind, memory: Arc::clone(&memory), asked: sender };
        thread::spawn(move || block_on(serve(desk)));
        StandInPortal { bus, memory, asked, seen: Vec::new(), unmet: Vec::new() }
    }

    /// The person refuses what is asked by that method from now on.
    pub fn refuse(&self, member: &str) {
        locked(&self.memory).refused.insert(member.to_owned());
    }

    /// The desktop has that trigger itself.
    pub fn keep(&self, trigger: &str) {
        locked(&self.memory).kept.insert(trigger.to_owned());
    }

    /// The desktop gives that trigger to others again.
    pub fn give(&self, trigger: &str) {
        locked(&self.memory).kept.remove(trigger);
    }

    /// The person ends the session of shortcuts.
    ///
    /// # Panics
    /// When there is no such session.
    pub fn end_shortcuts(&self) {
        self.end_session(SHORTCUTS);
    }

    /// The person ends the session of input.
    ///
    /// # Panics
    /// When there is no such session.
    pub fn end_input(&self) {
        self.end_session(REMOTE);
    }

    fn end_session(&self, interface: &str) {
        let session = locked(&self.memory).sessions.remove(interface).expect("it was created");
        let session = ObjectPath::try_from(session).expect("it is one");
        let details = About::new();
        let (closed, of) = ("Closed", "org.freedesktop.portal.Session");
        block_on(self.bus.emit_signal(None::<&str>, session, of, closed, &(details,)))
            .expect("the bus is there");
    }

    /// The portal ends and starts again.
    ///
    /// # Panics
    /// When the bus is gone.
    pub fn restart(&self) {
        block_on(async {
            self.bus.release_name(NAME).await.expect("it is ours");
            self.bus.request_name(NAME).await.expect("it is free");
        });
    }

    /// Waits until it is asked something with this in it.
    ///
    /// # Panics
    /// If that does not come.
    pub fn expect(&mut self, part: &str) -> String {
        if let Some(at) = self.unmet.iter().position(|asked| asked.contains(part)) {
            return self.unmet.remove(at);
        }
        loop {
            match self.asked.recv_timeout(PATIENCE) {
                Ok(asked) => {
                    self.seen.push(asked.clone());
                    if asked.contains(part) {
                        return asked;
                    }
                    self.unmet.push(asked);
                }
                Err(_) => panic!("no request for {part:?}, but for:\n{}", self.seen.join("\n")),
            }
        }
    }

    /// Whether it was asked something with this in it, of all that was sent to it so far.
    ///
    /// # Panics
    /// When the bus is gone.
    pub fn was_asked(&mut self, part: &str) -> bool {
        // The bus hands on in order, and its answer comes behind what it handed on before.
        let bus = Some("org.freedesktop.DBus");
        let answer = self.bus.call_method(bus, "/org/freedesktop/DBus", bus, "GetId", &());
        block_on(answer).expect("the bus is there");
        while let Ok(asked) = self.asked.try_recv() {
            self.seen.push(asked.clone());
            self.unmet.push(asked);
        }
        self.unmet.iter().any(|asked| asked.contains(part))
    }

    /// The person presses the shortcut with that id, or lets it go.
    ///
    /// # Panics
    /// When there is no session of shortcuts.
    pub fn shortcut(&self, id: &str, down: bool) {
        let session = locked(&self.memory).sessions[SHORTCUTS].clone();
        let session = ObjectPath::try_from(session).expect("it is one");
        let body = (session, id, 0u64, About::new());
        let name = if down { "Activated" } else { "Deactivated" };
        block_on(self.bus.emit_signal(None::<&str>, PATH, SHORTCUTS, name, &body))
            .expect("the bus is there");
    }
}

/// The side that answers.
struct Desk {
    bus: Connection,
    kind: PortalKind,
    memory: Arc<Mutex<PortalMemory>>,
    asked: Sender<String>,
}

async fn serve(desk: Desk) {
    let mut messages = MessageStream::from(&desk.bus);
    while let Some(Ok(message)) = messages.next().await {
        if message.message_type() == Type::MethodCall {
            // A caller that is gone needs no answer.
            let _ = desk.answer(&message).await;
        }
    }
}

/// A text among options; empty if it is missing.
fn word(about: &About, name: &str) -> String {
    let value = about.get(name).and_then(|value| value.try_clone().ok());
    value.and_then(|value| String::try_from(value).ok()).unwrap_or_default()
}

impl Desk {
    fn tell(&self, words: String) {
        drop(self.asked.send(words));
    }

    fn tell_shortcuts(&self, wanted: &Listed) {
        for (id, about) in wanted {
            let (trigger, what) = (word(about, "preferred_trigger"), word(about, "description"));
            self.tell(format!("{id} {trigger} for {what}"));
        }
    }

    /// The version of an interface; none if the desktop lacks it.
    fn version(&self, interface: &str) -> Option<u32> {
        match (self.kind, interface) {
            (PortalKind::InputOnly, SHORTCUTS) => None,
            (PortalKind::Documented, REMOTE) => Some(2),
            _ => Some(1),
        }
    }

    async fn answer(&self, message: &Message) -> zbus::Result<()> {
        let header = message.header();
        let member = header.member().map_or("", |member| member.as_str()).to_owned();
        let interface = header.interface().map_or("", |name| name.as_str()).to_owned();
        let body = message.body();
        let bus = &self.bus;
        match member.as_str() {
            "Get" => {
                let (of, _): (String, String) = body.deserialize()?;
                return match self.version(&of) {
                    Some(version) => bus.reply(&header, &Variant::from(version)).await,
                    None => {
                        let name = "org.freedesktop.DBus.Error.UnknownInterface";
                        bus.reply_error(&header, name, &"there is no such interface").await
                    }
                };
            }
            "Close" => {
                self.tell("Session Close".to_owned());
                return bus.reply(&header, &()).await;
            }
            "NotifyKeyboardKeycode" | "NotifyKeyboardKeysym" | "NotifyPointerButton" => {
                let number: (OwnedObjectPath, About, i32, u32) = body.deserialize()?;
                let what = member.trim_start_matches("Notify");
                self.tell(format!("{what} {} {}", number.2, number.3));
                return bus.reply(&header, &()).await;
            }
            "NotifyPointerMotion" => {
                let (_, _, x, y): (OwnedObjectPath, About, f64, f64) = body.deserialize()?;
                self.tell(format!("PointerMotion {x} {y}"));
                return bus.reply(&header, &()).await;
            }
            _ if self.version(&interface).is_none() => {
                let name = "org.freedesktop.DBus.Error.UnknownMethod";
                return bus.reply_error(&header, name, &"there is no such method").await;
            }
            _ => {}
        }
        // Everything else is a request that the person answers.
        let mut results: BTreeMap<String, Variant<'static>> = BTreeMap::new();
        let about: About = match member.as_str() {
            "CreateSession" => {
                let (about,): (About,) = body.deserialize()?;
                let mut memory = locked(&self.memory);
                memory.count += 1;
                let session = format!("{PATH}/session/lantern{}", memory.count);
                memory.sessions.insert(interface.clone(), session.clone());
                results.insert("session_handle".to_owned(), Variant::from(session));
                if let Some(wanted) = about.get("shortcuts") {
                    let wanted: Listed = wanted.try_clone()?.try_into()?;
                    if self.kind == PortalKind::Plasma {
                        self.tell_shortcuts(&wanted);
                        let granted = memory.grant(self.kind, &wanted);
                        results.insert("shortcuts".to_owned(), Variant::from(granted));
                    }
                }
                about
            }
            "BindShortcuts" => {
                let (_, wanted, _, about): (OwnedObjectPath, Listed, String, About) =
                    body.deserialize()?;
                // Plasma shows its settings, and answers with what it knew before.
                if self.kind != PortalKind::Plasma {
                    self.tell_shortcuts(&wanted);
                    let granted = locked(&self.memory).grant(self.kind, &wanted);
                    results.insert("shortcuts".to_owned(), Variant::from(granted));
                }
                about
            }
            "SelectDevices" => body.deserialize::<(OwnedObjectPath, About)>()?.1,
            _ => {
                if self.version(REMOTE) == Some(2) {
                    results.insert("restore_token".to_owned(), Variant::from("again"));
                }
                body.deserialize::<(OwnedObjectPath, String, About)>()?.2
            }
        };
        let restored = about.contains_key("restore_token");
        self.tell(format!("{interface} {member}{}", if restored { " restored" } else { "" }));
        let sender = header.sender().map_or("", |name| name.as_str()).to_owned();
        let who = sender.trim_start_matches(':').replace('.', "_");
        let token = word(&about, "handle_token");
        let request = ObjectPath::try_from(format!("{PATH}/request/{who}/{token}"))?;
        bus.reply(&header, &request).await?;
        let is_refused = locked(&self.memory).refused.contains(&member);
        let answer = (u32::from(is_refused), results);
        let interface = "org.freedesktop.portal.Request";
        bus.emit_signal(Some(sender.as_str()), &request, interface, "Response", &answer).await
    }
}
