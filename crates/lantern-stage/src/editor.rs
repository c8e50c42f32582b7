//! A real editor with menus, whose text is read back from the file it saves.

use std::path::PathBuf;

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
        let child = display
            .silent("mousepad")
            .arg("--disable-server")
            .arg(&file)
            .spawn()
            .expect("mousepad is installed");
        display.keep(child);
        display.wait_until_in_front(name);
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
