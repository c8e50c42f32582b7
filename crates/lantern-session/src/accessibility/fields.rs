//! Watches which program's password field has the keyboard, if accessibility reports it. Every
//! program on the accessibility bus sends its changes of focus; nothing wakes between two changes.

use futures::StreamExt;
use futures::executor::block_on;
use zbus::message::Type;
use zbus::{MatchRule, Message, MessageStream};

use super::tree::{AccessibilityTree, Element, REGISTRY, role};
use crate::{SessionError, bus};

const EVENT: &str = "org.a11y.atspi.Event.Object";

/// Tells from now on which process has a password field that the keyboard goes to, whenever that
/// changes. Returns when the accessibility bus goes away; where none is at work, at once.
///
/// # Errors
/// When the bus breaks off.
pub fn watch(mut tell: impl FnMut(Option<u32>)) -> Result<(), SessionError> {
    if !bus::is_served(&bus::session()?, "org.a11y.Bus")? {
        return Ok(());
    }
    let tree = AccessibilityTree::connect()?;
    let rule = MatchRule::builder()
        .msg_type(Type::Signal)
        .interface(EVENT)
        .member("StateChanged")
        .arg(0, "focused")
        .build()?;
    let mut events = block_on(MessageStream::for_match_rule(rule, tree.bus(), None))?;
    let no_properties: &[&str] = &[];
    let asked = ("object:state-changed:focused", no_properties, "");
    let (path, interface) = ("/org/a11y/atspi/registry", Some("org.a11y.atspi.Registry"));
    block_on(tree.bus().call_method(Some(REGISTRY), path, interface, "RegisterEvent", &asked))?;
    let mut told = None;
    let mut see = |field: &Element| -> Result<(), SessionError> {
        // A field that is gone already has no keyboard.
        let secret = tree.role(field).is_ok_and(|role| role == role::PASSWORD_TEXT);
        let process = if secret { tree.process(field)? } else { None };
        if process != told {
            told = process;
            tell(process);
        }
        Ok(())
    };
    // A program sends events only from the moment it has heard of a listener. The focus is asked for
    // behind that in its queue, so that no change of it is missed.
    if let Some(field) = tree.focused_element()? {
        see(&field)?;
    }
    while let Some(event) = block_on(events.next()) {
        if let Some(field) = focused(&event?) {
            see(&field)?;
        }
    }
    Ok(())
}

/// What has the keyboard now, if that is what the event tells.
fn focused(event: &Message) -> Option<Element> {
    let header = event.header();
    let owner = header.sender()?.to_string();
    let path = header.path()?.to_owned().into();
    let body = event.body();
    // What, on or off, and more that differs from version to version.
    let on: (String, i32) = body.deserialize_ignore_signature().ok()?;
    (on.1 == 1).then_some(Element { owner, path })
}
