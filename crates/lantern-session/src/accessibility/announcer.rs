//! Announces what is shown to a screen reader, if one is active (AT-SPI, event
//! `object:announcement`). The reader reads the announcement out without looking for a window.

use std::collections::BTreeMap;

use futures::executor::block_on;
use zbus::names::BusName;
use zbus::{Connection, ObjectPath, OwnedObjectPath, Variant, interface};

use super::tree::{AccessibilityTree, REGISTRY, ROOT};
use crate::{SessionError, bus};

/// The role of a program as a whole, by its number in the AT-SPI enumeration.
const APPLICATION: u32 = 75;
/// It may finish its sentence first.
const POLITE: i32 = 1;

/// Announces what is shown, as long as a screen reader is at work.
#[derive(Debug, Default)]
pub struct Announcer {
    session: Option<Connection>,
    speaker: Option<AnnouncerApplication>,
}

impl Announcer {
    /// Announces a text, if a screen reader is at work.
    pub fn announce(&mut self, text: &str) -> Result<(), SessionError> {
        if !lantern_system::try_twice(&mut self.session, bus::session, |session| {
            reader_is_at_work(session)
        })? {
            self.speaker = None;
            return Ok(());
        }
        lantern_system::try_twice(&mut self.speaker, AnnouncerApplication::connect, |speaker| {
            speaker.tell(text)
        })
    }
}

/// A program that only announces, on the accessibility bus.
#[derive(Debug)]
struct AnnouncerApplication {
    bus: Connection,
}

impl AnnouncerApplication {
    /// Steps onto the accessibility bus.
    fn connect() -> Result<AnnouncerApplication, SessionError> {
        let bus = AccessibilityTree::connect()?.into_bus();
        block_on(async {
            bus.object_server().at(ROOT, AnnouncerObject).await?;
            bus.object_server().at(ROOT, ToolkitInfo { id: 0 }).await?;
            let own = bus.unique_name().map(ToString::to_string).unwrap_or_default();
            let plug = (own, ObjectPath::try_from(ROOT).expect("it is a path"));
            let socket = Some("org.a11y.atspi.Socket");
            bus.call_method(Some(REGISTRY), ROOT, socket, "Embed", &(plug,)).await?;
            Ok::<_, SessionError>(())
        })?;
        Ok(AnnouncerApplication { bus })
    }

    fn tell(&self, text: &str) -> Result<(), SessionError> {
        let none: BTreeMap<&str, Variant<'_>> = BTreeMap::new();
        let body = ("", POLITE, 0i32, Variant::from(text), none);
        let event = "org.a11y.atspi.Event.Object";
        let everybody: Option<BusName<'_>> = None;
        block_on(self.bus.emit_signal(everybody, ROOT, event, "Announcement", &body))?;
        Ok(())
    }
}

/// Whether the session says that a screen reader is at work. Without an accessibility bus there is
/// none, and asking must not start one.
fn reader_is_at_work(session: &Connection) -> Result<bool, SessionError> {
    if !bus::is_served(session, "org.a11y.Bus")? {
        return Ok(false);
    }
    let (properties, get) = (Some("org.freedesktop.DBus.Properties"), "Get");
    let asked = ("org.a11y.Status", "ScreenReaderEnabled");
    let reply = session.call_method(Some("org.a11y.Bus"), "/org/a11y/bus", properties, get, &asked);
    let value: zbus::OwnedVariant = block_on(reply)?.body().deserialize()?;
    Ok(bool::try_from(value).unwrap_or(false))
}

/// What the announcer says of itself when it is asked.
struct AnnouncerObject;

#[interface(name = "org.a11y.atspi.Accessible")]
impl AnnouncerObject {
    #[zbus(property)]
    fn name(&self) -> &str {
        "Cold Lantern"
    }

    #[zbus(property)]
    fn description(&self) -> &str {
        ""
    }

    #[zbus(property)]
    fn child_count(&self) -> i32 {
        0
    }

    fn get_children(&self) -> Vec<(String, OwnedObjectPath)> {
        Vec::new()
    }

    fn get_role(&self) -> u32 {
        APPLICATION
    }

    fn get_role_name(&self) -> &str {
        "application"
    }

    fn get_localized_role_name(&self) -> &str {
        "application"
    }

    fn get_state(&self) -> Vec<u32> {
        vec![0, 0]
    }

    fn get_attributes(&self) -> BTreeMap<String, String> {
        BTreeMap::new()
    }

    fn get_interfaces(&self) -> Vec<String> {
        vec!["org.a11y.atspi.Accessible".to_owned(), "org.a11y.atspi.Application".to_owned()]
    }

    fn get_index_in_parent(&self) -> i32 {
        -1
    }
}

/// The toolkit it is made with: none.
struct ToolkitInfo {
    id: i32,
}

#[interface(name = "org.a11y.atspi.Application")]
impl ToolkitInfo {
    #[zbus(property)]
    fn toolkit_name(&self) -> &str {
        "Cold Lantern"
    }

    #[zbus(property)]
    fn version(&self) -> &str {
        env!("CARGO_PKG_VERSION")
    }

    /// The number that the registry gives it.
    #[zbus(property)]
    fn id(&self) -> i32 {
        self.id
    }

    #[zbus(property)]
    fn set_id(&mut self, id: i32) {
        self.id = id;
    }
}
