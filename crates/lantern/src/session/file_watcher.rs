//! Files of rules, watched for being saved.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::{OsStr, OsString};
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use rustix::fs::inotify;

use crate::failure::Failure;

/// What ends a change.
const SAVED: inotify::WatchFlags =
    inotify::WatchFlags::CLOSE_WRITE.union(inotify::WatchFlags::MOVED_TO);

/// After so many notices the rest waits: a log that grows in the same folder must not keep us here.
const AT_ONCE: usize = 1000;

/// Watches files for being saved, in place or by being replaced, as editors do.
#[derive(Debug)]
pub struct SavedFile {
    pub inotify: OwnedFd,
    /// The names that matter, by the watched folder.
    names: BTreeMap<i32, Vec<OsString>>,
    /// Files that a program has changed and not closed yet.
    open: BTreeSet<OsString>,
    changed: bool,
}

impl SavedFile {
    pub fn watch(paths: &[PathBuf]) -> Result<SavedFile, Failure> {
        let failed = |source: io::Error| Failure::System { what: "cannot watch the file", source };
        let flags = inotify::CreateFlags::CLOEXEC | inotify::CreateFlags::NONBLOCK;
        let inotify = inotify::init(flags).map_err(|error| failed(error.into()))?;
        let mut names: BTreeMap<i32, Vec<OsString>> = BTreeMap::new();
        // A link is watched at both of its ends.
        let real: Vec<PathBuf> = paths
            .iter()
            .map(|path| path.canonicalize())
            .collect::<Result<_, _>>()
            .map_err(failed)?;
        for path in paths.iter().chain(&real) {
            let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
            let folder = folder.unwrap_or(Path::new("."));
            let watch = inotify::add_watch(&inotify, folder, SAVED | inotify::WatchFlags::MODIFY)
                .map_err(|error| failed(error.into()))?;
            names.entry(watch).or_default().extend(path.file_name().map(OsString::from));
        }
        Ok(SavedFile { inotify, names, open: BTreeSet::new(), changed: false })
    }

    /// Watches others from now on. What happened to these until then is not forgotten.
    pub fn watch_others(&mut self, paths: &[PathBuf]) -> Result<(), Failure> {
        let fresh = SavedFile::watch(paths)?;
        self.look();
        let open = std::mem::take(&mut self.open);
        *self = SavedFile { changed: self.changed, open, ..fresh };
        Ok(())
    }

    /// Whether a change was seen that has not been taken.
    pub fn is_pending(&self) -> bool {
        self.changed
    }

    /// Whether one of the files was saved since the last call. Not while a program still writes
    /// one, which would be read in part.
    pub fn has_changed(&mut self) -> bool {
        self.look();
        self.open.is_empty() && std::mem::take(&mut self.changed)
    }

    /// Whether a program has begun to write and has not closed the file.
    pub fn is_being_written(&mut self) -> bool {
        self.look();
        !self.open.is_empty()
    }

    /// Reads what has come.
    fn look(&mut self) {
        let mut buffer = [std::mem::MaybeUninit::uninit(); 4096];
        let mut reader = inotify::Reader::new(self.inotify.as_fd(), &mut buffer);
        let mut seen = 0;
        while (seen < AT_ONCE || !reader.is_buffer_empty())
            && let Ok(event) = reader.next()
        {
            seen += 1;
            let name = event.file_name().map(|name| OsStr::from_bytes(name.to_bytes()));
            let (Some(names), Some(name)) = (self.names.get(&event.wd()), name) else { continue };
            if !names.iter().any(|known| known == name) {
                continue;
            }
            if event.events().bits() & SAVED.bits() == 0 {
                self.open.insert(name.to_owned());
            } else {
                self.open.remove(name);
                self.changed = true;
            }
        }
    }
}
