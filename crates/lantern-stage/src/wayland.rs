//! A Wayland session without a screen: a compositor, programs with windows, a bus of its own and a stand-in for
//! the desktop's portal on it.

use std::ffi::OsStr;
use std::io::{BufRead, BufReader};
use std::os::unix::fs::chown;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread;
use std::time::Duration;

use futures::StreamExt;
use futures::executor::block_on;
use tempfile::TempDir;
use zbus::message::Type;
use zbus::{
    Connection, Message, MessageStream, ObjectPath, OwnedObjectPath, OwnedVariant, Variant,
};

use crate::waiting::wait_until;

/// The owner of the session where the tests run as root.
const NOBODY: u32 = 65_534;
/// The longest that anything is waited for.
const PATIENCE: Duration = Duration::from_secs(20);

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
        StandInPortal::start(&self.bus)
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

/// A portal that agrees to everything, and tells what it was asked.
#[derive(Debug)]
pub struct StandInPortal {
    bus: Connection,
    asked: Receiver<String>,
    seen: Vec<String>,
    /// Of these, what no expectation has met yet: shortcuts and input are asked for side by side.
    unmet: Vec<String>,
}

const PATH: &str = "/org/freedesktop/portal/desktop";
const SHORTCUTS: &str = "org.freedesktop.portal.GlobalShortcuts";

type About = std::collections::BTreeMap<String, OwnedVariant>;

impl StandInPortal {
    fn start(address: &str) -> StandInPortal {
        let bus = block_on(async {
            zbus::connection::Builder::address(address)
                .name("org.freedesktop.portal.Desktop")
                .build()
                .await
        });
        let bus = bus.expect("the name is free");
        let (sender, asked) = channel();
        let serving = bus.clone();
        thread::spawn(move || block_on(serve(serving, sender)));
        StandInPortal { bus, asked, seen: Vec::new(), unmet: Vec::new() }
    }

    /// Waits until it is asked something with this in it.
    ///
    /// # Panics
    /// If that does not come.
    pub fn expect(&mut self, part: &str) -> String {
        if let Some(at) = self.unmet.iter().position(|asked| asked.contains(part)) {
            return self.unmet.remove(at);
        }
        loop {
            match self.asked.recv_timeout(PATIENCE) {
                Ok(asked) => {
                    self.seen.push(asked.clone());
                    if asked.contains(part) {
                        return asked;
                    }
                    self.unmet.push(asked);
                }
                Err(_) => panic!("no request for {part:?}, but for:\n{}", self.seen.join("\n")),
            }
        }
    }

    /// Whether it was asked something with this in it, of all that was sent to it so far.
    ///
    /// # Panics
    /// When the bus is gone.
    pub fn was_asked(&mut self, part: &str) -> bool {
        // The bus hands on in order, and its answer comes behind what it handed on before.
        let bus = Some("org.freedesktop.DBus");
        let answer = self.bus.call_method(bus, "/org/freedesktop/DBus", bus, "GetId", &());
        block_on(answer).expect("the bus is there");
        while let Ok(asked) = self.asked.try_recv() {
            self.seen.push(asked.clone());
            self.unmet.push(asked);
        }
        self.unmet.iter().any(|asked| asked.contains(part))
    }

    /// The person presses the shortcut with that id, or lets it go.
    ///
    /// # Panics
    /// When the bus is gone.
    pub fn shortcut(&self, id: &str, down: bool) {
        let session = ObjectPath::try_from(format!("{PATH}/session/lantern")).expect("it is one");
        let about = About::new();
        let body = (session, id, 0u64, about);
        let name = if down { "Activated" } else { "Deactivated" };
        block_on(self.bus.emit_signal(None::<&str>, PATH, SHORTCUTS, name, &body))
            .expect("the bus is there");
    }
}

async fn serve(bus: Connection, asked: Sender<String>) {
    let mut messages = MessageStream::from(&bus);
    while let Some(Ok(message)) = messages.next().await {
        if message.message_type() == Type::MethodCall {
            // A caller that is gone needs no answer.
            let _ = answer(&bus, &message, &asked).await;
        }
    }
}

async fn answer(bus: &Connection, message: &Message, asked: &Sender<String>) -> zbus::Result<()> {
    let header = message.header();
    let member = header.member().map_or("", |member| member.as_str()).to_owned();
    let interface = header.interface().map_or("", |name| name.as_str()).to_owned();
    let body = message.body();
    let tell = |words: String| drop(asked.send(words));
    let number: (OwnedObjectPath, About, i32, u32);
    match member.as_str() {
        "Get" => return bus.reply(&header, &Variant::from(1u32)).await,
        "NotifyKeyboardKeycode" | "NotifyKeyboardKeysym" | "NotifyPointerButton" => {
            number = body.deserialize()?;
            tell(format!("{} {} {}", member.trim_start_matches("Notify"), number.2, number.3));
            return bus.reply(&header, &()).await;
        }
        "NotifyPointerMotion" => {
            let (_, _, x, y): (OwnedObjectPath, About, f64, f64) = body.deserialize()?;
            tell(format!("PointerMotion {x} {y}"));
            return bus.reply(&header, &()).await;
        }
        _ => {}
    }
    // Everything else is a request that the person agrees to.
    let mut results = About::new();
    let session = format!("{PATH}/session/lantern");
    let about: About = match member.as_str() {
        "CreateSession" => {
            results.insert("session_handle".to_owned(), Variant::from(session).try_into()?);
            body.deserialize::<(About,)>()?.0
        }
        "BindShortcuts" => {
            let (_, shortcuts, _, about): (OwnedObjectPath, Vec<(String, About)>, String, About) =
                body.deserialize()?;
            for (id, one) in &shortcuts {
                let word = |name: &str| {
                    let value = one.get(name).and_then(|value| value.try_clone().ok());
                    value.and_then(|value| String::try_from(value).ok()).unwrap_or_default()
                };
                tell(format!("{id} {} for {}", word("preferred_trigger"), word("description")));
            }
            about
        }
        "SelectDevices" => body.deserialize::<(OwnedObjectPath, About)>()?.1,
        _ => {
            results.insert("restore_token".to_owned(), Variant::from("again").try_into()?);
            body.deserialize::<(OwnedObjectPath, String, About)>()?.2
        }
    };
    let restored = about.contains_key("restore_token");
    tell(format!("{interface} {member}{}", if restored { " restored" } else { "" }));
    let token = about.get("handle_token").and_then(|value| value.try_clone().ok());
    let token = token.and_then(|token| String::try_from(token).ok()).unwrap_or_default();
    let sender = header.sender().map_or("", |name| name.as_str()).to_owned();
    let who = sender.trim_start_matches(':').replace('.', "_");
    let request = ObjectPath::try_from(format!("{PATH}/request/{who}/{token}"))?;
    bus.reply(&header, &request).await?;
    let interface = "org.freedesktop.portal.Request";
    bus.emit_signal(Some(sender.as_str()), &request, interface, "Response", &(0u32, results)).await
}
