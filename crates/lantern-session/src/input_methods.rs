//! Input methods: programs that make words of other scripts out of the keys that a person types, such as
//! ibus and fcitx. One that composes would make such words of what a rule types, too.
//!
//! The session bus shows whether an input method is active. What it does to keys changes with each
//! window and each key, and only the program in front learns it. So it is asked before a text is
//! typed.

use std::fs;
use std::path::PathBuf;

use futures::StreamExt;
use futures::executor::block_on;
use futures::stream::select;
use zbus::{Connection, MatchRule, MessageStream, Variant, connection, message::Type};

use crate::{SessionError, bus};
use lantern_system::home_folder;

const FCITX: &str = "org.fcitx.Fcitx5";
const IBUS: &str = "org.freedesktop.IBus";
/// What fcitx says of an input method that takes keys.
const ACTIVE: i32 = 2;

/// Tells from now on whether an input method is at work, whenever that changes; at the start only if one
/// is. Returns when the session bus goes away.
///
/// # Errors
/// When there is no session bus, or it breaks off.
pub fn watch(tell: impl Fn(bool)) -> Result<(), SessionError> {
    let session = bus::session()?;
    let owners = |name: &'static str| {
        let rule = MatchRule::builder()
            .msg_type(Type::Signal)
            .sender("org.freedesktop.DBus")
            .member("NameOwnerChanged")
            .arg(0, name)
            .build()?;
        block_on(MessageStream::for_match_rule(rule, &session, None))
    };
    let mut changes = select(owners(FCITX)?, owners(IBUS)?);
    let mut told = false;
    loop {
        let at_work = bus::is_served(&session, FCITX)? || bus::is_served(&session, IBUS)?;
        if at_work != told {
            told = at_work;
            tell(at_work);
        }
        if block_on(changes.next()).is_none() {
            return Ok(());
        }
    }
}

/// Connections to those who are asked.
#[derive(Debug, Default)]
pub struct InputMethods {
    session: Option<Connection>,
    /// The bus of ibus, at this address.
    ibus: Option<(String, Connection)>,
}

impl InputMethods {
    /// What would make something else of keys that are typed now, by its name; nothing where keys are
    /// typed as they are.
    ///
    /// # Errors
    /// When an input method is at work that does not answer.
    pub fn composing(&mut self) -> Result<Option<String>, SessionError> {
        let fcitx = |session: &mut Connection| {
            if !bus::is_served(session, FCITX)? {
                return Ok(None);
            }
            fcitx_method(session).map(Some)
        };
        match lantern_system::try_twice(&mut self.session, bus::session, fcitx)? {
            Some(method) => Ok(method),
            None => self.ibus_method(),
        }
    }

    fn ibus_method(&mut self) -> Result<Option<String>, SessionError> {
        let Some(address) = ibus_address() else { return Ok(None) };
        let open = match &self.ibus {
            Some((known, open)) if *known == address => open,
            _ => {
                let builder = connection::Builder::address(address.as_str());
                let open = block_on(builder.method_timeout(bus::PATIENCE).build())?;
                &self.ibus.insert((address, open)).1
            }
        };
        let asked = (IBUS, "GlobalEngine");
        let (path, properties) = ("/org/freedesktop/IBus", "org.freedesktop.DBus.Properties");
        let call = open.call_method(Some(IBUS), path, Some(properties), "Get", &asked);
        let reply = match block_on(call) {
            Ok(reply) => reply,
            // It has none yet.
            Err(zbus::Error::MethodError(..)) => return Ok(None),
            Err(error) => {
                self.ibus = None;
                return Err(error.into());
            }
        };
        let body = reply.body();
        let name = engine_name(&body.deserialize::<Variant<'_>>()?);
        Ok(name.filter(|name| !name.starts_with("xkb:")))
    }
}

/// The input method that fcitx uses now, unless it hands keys on as they are.
fn fcitx_method(session: &Connection) -> Result<Option<String>, SessionError> {
    let ask = |method: &str| {
        let (path, interface) = ("/controller", Some("org.fcitx.Fcitx.Controller1"));
        block_on(session.call_method(Some(FCITX), path, interface, method, &()))
    };
    if ask("State")?.body().deserialize::<i32>()? != ACTIVE {
        return Ok(None);
    }
    let name: String = ask("CurrentInputMethod")?.body().deserialize()?;
    Ok((!name.starts_with("keyboard-")).then_some(name))
}

/// Where ibus listens on this display: in its environment's words, or in the file it writes for each.
fn ibus_address() -> Option<String> {
    if let Ok(address) = std::env::var("IBUS_ADDRESS") {
        return Some(address);
    }
    let display = std::env::var("WAYLAND_DISPLAY").or_else(|_| std::env::var("DISPLAY")).ok()?;
    // `:1.0` is a screen of display 1.
    let display = display.rsplit(':').next()?.split('.').next()?.to_owned();
    let folder: PathBuf = home_folder("XDG_CONFIG_HOME", ".config")?.join("ibus/bus");
    let ours = fs::read_dir(folder).ok()?.flatten().find(|file| {
        file.file_name()
            .to_string_lossy()
            .rsplit_once("-unix-")
            .is_some_and(|(_, of)| of == display)
    })?;
    let text = fs::read_to_string(ours.path()).ok()?;
    text.lines().find_map(|line| line.strip_prefix("IBUS_ADDRESS=")).map(str::to_owned)
}

/// The name in an engine's description, which is a structure in variants: a kind, attachments, the name,
/// and more.
fn engine_name(description: &Variant<'_>) -> Option<String> {
    match description {
        Variant::Variant(inner) => engine_name(inner),
        Variant::Structure(structure) => match structure.fields().get(2)? {
            Variant::Str(name) => Some(name.to_string()),
            _ => None,
        },
        _ => None,
    }
}
