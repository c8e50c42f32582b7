//! Memory shared with the file of held keys.

#![allow(unsafe_code)]

use std::fs::File;
use std::sync::atomic::{AtomicU8, AtomicU32};

use memmap2::{MmapOptions, MmapRaw};

/// The first bytes of a file, shared with every process that maps or reads it. Other processes may
/// write it at any time, so it is accessed as atomic numbers only.
#[derive(Debug)]
pub(super) struct Page {
    memory: MmapRaw,
}

impl Page {
    /// Shares the first `length` bytes, which the file must have.
    pub(super) fn map(file: &File, length: usize) -> std::io::Result<Page> {
        Ok(Page { memory: MmapOptions::new().len(length).map_raw(file)? })
    }

    /// Its bytes.
    pub(super) fn bytes(&self) -> &[AtomicU8] {
        let start = self.memory.as_ptr().cast::<AtomicU8>();
        // SAFETY: the memory is mapped for as long as `self` lives, is readable and writable, and is
        // reached through atomic numbers alone in this process.
        unsafe { std::slice::from_raw_parts(start, self.memory.len()) }
    }

    /// The number at a place that is divisible by four.
    ///
    /// # Panics
    /// When the place is not, or lies outside.
    pub(super) fn number(&self, at: usize) -> &AtomicU32 {
        assert!(
            at.is_multiple_of(4) && at + 4 <= self.memory.len(),
            "{at} is no place of a number"
        );
        // SAFETY: as above; a mapping begins at a page's border, so that the number is aligned.
        unsafe { &*self.memory.as_ptr().add(at).cast::<AtomicU32>() }
    }
}
