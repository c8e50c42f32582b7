//! The list of keys and buttons that are down by our doing, and of keycodes given another meaning
//! for a while, in a file that outlives us.
//!
//! It is a page of memory shared with a file in the runtime folder: marking a key costs no system
//! call, and the marks stand even if the process is killed between two instructions. The guardian,
//! or the next start, reads them and lets the keys go.

use std::fs::{File, OpenOptions};
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};

use rustix::fs::OFlags;

use crate::BackendError;
use sys::Page;

mod sys;

/// One bit for each X keycode that is down, each button that is down, each keycode lent; then the
/// [`Heartbeat`].
const BYTES: usize = 100;
const BUTTONS_AT: usize = 32;
const LENT_AT: usize = 64;
const PULSE_AT: usize = 96;

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

impl HeldMarks {
    /// Whether a key or button is marked as down.
    pub fn holds(&self) -> bool {
        !self.keycodes.is_empty() || !self.buttons.is_empty()
    }
}

/// The list, for the process that holds keys.
#[derive(Debug)]
pub struct HeldKeyWriter {
    path: PathBuf,
    list: HeldKeyReader,
    page: Arc<Page>,
}

/// The sign of life of the process that holds keys, on the same page of memory: a number that changes
/// each time the event loop is awake, and is odd while it is.
#[derive(Debug, Clone)]
pub struct Heartbeat {
    page: Arc<Page>,
}

/// The list, for another process that watches. It stays readable when the file is removed.
#[derive(Debug)]
pub struct HeldKeyReader {
    file: File,
}

impl HeldKeyWriter {
    /// Opens the list in `path`, making it if it is not there, with what it holds.
    ///
    /// # Errors
    /// When the file cannot be made or mapped, or its disk is full.
    pub fn open(path: &Path) -> Result<HeldKeyWriter, BackendError> {
        let failed = |source| BackendError::HeldKeyWriter { path: path.to_owned(), source };
        let mut options = OpenOptions::new();
        options.read(true).write(true).create(true).truncate(false).mode(0o600);
        // A link that another program put there is not followed.
        options.custom_flags(OFlags::NOFOLLOW.bits() as i32);
        let file = options.open(path).map_err(failed)?;
        let length = file.metadata().map_err(failed)?.len();
        // Written, not only made longer: memory of a file without blocks on a full disk is fatal to touch.
        let missing = (BYTES as u64).saturating_sub(length);
        file.write_all_at(&vec![0; missing as usize], length.min(BYTES as u64)).map_err(failed)?;
        let page = Arc::new(Page::map(&file, BYTES).map_err(failed)?);
        Ok(HeldKeyWriter { path: path.to_owned(), list: HeldKeyReader { file }, page })
    }

    /// What the list says. Nothing if its file was made shorter.
    pub fn marks(&self) -> Option<HeldMarks> {
        self.list.marks()
    }

    /// The list for another process to read, also after its file was removed.
    ///
    /// # Errors
    /// When there are too many open files.
    pub fn file(&self) -> Result<HeldKeyReader, BackendError> {
        let failed = |source| BackendError::HeldKeyWriter { path: self.path.clone(), source };
        Ok(HeldKeyReader { file: self.list.file.try_clone().map_err(failed)? })
    }

    /// The sign of life on its page.
    pub fn pulse(&self) -> Heartbeat {
        Heartbeat { page: Arc::clone(&self.page) }
    }

    /// Marks a keycode as down or up.
    pub fn mark_key(&mut self, keycode: u8, down: bool) {
        mark(&self.page.bytes()[..BUTTONS_AT], keycode, down);
    }

    /// Whether any keycode is marked as down.
    pub fn has_keys(&self) -> bool {
        has_marks(&self.page.bytes()[..BUTTONS_AT])
    }

    /// Marks a pointer button as down or up.
    pub fn mark_button(&mut self, button: u8, down: bool) {
        mark(&self.page.bytes()[BUTTONS_AT..LENT_AT], button, down);
    }

    /// Marks a keycode as lent to a character or not.
    pub fn mark_lent(&mut self, keycode: u8, lent: bool) {
        mark(&self.page.bytes()[LENT_AT..PULSE_AT], keycode, lent);
    }

    /// Takes every mark away.
    pub fn clear(&mut self) {
        self.page.bytes()[..PULSE_AT].iter().for_each(|byte| byte.store(0, Ordering::Relaxed));
    }
}

impl Heartbeat {
    /// The event loop is awake.
    pub fn wake(&self) {
        let number = self.page.number(PULSE_AT);
        number.store((number.load(Ordering::Relaxed) | 1).wrapping_add(2), Ordering::Relaxed);
    }

    /// The event loop waits for something to happen.
    pub fn sleep(&self) {
        let number = self.page.number(PULSE_AT);
        number.store(number.load(Ordering::Relaxed) & !1, Ordering::Relaxed);
    }

    /// Whether a key or button is marked as down.
    pub fn holds(&self) -> bool {
        has_marks(&self.page.bytes()[..LENT_AT])
    }
}

impl From<OwnedFd> for HeldKeyReader {
    /// The list that a descriptor reads.
    fn from(descriptor: OwnedFd) -> HeldKeyReader {
        HeldKeyReader { file: File::from(descriptor) }
    }
}

impl AsFd for HeldKeyReader {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.file.as_fd()
    }
}

impl HeldKeyReader {
    /// Opens the list in `path`.
    ///
    /// # Errors
    /// When there is none, or it cannot be read.
    pub fn open(path: &Path) -> io::Result<HeldKeyReader> {
        Ok(HeldKeyReader { file: File::open(path)? })
    }

    /// What it says. Nothing if the file was made shorter, and its marks are lost.
    pub fn marks(&self) -> Option<HeldMarks> {
        let mut bytes = [0; PULSE_AT];
        self.file.read_exact_at(&mut bytes, 0).ok()?;
        Some(HeldMarks {
            keycodes: set_bits(&bytes[..BUTTONS_AT]),
            buttons: set_bits(&bytes[BUTTONS_AT..LENT_AT]),
            lent: set_bits(&bytes[LENT_AT..]),
        })
    }

    /// The [`Heartbeat`] as it stands: odd while the event loop is awake.
    pub fn pulse(&self) -> Option<u32> {
        let mut bytes = [0; 4];
        self.file.read_exact_at(&mut bytes, PULSE_AT as u64).ok()?;
        Some(u32::from_ne_bytes(bytes))
    }
}

fn has_marks(bytes: &[AtomicU8]) -> bool {
    bytes.iter().any(|byte| byte.load(Ordering::Relaxed) != 0)
}

fn mark(bytes: &[AtomicU8], number: u8, down: bool) {
    let Some(byte) = bytes.get(usize::from(number) / 8) else {
        return;
    };
    let bit = 1 << (number % 8);
    if down {
        byte.fetch_or(bit, Ordering::Relaxed);
    } else {
        byte.fetch_and(!bit, Ordering::Relaxed);
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
