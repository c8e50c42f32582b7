//! A Wayland session without a screen: a compositor, programs with windows, a bus of its own and a stand-in for
//! the desktop's portal on it.

use std::ffi::OsStr;
use std::io::{BufRead, BufReader};
use std::os::unix::fs::chown;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use tempfile::TempDir;

use crate::portal::{PortalKind, StandInPortal};
use crate::waiting::wait_until;

/// The owner of the session where the tests run as root.
const NOBODY: u32 = 65_534;

/// The session. Everything in it ends with this.
#[derive(Debug)]
pub struct WaylandSession {
    folder: TempDir,
    bus: String,
    programs: Vec<Child>,
}

impl WaylandSession {
    /// Starts one.
    ///
    /// # Panics
    /// When sway or a message bus is not installed.
    pub fn start() -> WaylandSession {
        let folder = tempfile::tempdir().expect("a folder can be made");
        if is_root() {
            chown(folder.path(), Some(NOBODY), Some(NOBODY)).expect("we are root");
        }
        let mut session = WaylandSession { folder, bus: String::new(), programs: Vec::new() };
        // The stand-in for the portal is in the tests' own process, which may be another user's.
        let config = session.write(
            "bus.conf",
            &format!(
                "<!DOCTYPE busconfig PUBLIC \"-//freedesktop//DTD D-Bus Bus Configuration 1.0//EN\" \
                 \"http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd\"><busconfig>\
                 <type>session</type><listen>unix:path={}</listen><policy context=\"default\">\
                 <allow user=\"*\"/><allow send_destination=\"*\" eavesdrop=\"true\"/>\
                 <allow eavesdrop=\"true\"/><allow own=\"*\"/></policy></busconfig>",
                session.path().join("bus").display()
            ),
        );
        let mut bus = session
            .command("dbus-daemon")
            .arg(format!("--config-file={}", config.display()))
            .args(["--nofork", "--print-address"])
            .stdout(Stdio::piped())
            .spawn()
            .expect("dbus is installed");
        let mut address = String::new();
        let mut said = BufReader::new(bus.stdout.take().expect("it is a pipe"));
        said.read_line(&mut address).expect("the bus says its address");
        session.bus = address.trim().to_owned();
        session.programs.push(bus);
        let config = session.path().join("sway.conf");
        std::fs::write(&config, "xwayland disable\ndefault_border none\n")
            .expect("it can be written");
        let mut sway = session.command("sway");
        sway.arg("-c").arg(&config);
        for (name, value) in [
            ("WLR_BACKENDS", "headless"),
            ("WLR_RENDERER", "pixman"),
            ("WLR_LIBINPUT_NO_DEVICES", "1"),
            ("WLR_HEADLESS_OUTPUTS", "1"),
        ] {
            sway.env(name, value);
        }
        sway.env_remove("WAYLAND_DISPLAY");
        let sway = sway.spawn().expect("sway is installed");
        session.programs.push(sway);
        let socket = session.path().join("wayland-1");
        session.wait("the compositor", || socket.exists());
        session
    }

    /// Its folder, in which its sockets are.
    pub fn path(&self) -> &Path {
        self.folder.path()
    }

    fn wait(&self, what: &str, done: impl Fn() -> bool) {
        wait_until(what, done);
    }

