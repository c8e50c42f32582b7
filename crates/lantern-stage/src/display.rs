//! The display: an X server without a screen, a keyboard layout, a window manager.

use std::io::{BufRead, BufReader};
use std::os::fd::{AsRawFd, OwnedFd};
use std::process::{Child, Command, Stdio};
use std::sync::{Mutex, PoisonError};

use rustix::io::{FdFlags, fcntl_setfd};
use tempfile::TempDir;
use x11rb::connection::Connection;
use x11rb::protocol::Event;
use x11rb::protocol::xkb::ConnectionExt as _;
use x11rb::protocol::xproto::{ChangeWindowAttributesAux, ConnectionExt as _, EventMask};
use x11rb::rust_connection::RustConnection;

use crate::{Person, Terminal};

/// A sort of window manager.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Manager {
    /// Windows lie upon each other (openbox).
    Stacking,
    /// Windows share the screen (i3).
    Tiling,
}

/// An X server of its own. It ends with this value.
#[derive(Debug)]
pub struct Display {
    name: String,
    server: Child,
    others: Vec<Child>,
    /// What programs find in their environment besides.
    variables: Vec<(String, String)>,
    /// A home, runtime folder and files of the test's own.
    folder: TempDir,
}

/// Servers start one after the other: two that find a dead one's number locked may both take it.
static STARTING: Mutex<()> = Mutex::new(());

/// Words for a server that plays a screen.
const SCREEN: [&str; 6] = ["-screen", "0", "1280x800x24", "-nolisten", "tcp", "-noreset"];

impl Display {
    /// Starts a server with that keyboard layout, as `setxkbmap` names it: `us`, `de`,
    /// `us -variant intl`.
    ///
    /// # Panics
    /// When the server or the layout cannot be had: `scripts/test` installs what is needed.
    pub fn start(layout: &str) -> Display {
        Display::start_with(layout, &[])
    }

    /// The same, with more words for the server.
    ///
    /// # Panics
    /// When the server or the layout cannot be had.
    pub fn start_with(layout: &str, words: &[&str]) -> Display {
        let mut command = Command::new("Xvfb");
        command.args(SCREEN).args(words);
        let folder = tempfile::tempdir().expect("a folder can be made");
        Display::start_server(command, folder, layout)
    }

    /// Starts a server that tells its number.
    pub(crate) fn start_server(mut command: Command, folder: TempDir, layout: &str) -> Display {
        let (read, write) = rustix::pipe::pipe().expect("a pipe can be made");
        fcntl_setfd(&write, FdFlags::empty()).expect("the server inherits the pipe");
        let number = write.as_raw_fd().to_string();
        command
            .args(["-displayfd", &number])
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null());
        let starting = STARTING.lock().unwrap_or_else(PoisonError::into_inner);
        let server = command.spawn().expect("the X server is installed (scripts/test does it)");
        drop(write);
        let name = format!(":{}", read_line(read));
        drop(starting);
        let display = Display { name, server, others: Vec::new(), variables: Vec::new(), folder };
        display.set_layout(layout);
        display
    }

    /// Sets the keyboard layout.
    ///
    /// # Panics
    /// When `setxkbmap` cannot.
    pub fn set_layout(&self, layout: &str) {
        let status = self
            .command("setxkbmap")
            .args(layout.split(' '))
            .stderr(Stdio::null())
            .status()
            .expect("setxkbmap is installed");
        assert!(status.success(), "setxkbmap {layout}");
    }

    /// The display's name, for DISPLAY.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The folder of the test's own.
    pub fn folder(&self) -> &std::path::Path {
        self.folder.path()
    }

    /// The process id of the server.
    pub fn server_pid(&self) -> u32 {
        self.server.id()
    }

    /// Ends the server, as a crash would. Its number stays ours.
    pub fn kill(&mut self) {
        let _starting = STARTING.lock().unwrap_or_else(PoisonError::into_inner);
        let _ = self.server.kill();
        let _ = self.server.wait();
        // A server looks here whether a number is taken, by the process that is named.
        let _ = std::fs::remove_file(self.lock_file());
        let _ = std::fs::write(self.lock_file(), format!("{:>10}\n", std::process::id()));
    }

    /// By which servers know that its number is taken.
    fn lock_file(&self) -> String {
        format!("/tmp/.X{}-lock", self.name.trim_start_matches(':'))
    }

    /// Starts the server of a display that was killed anew, under the same name.
    ///
    /// # Panics
    /// When it does not start.
    pub fn revive(&mut self) {
        let starting = STARTING.lock().unwrap_or_else(PoisonError::into_inner);
        let _ = std::fs::remove_file(self.lock_file());
        let mut command = Command::new("Xvfb");
        command.arg(&self.name).args(SCREEN).stdin(Stdio::null());
        let server = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn();
        self.server = server.expect("the X server is installed");
        self.wait_until("the display to be back", |display| {
            RustConnection::connect(Some(display.name())).is_ok()
        });
        drop(starting);
    }

    /// A command with this display, in a home of its own.
    pub fn command(&self, program: impl AsRef<std::ffi::OsStr>) -> Command {
        let mut command = Command::new(program);
        command
            .env("DISPLAY", &self.name)
            .env("HOME", self.folder.path())
            .env("XDG_RUNTIME_DIR", self.folder.path())
            .env("XDG_CONFIG_HOME", self.folder.path().join("config"))
            .env("XDG_DATA_HOME", self.folder.path().join("data"))
            .env("LC_ALL", "C.UTF-8")
            .env("GSETTINGS_BACKEND", "memory")
            .env_remove("XAUTHORITY")
            .env_remove("DBUS_SESSION_BUS_ADDRESS")
            .env_remove("NO_AT_BRIDGE")
            .envs(self.variables.iter().map(|(name, value)| (name, value)))
            .stdin(Stdio::null());
        command
    }

    /// Sets what programs that are started from now on find in their environment.
    pub fn set_variable(&mut self, name: &str, value: &str) {
        self.variables.push((name.to_owned(), value.to_owned()));
    }

    /// A connection to it.
    ///
    /// # Panics
    /// When the server does not answer.
    pub fn connect(&self) -> RustConnection {
        connect(&self.name)
    }

    /// Starts the window manager and waits until it manages.
    ///
    /// # Panics
    /// When it is not installed or does not manage.
    pub fn manage(&mut self) {
        self.manage_with(Manager::Stacking);
    }

    /// The same with a window manager of that sort.
    ///
    /// # Panics
    /// When it is not installed or does not manage.
    pub fn manage_with(&mut self, manager: Manager) {
        let conn = self.connect();
        let root = conn.setup().roots[0].root;
        let mask = ChangeWindowAttributesAux::new().event_mask(EventMask::PROPERTY_CHANGE);
        conn.change_window_attributes(root, &mask).expect("the server listens");
        let name = b"_NET_SUPPORTING_WM_CHECK";
        let check = conn.intern_atom(false, name).expect("the server listens");
        let check = check.reply().expect("the server answers").atom;
        let (program, words) = match manager {
            Manager::Stacking => ("openbox", vec!["--sm-disable".to_owned()]),
            Manager::Tiling => {
                let config = self.folder().join("i3.config");
                std::fs::write(
                    &config,
                    "font pango:monospace 10\nfocus_on_window_activation focus\n",
                )
                .expect("the file can be written");
                ("i3", vec!["-c".to_owned(), config.display().to_string()])
            }
        };
        let manager = self
            .command(program)
            .args(words)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap_or_else(|error| panic!("{program} is installed: {error}"));
        self.others.push(manager);
        wait_for(
            &conn,
            "the window manager",
            |event| matches!(event, Event::PropertyNotify(change) if change.atom == check),
        );
    }

    /// Ends what was started last on it.
    pub fn end_last(&mut self) {
        if let Some(mut last) = self.others.pop() {
            crate::session::end(&mut last);
        }
    }

    pub(crate) fn keep(&mut self, child: Child) {
        self.others.push(child);
    }
}

