//! What the clipboard held before a paste, kept where another process finds it: who owns the clipboard holds
//! it only as long as it lives, and what another program copied must not go with us.
//!
//! It lies in a file that has no name and is nowhere but in memory.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Read, Seek, Write};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use rustix::fs::{MemfdFlags, memfd_create};

/// One form of what a clipboard holds, with numbers as the display knows them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ClipboardForm {
    /// What it is.
    pub kind: u32,
    /// Bits of each of its numbers: 8, 16 or 32.
    pub format: u8,
    /// It.
    pub bytes: Vec<u8>,
}

/// All forms, by what each is asked for by.
pub type ClipboardContents = BTreeMap<u32, ClipboardForm>;

/// Where it is kept.
#[derive(Debug)]
pub struct CopiedContents(File);

impl CopiedContents {
    /// With nothing in it.
    ///
    /// # Errors
    /// When the system has no memory for files.
    pub fn new() -> io::Result<CopiedContents> {
        Ok(CopiedContents::from(memfd_create("copied", MemfdFlags::CLOEXEC)?))
    }

    /// Whether nothing is kept.
    pub fn is_empty(&self) -> bool {
        self.0.metadata().is_ok_and(|about| about.len() == 0)
    }

    /// The same place once more.
    ///
    /// # Errors
    /// When there are too many open files.
    pub fn try_clone(&self) -> io::Result<CopiedContents> {
        self.0.try_clone().map(CopiedContents)
    }

    /// Keeps exactly this from now on: what each clipboard holds.
    pub fn keep<'c>(
        &mut self,
        clipboards: impl Iterator<Item = (u32, &'c ClipboardContents)>,
    ) -> io::Result<()> {
        self.0.set_len(0)?;
        self.0.rewind()?;
        for (clipboard, contents) in clipboards {
            for (target, form) in contents {
                let length = u32::try_from(form.bytes.len()).map_err(io::Error::other)?;
                for number in [clipboard, *target, form.kind, form.format.into(), length] {
                    self.0.write_all(&number.to_ne_bytes())?;
                }
                self.0.write_all(&form.bytes)?;
            }
        }
        Ok(())
    }

    /// What is kept for each clipboard; a form that was not written to its end is left out.
    pub fn read(&mut self) -> io::Result<BTreeMap<u32, ClipboardContents>> {
        self.0.rewind()?;
        let mut all = Vec::new();
        self.0.read_to_end(&mut all)?;
        let mut rest = all.as_slice();
        let mut clipboards: BTreeMap<u32, ClipboardContents> = BTreeMap::new();
        while let Some((head, after)) = rest.split_first_chunk::<20>() {
            let mut numbers = head
                .chunks_exact(4)
                .map(|four| u32::from_ne_bytes(four.try_into().expect("four bytes were taken")));
            let mut number = || numbers.next().expect("there are five");
            let (clipboard, target, kind, format) = (number(), number(), number(), number());
            let Some((bytes, after)) = after.split_at_checked(number() as usize) else { break };
            let form = ClipboardForm { kind, format: format as u8, bytes: bytes.to_vec() };
            clipboards.entry(clipboard).or_default().insert(target, form);
            rest = after;
        }
        Ok(clipboards)
    }
}

impl From<OwnedFd> for CopiedContents {
    fn from(descriptor: OwnedFd) -> CopiedContents {
        CopiedContents(File::from(descriptor))
    }
}

impl From<CopiedContents> for OwnedFd {
    fn from(copied: CopiedContents) -> OwnedFd {
        copied.0.into()
    }
}

impl AsFd for CopiedContents {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.0.as_fd()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_kept_is_read_in_another_place_and_a_broken_rest_is_left_out() {
        let form = |bytes: &[u8]| ClipboardForm { kind: 31, format: 8, bytes: bytes.to_vec() };
        let contents = ClipboardContents::from([(2, form(b"core 12")), (3, form(b""))]);
        let mut copied = CopiedContents::new().expect("there is memory");
        let mut other = copied.try_clone().expect("there are files left");
        let mut read = || other.read().expect("it is there");
        assert!(read().is_empty());
        copied.keep([(1, &contents), (7, &contents)].into_iter()).expect("there is memory");
        assert_eq!(read(), BTreeMap::from([(1, contents.clone()), (7, contents.clone())]));
        // As if the one who wrote had died in the middle.
        copied.0.set_len(50).expect("it can be cut");
        assert_eq!(read(), BTreeMap::from([(1, contents.clone())]));
        copied.0.set_len(26).expect("it can be cut");
        assert!(read().is_empty());
        copied.keep(std::iter::empty()).expect("there is memory");
        assert!(read().is_empty());
    }
}