    /// A program in the session, not yet started.
    pub fn command(&self, program: impl AsRef<OsStr>) -> Command {
        let mut command = Command::new(program);
        command
            .env_clear()
            .env("PATH", std::env::var_os("PATH").unwrap_or_default())
            .env("HOME", self.path())
            .env("XDG_RUNTIME_DIR", self.path())
            .env("XDG_SESSION_TYPE", "wayland")
            .env("WAYLAND_DISPLAY", "wayland-1")
            .env("DBUS_SESSION_BUS_ADDRESS", &self.bus)
            .current_dir(self.path())
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null());
        if is_root() {
            // The compositor refuses to run as root.
            command.uid(NOBODY).gid(NOBODY);
        }
        command
    }

    /// A file in the session's folder that belongs to its user.
    ///
    /// # Panics
    /// When it cannot be written.
    pub fn write(&self, name: &str, text: &str) -> PathBuf {
        let path = self.path().join(name);
        std::fs::write(&path, text).expect("it can be written");
        if is_root() {
            chown(&path, Some(NOBODY), Some(NOBODY)).expect("we are root");
        }
        path
    }

    /// A program of ours, where the session's user may start it.
    ///
    /// # Panics
    /// When it cannot be copied.
    pub fn bring(&self, program: &str) -> PathBuf {
        let path = self.path().join("program");
        if !path.exists() {
            std::fs::copy(program, &path).expect("it can be copied");
        }
        path
    }

    /// Opens a terminal under that application id.
    ///
    /// # Panics
    /// When foot is not installed.
    pub fn open(&mut self, app_id: &str, title: &str) {
        let mut foot = self.command("foot");
        foot.args(["--app-id", app_id, "--title", title, "--override=locked-title=yes", "cat"]);
        self.programs.push(foot.spawn().expect("foot is installed"));
    }

    /// Opens a terminal that keeps every byte it receives from its keyboard.
    ///
    /// # Panics
    /// When foot is not installed, or does not start.
    pub fn open_receiver(&mut self, app_id: &str) -> WaylandReceiver {
        let path = self.path().join(format!("{app_id}.received"));
        let ready = self.path().join(format!("{app_id}.ready"));
        let script =
            format!("stty raw -echo; touch {}; exec cat > {}", ready.display(), path.display());
        let mut foot = self.command("foot");
        foot.args(["--app-id", app_id, "--title", app_id, "--override=locked-title=yes"]);
        foot.args(["sh", "-c", &script]);
        self.programs.push(foot.spawn().expect("foot is installed"));
        self.wait("the terminal", || ready.exists());
        WaylandReceiver { path }
    }

    /// What a program of the session prints.
    ///
    /// # Panics
    /// When it is not installed.
    pub fn ask(&self, program: &str, words: &[&str]) -> String {
        let output = self.command(program).args(words).stdout(Stdio::piped()).output();
        String::from_utf8_lossy(&output.expect("it is installed").stdout).into_owned()
    }

    /// Starts a program that runs in the background.
    ///
    /// # Panics
    /// When it is not installed.
    pub fn keep(&mut self, program: &str, words: &[&str]) {
        let child = self.command(program).args(words).spawn();
        self.programs.push(child.expect("it is installed"));
    }

    /// Stands in for the desktop's portal.
    ///
    /// # Panics
    /// When another process is it already.
    pub fn start_portal(&self) -> StandInPortal {
        self.start_portal_as(PortalKind::Documented)
    }

    /// Stands in for the portal of one desktop.
    ///
    /// # Panics
    /// When another process is it already.
    pub fn start_portal_as(&self, kind: PortalKind) -> StandInPortal {
        StandInPortal::start(&self.bus, kind)
    }
}

/// A terminal whose keyboard input goes into a file.
#[derive(Debug)]
pub struct WaylandReceiver {
    path: PathBuf,
}

impl WaylandReceiver {
    /// What it received so far.
    pub fn received(&self) -> String {
        String::from_utf8_lossy(&std::fs::read(&self.path).unwrap_or_default()).into_owned()
    }

    /// Waits until it has received exactly this.
    ///
    /// # Panics
    /// If that does not come, with what came.
    pub fn expect(&self, text: &str) {
        let mut last = String::new();
        let came = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
            wait_until("the text in the terminal", || {
                last = self.received();
                last == text
            });
        }));
        assert!(came.is_ok(), "received {last:?} instead of {text:?}");
    }
}

impl Drop for WaylandSession {
    fn drop(&mut self) {
        for program in self.programs.iter_mut().rev() {
            // It may have ended already.
            let _ = program.kill();
            let _ = program.wait();
        }
    }
}

fn is_root() -> bool {
    rustix::process::getuid().is_root()
}