impl Drop for Display {
    fn drop(&mut self) {
        for child in self.others.iter_mut().rev() {
            crate::session::end(child);
        }
        // Not by force: a server that dies leaves its number locked.
        crate::session::end(&mut self.server);
        // One that was killed and not revived; another server's is not ours to take away.
        let locked = std::fs::read_to_string(self.lock_file()).unwrap_or_default();
        if locked.trim().parse() == Ok(std::process::id()) {
            let _ = std::fs::remove_file(self.lock_file());
        }
    }
}

/// A display with a window manager, a terminal in front, and a person.
#[derive(Debug)]
pub struct Stage {
    /// The person at its keyboard.
    pub person: Person,
    /// The terminal in front.
    pub terminal: Terminal,
    /// The display.
    pub display: Display,
}

impl Stage {
    /// Sets the stage with a layout.
    pub fn set(layout: &str) -> Stage {
        let mut display = Display::start(layout);
        display.manage();
        let terminal = Terminal::open(&mut display);
        let person = Person::sit_down(&display);
        Stage { person, terminal, display }
    }
}

fn read_line(from: OwnedFd) -> String {
    let mut line = String::new();
    let mut reader = BufReader::new(std::fs::File::from(from));
    reader.read_line(&mut line).expect("the server says its number");
    assert!(!line.trim().is_empty(), "the X server did not start");
    line.trim().to_owned()
}

/// A connection like any toolkit's: it says that it knows of layouts, or the server would tell it each
/// time that another keyboard speaks, which wakes it in the middle of what is timed.
pub(crate) fn connect(display: &str) -> RustConnection {
    let conn = RustConnection::connect(Some(display)).expect("the display answers").0;
    conn.xkb_use_extension(1, 0).expect("it listens").reply().expect("it has layouts");
    conn
}

/// Waits for an event of a connection.
pub(crate) fn wait_for(conn: &RustConnection, what: &str, mut is_it: impl FnMut(&Event) -> bool) {
    use rustix::event::{PollFd, PollFlags, Timespec, poll};
    conn.flush().expect("the server listens");
    loop {
        while let Some(event) = conn.poll_for_event().expect("the server is there") {
            if is_it(&event) {
                return;
            }
        }
        let limit = Timespec { tv_sec: (crate::PATIENCE_MS / 1000) as i64, tv_nsec: 0 };
        let mut fds = [PollFd::new(conn.stream(), PollFlags::IN)];
        let ready = poll(&mut fds, Some(&limit)).expect("waiting works");
        assert!(ready > 0, "gave up waiting for {what}");
    }
}
