//! Our folder in the runtime directory: who runs on a display, and the list of held keys.

use std::env;
use std::fs::{self, DirBuilder, File, OpenOptions};
use std::io::{self, Read, Seek, Write};
use std::os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt};
use std::path::PathBuf;

use rustix::fs::{FlockOperation, flock};

use crate::failure::Failure;

/// Held as long as we run on a display; another `run` finds it taken.
#[derive(Debug)]
pub struct Claim {
    _file: File,
}

/// The files of one display.
#[derive(Debug)]
pub struct RuntimeFiles {
    folder: PathBuf,
    display: String,
}

impl RuntimeFiles {
    /// The folder.
    pub fn folder(&self) -> &std::path::Path {
        &self.folder
    }

    /// The files for the display in DISPLAY, in a folder that only we may enter.
    pub fn for_display() -> Result<RuntimeFiles, Failure> {
        let folder = match env::var_os("XDG_RUNTIME_DIR").filter(|dir| !dir.is_empty()) {
            Some(dir) => PathBuf::from(dir).join("cold-lantern"),
            None => env::temp_dir().join(format!("cold-lantern-{}", own_user())),
        };
        let failed = |source| Failure::Write { path: folder.clone(), source };
        match DirBuilder::new().mode(0o700).create(&folder) {
            Ok(()) => {}
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
            Err(error) => return Err(failed(error)),
        }
        let about = fs::symlink_metadata(&folder).map_err(failed)?;
        if !about.is_dir() || about.uid() != own_user() {
            return Err(failed(io::Error::other("it belongs to somebody else")));
        }
        let display = env::var("DISPLAY").unwrap_or_default();
        // `:0` and `:0.0` are one display.
        let server = display.rsplit_once('.').map_or(display.as_str(), |(server, _)| server);
        let server = if server.contains(':') { server } else { &display };
        let display = server.replace(|c: char| !c.is_ascii_alphanumeric(), "_");
        Ok(RuntimeFiles { folder, display })
    }

    /// Where held keys are listed.
    pub fn held_keys(&self) -> PathBuf {
        self.folder.join(format!("held{}", self.display))
    }

    /// Where the one that runs can be spoken to.
    pub fn socket(&self) -> PathBuf {
        self.folder.join(format!("socket{}", self.display))
    }

    /// Claims the display, or gives the process that has it.
    pub fn claim(&self) -> Result<Result<Claim, Option<u32>>, Failure> {
        let path = self.folder.join(format!("run{}", self.display));
        let failed = |source| Failure::Write { path: path.clone(), source };
        let mut options = OpenOptions::new();
        options.read(true).write(true).create(true).truncate(false).mode(0o600);
        let mut file = options.open(&path).map_err(failed)?;
        if flock(&file, FlockOperation::NonBlockingLockExclusive).is_err() {
            let mut who = String::new();
            let _ = file.read_to_string(&mut who);
            return Ok(Err(who.trim().parse().ok()));
        }
        file.set_len(0).map_err(failed)?;
        file.rewind().map_err(failed)?;
        writeln!(file, "{}", std::process::id()).map_err(failed)?;
        Ok(Ok(Claim { _file: file }))
    }
}

fn own_user() -> u32 {
    rustix::process::getuid().as_raw()
}
