//! A form of a real toolkit: a field, a password field, and a menu that is filled only when it opens.

use std::path::PathBuf;

use crate::Display;

/// The form. It ends with its display.
#[derive(Debug)]
pub struct Form {
    file: PathBuf,
}

impl Form {
    /// Opens the form and waits until its first field has the keyboard. The display needs a window
    /// manager, a bus and accessibility.
    ///
    /// # Panics
    /// When the toolkit is not installed or the form does not come up.
    pub fn open(display: &mut Display) -> Form {
        let (script, file) = (display.folder().join("form.py"), display.folder().join("form"));
        std::fs::write(&script, include_str!("form.py")).expect("the file can be written");
        // The system's own, which the toolkit is installed for.
        let child = display.silent("/usr/bin/python3").arg(&script).arg(&file).spawn();
        display.keep(child.expect("python3 is installed"));
        let form = Form { file };
        display.wait_until_in_front("Store form");
        form
    }

    /// What stands in the field, in the password field, and what was chosen of the menu, with bars
    /// between.
    pub fn text(&self) -> String {
        std::fs::read_to_string(&self.file).unwrap_or_default()
    }
}
