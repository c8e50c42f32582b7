//! Our folder in the runtime directory: who runs in a session, and the list of held keys.

use std::env;
use std::fs::{self, DirBuilder, File, OpenOptions};
use std::io::{self, Read, Seek, Write};
use std::os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::PathBuf;

use rustix::fs::{FlockOperation, OFlags, flock};

use crate::arguments::BackendName;
use crate::failure::Failure;

/// Held as long as we run on a display; another `run` finds it taken.
#[derive(Debug)]
pub struct Claim {
    _file: File,
}

/// The files of one session: of an X display, a Wayland display, or a login without either.
#[derive(Debug)]
pub struct RuntimeFiles {
    folder: PathBuf,
    session: String,
}

impl RuntimeFiles {
    /// The folder.
    pub fn folder(&self) -> &std::path::Path {
        &self.folder
    }

    /// Where a `run` on that back end keeps its files, in a folder that only we may enter.
    pub fn of_session(backend: BackendName) -> Result<RuntimeFiles, Failure> {
        let own_display = if backend == BackendName::X11 { x_display() } else { None };
        let session = own_display.unwrap_or_else(|| session_names().swap_remove(0));
        Ok(RuntimeFiles { folder: own_folder()?, session })
    }

    /// Where the files of the one that runs in this session may be, the likeliest first.
    pub fn candidates() -> Result<Vec<RuntimeFiles>, Failure> {
        let folder = own_folder()?;
        let files = |session: String| RuntimeFiles { folder: folder.clone(), session };
        Ok(session_names().into_iter().map(files).collect())
    }

    /// Where held keys are listed.
    pub fn held_keys(&self) -> PathBuf {
        self.folder.join(format!("held{}", self.session))
    }

    /// Where the one that runs can be spoken to.
    pub fn socket(&self) -> PathBuf {
        self.folder.join(format!("socket{}", self.session))
    }

    /// Claims the session, or gives the process that has it.
    pub fn claim(&self) -> Result<Result<Claim, Option<u32>>, Failure> {
        let path = self.folder.join(format!("run{}", self.session));
        let failed = |source| Failure::Write { path: path.clone(), source };
        let mut options = OpenOptions::new();
        options.read(true).write(true).create(true).truncate(false).mode(0o600);
        // A link would lead to a file of another's choice, which is emptied.
        options.custom_flags(OFlags::NOFOLLOW.bits() as i32);
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

/// Our folder in the runtime directory, which only we may enter.
fn own_folder() -> Result<PathBuf, Failure> {
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
        return Err(failed(io::Error::other("it belongs to another user")));
    }
    if about.mode() & 0o077 != 0 {
        // Others may have put something into it until now; nothing in it is trusted by its name alone.
        fs::set_permissions(&folder, fs::Permissions::from_mode(0o700)).map_err(failed)?;
    }
    Ok(folder)
}

/// Names of this session from the environment, at least one: the Wayland display and the X display, or
/// the number of the login, or an empty name. A back end without an X display uses the first.
fn session_names() -> Vec<String> {
    let variable = |name: &str| env::var(name).ok().filter(|value| !value.is_empty());
    let wayland = variable("WAYLAND_DISPLAY").map(|name| format!("_wayland_{}", plain(&name)));
    let displays: Vec<String> = wayland.into_iter().chain(x_display()).collect();
    if !displays.is_empty() {
        return displays;
    }
    let login = variable("XDG_SESSION_ID").map(|id| format!("_login_{}", plain(&id)));
    vec![login.unwrap_or_default()]
}

/// The X display in DISPLAY; `:0` and `:0.0` are one.
fn x_display() -> Option<String> {
    let display = env::var("DISPLAY").ok().filter(|display| !display.is_empty())?;
    let server = display.rsplit_once('.').map_or(display.as_str(), |(server, _)| server);
    let server = if server.contains(':') { server } else { &display };
    Some(plain(server))
}

/// A name with nothing that means something in a file name.
fn plain(name: &str) -> String {
    name.replace(|c: char| !c.is_ascii_alphanumeric(), "_")
}

fn own_user() -> u32 {
    rustix::process::getuid().as_raw()
}
