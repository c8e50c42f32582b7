//! A real editor with menus, whose text is read back from the file it saves.

use std::path::PathBuf;

use x11rb::connection::Connection;
use x11rb::protocol::Event;
use x11rb::protocol::xproto::{ChangeWindowAttributesAux, ConnectionExt as _, EventMask};

use crate::display::wait_for;
use crate::{Display, Person};

/// The editor. It ends with its display.
#[derive(Debug)]
pub struct Editor {
    file: PathBuf,
}

impl Editor {
    /// Opens the editor on a new file and waits until it is in front. The display needs a window
    /// manager and a bus.
    ///
    /// # Panics
    /// When mousepad is not installed or does not come up.
    pub fn open(display: &mut Display, name: &str) -> Editor {
        let file = display.folder().join(name);
        std::fs::write(&file, "").expect("the file can be written");
        let conn = display.connect();
        let root = conn.setup().roots[0].root;
        let mask = ChangeWindowAttributesAux::new().event_mask(EventMask::PROPERTY_CHANGE);
        conn.change_window_attributes(root, &mask).expect("the server listens");
        let atom = |name: &[u8]| {
            let cookie = conn.intern_atom(false, name).expect("the server listens");
            cookie.reply().expect("the server answers").atom
        };
        let (active, title) = (atom(b"_NET_ACTIVE_WINDOW"), atom(b"_NET_WM_NAME"));
        let child = display
            .silent("mousepad")
            .arg("--disable-server")
            .arg(&file)
            .spawn()
            .expect("mousepad is installed");
        display.keep(child);
        wait_for(&conn, "the editor to come to the front", |event| {
            if !matches!(event, Event::PropertyNotify(change) if change.atom == active) {
                return false;
            }
            let cookie = conn.get_property(false, root, active, 0u32, 0, 1).expect("it listens");
            let front = cookie.reply().expect("the server answers");
            let Some(front) = front.value32().and_then(|mut windows| windows.next()) else {
                return false;
            };
            let cookie = conn.get_property(false, front, title, 0u32, 0, 64).expect("it listens");
            cookie.reply().is_ok_and(|title| String::from_utf8_lossy(&title.value).contains(name))
        });
        Editor { file }
    }

    /// Saves what stands in it, and gives that.
    pub fn text(&self, display: &Display, person: &mut Person) -> String {
        let before = std::fs::metadata(&self.file).and_then(|about| about.modified()).ok();
        person.press("left-ctrl");
        person.tap("s");
        person.release("left-ctrl");
        display.wait_until("the editor to save", |_| {
            let after = std::fs::metadata(&self.file).and_then(|about| about.modified()).ok();
            after != before
        });
        std::fs::read_to_string(&self.file).expect("it is there")
    }
}
