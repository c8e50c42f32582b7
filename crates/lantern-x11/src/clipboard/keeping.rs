//! Keeps the clipboard after the program that owned it for others has ended: a process of its own
//! owns the content until another program copies something.

use x11rb::connection::Connection as _;
use x11rb::protocol::Event;
use x11rb::protocol::xproto::Property;

use super::serving::SelectionOwner;
use crate::connection::XConnection;
use crate::windows::owner_of;
use lantern_backend::BackendError;
use lantern_backend::copied_contents::CopiedContents;

/// Owns what is kept there on the display in DISPLAY. Returns when others have copied something since, or the
/// display is gone.
///
/// # Errors
/// When the display cannot be reached.
pub fn keep_copied(mut copied: CopiedContents) -> Result<(), BackendError> {
    let clipboards = copied.read().unwrap_or_default();
    drop(copied);
    if clipboards.is_empty() {
        return Ok(());
    }
    let link = XConnection::open(None)?;
    let mut offer = SelectionOwner::default();
    for (selection, contents) in clipboards {
        // A program that copied meanwhile keeps the clipboard.
        if owner_of(&link, selection)? == x11rb::NONE {
            offer.own(&link, selection, contents)?;
        }
    }
    link.conn.flush()?;
    while offer.all().next().is_some() || offer.is_sending() {
        match link.conn.wait_for_event()? {
            Event::SelectionRequest(request) => {
                offer.serve(&link, &request, false)?;
            }
            Event::SelectionClear(clear) => offer.lose(clear.selection),
            Event::PropertyNotify(change) if change.state == Property::DELETE => {
                offer.send_on(&link, change.window, change.atom)?;
            }
            Event::PropertyNotify(change) => {
                offer.note_time(&link, &change);
            }
            _ => {}
        }
    }
    Ok(())
}
