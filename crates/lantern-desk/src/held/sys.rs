//! Mapping the file of held keys.

#![allow(unsafe_code)]

use std::fs::File;

use memmap2::MmapMut;

/// Shares a page of memory with the file.
pub(super) fn map(file: &File) -> std::io::Result<MmapMut> {
    // SAFETY: the file is ours alone (0600, in our folder of the runtime directory). Its length
    // was set just before and nobody shortens it; the guardian only reads it. A byte that changes
    // under us would be a mark more or less, which is checked against the display before use.
    unsafe { MmapMut::map_mut(file) }
}
