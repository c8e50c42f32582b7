//! The list of keys and buttons that are down by our doing, and of keycodes given another meaning
//! for a while, in a file that outlives us.
//!
//! It is a page of memory shared with a file in the runtime folder: marking a key costs no system
//! call, and the marks stand even if the process is killed between two instructions. The guardian,
//! or the next start, reads them and lets the keys go.

use std::fs::{File, OpenOptions};
use std::io::Read;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use crate::DeskError;

mod sys;

/// One bit for each X keycode that is down, each button that is down, each keycode lent.
const BYTES: usize = 96;
const BUTTONS_AT: usize = 32;
const LENT_AT: usize = 64;

/// What a list says.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct HeldMarks {
    /// X keycodes that are down.
    pub keycodes: Vec<u8>,
    /// Pointer buttons that are down.
    pub buttons: Vec<u8>,
    /// X keycodes that were given a character for a while.
    pub lent: Vec<u8>,
}

/// The list.
#[derive(Debug)]
pub struct HeldKeys {
    path: PathBuf,
    page: memmap2::MmapMut,
}

impl HeldKeys {
    /// Opens the list in `path`, making it if it is not there, with what it holds.
    ///
    /// # Errors
    /// When the file cannot be made or mapped.
    pub fn open(path: &Path) -> Result<HeldKeys, DeskError> {
        let failed = |source| DeskError::HeldKeys { path: path.to_owned(), source };
        let mut options = OpenOptions::new();
        options.read(true).write(true).create(true).truncate(false).mode(0o600);
        let file = options.open(path).map_err(failed)?;
        file.set_len(BYTES as u64).map_err(failed)?;
        let page = sys::map(&file).map_err(failed)?;
        Ok(HeldKeys { path: path.to_owned(), page })
    }

    /// Reads the list in `path` as it stands. Nothing if there is none.
    pub fn read(path: &Path) -> HeldMarks {
        let mut bytes = [0; BYTES];
        let read = File::open(path).and_then(|mut file| file.read_exact(&mut bytes));
        if read.is_err() {
            return HeldMarks::default();
        }
        HeldMarks {
            keycodes: set_bits(&bytes[..BUTTONS_AT]),
            buttons: set_bits(&bytes[BUTTONS_AT..LENT_AT]),
            lent: set_bits(&bytes[LENT_AT..]),
        }
    }

    /// Where the list is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Marks a keycode as down or up.
    pub fn mark_key(&mut self, keycode: u8, down: bool) {
        mark(&mut self.page[..BUTTONS_AT], keycode, down);
    }

    /// Whether any keycode is marked as down.
    pub fn has_keys(&self) -> bool {
        self.page[..BUTTONS_AT].iter().any(|byte| *byte != 0)
    }

    /// Marks a pointer button as down or up.
    pub fn mark_button(&mut self, button: u8, down: bool) {
        mark(&mut self.page[BUTTONS_AT..LENT_AT], button, down);
    }

    /// Marks a keycode as lent to a character or not.
    pub fn mark_lent(&mut self, keycode: u8, lent: bool) {
        mark(&mut self.page[LENT_AT..], keycode, lent);
    }

    /// Takes every mark away.
    pub fn clear(&mut self) {
        self.page.fill(0);
    }
}

fn mark(bytes: &mut [u8], number: u8, down: bool) {
    let Some(byte) = bytes.get_mut(usize::from(number) / 8) else {
        return;
    };
    let bit = 1 << (number % 8);
    if down {
        *byte |= bit;
    } else {
        *byte &= !bit;
    }
}

fn set_bits(bytes: &[u8]) -> Vec<u8> {
    let numbers = 0..=u8::MAX;
    numbers
        .filter(|number| {
            bytes.get(usize::from(*number) / 8).is_some_and(|byte| byte & (1 << (number % 8)) != 0)
        })
        .collect()
}
