//! Files of rules, watched for being saved.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};

use rustix::fs::inotify;

use crate::failure::Failure;

/// Watches files for being saved, in place or by being replaced, as editors do.
pub struct SavedFile {
    pub inotify: OwnedFd,
    /// The names that matter, by the watched folder.
    names: BTreeMap<i32, Vec<OsString>>,
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
            let flags = inotify::WatchFlags::CLOSE_WRITE | inotify::WatchFlags::MOVED_TO;
            let watch = inotify::add_watch(&inotify, folder, flags)
                .map_err(|error| failed(error.into()))?;
            names.entry(watch).or_default().extend(path.file_name().map(OsString::from));
        }
        Ok(SavedFile { inotify, names })
    }

    /// Reads what has come; whether one of the files was among it.
    pub fn has_changed(&mut self) -> bool {
        use std::os::unix::ffi::OsStrExt;
        let mut buffer = [std::mem::MaybeUninit::uninit(); 4096];
        let mut changed = false;
        let mut reader = inotify::Reader::new(self.inotify.as_fd(), &mut buffer);
        while let Ok(event) = reader.next() {
            let names = self.names.get(&event.wd());
            let name = event.file_name().map(|name| std::ffi::OsStr::from_bytes(name.to_bytes()));
            changed |= names.zip(name).is_some_and(|(names, name)| names.iter().any(|n| n == name));
        }
        changed
    }
}
