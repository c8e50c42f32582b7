//! What else a desktop session has: a message bus, notices, accessibility, sound. Each is the real
//! program, started for one display and ended with it.

use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};

use crate::Display;
use crate::waiting::{pause, wait_until};

impl Display {
    /// Starts a session bus; programs started from now on are on it.
    ///
    /// # Panics
    /// When it is not installed.
    pub fn start_bus(&mut self) {
        self.start_bus_with("--session");
    }

    /// Starts a session bus that activates no service.
    ///
    /// # Panics
    /// When it is not installed.
    pub fn start_bare_bus(&mut self) {
        let file = self.folder().join("bus.conf");
        let text = format!(
            "<!DOCTYPE busconfig PUBLIC \"-//freedesktop//DTD D-Bus Bus Configuration 1.0//EN\" \
             \"http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd\"><busconfig>\
             <type>session</type><listen>unix:path={}</listen><policy context=\"default\">\
             <allow send_destination=\"*\" eavesdrop=\"true\"/><allow eavesdrop=\"true\"/>\
             <allow own=\"*\"/></policy></busconfig>",
            self.folder().join("bus").display()
        );
        std::fs::write(&file, text).expect("the file can be written");
        self.start_bus_with(&format!("--config-file={}", file.display()));
    }

    fn start_bus_with(&mut self, how: &str) {
        let mut bus = self
            .command("dbus-daemon")
            .args([how, "--nofork", "--print-address"])
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("dbus is installed");
        let mut address = String::new();
        let mut said = BufReader::new(bus.stdout.take().expect("it is a pipe"));
        said.read_line(&mut address).expect("the bus says its address");
        self.set_variable("DBUS_SESSION_BUS_ADDRESS", address.trim());
        self.keep(bus);
    }

    /// Starts a notification daemon that keeps what it showed.
    ///
    /// # Panics
    /// When it is not installed or does not come up.
    pub fn start_notices(&mut self) {
        let daemon = self.silent("dunst").spawn().expect("dunst is installed");
        self.keep(daemon);
        self.wait_for_name("org.freedesktop.Notifications");
    }

    /// Texts of notices shown so far, as the notification daemon keeps them, the newest first.
    ///
    /// # Panics
    /// When the daemon does not answer.
    pub fn notices(&self) -> String {
        self.ask("dunstctl", &["close-all"]);
        self.ask("dunstctl", &["history"])
    }

    /// Starts an accessibility bus.
    ///
    /// # Panics
    /// When it is not installed or does not come up.
    pub fn start_accessibility(&mut self) {
        let launcher = self
            .silent("/usr/libexec/at-spi-bus-launcher")
            .arg("--launch-immediately")
            .spawn()
            .expect("at-spi2-core is installed");
        self.keep(launcher);
        self.wait_for_name("org.a11y.Bus");
    }

    /// Starts a sound server with one output of no device.
    ///
    /// # Panics
    /// When it is not installed or does not come up.
    pub fn start_sound(&mut self) {
        let script = self.folder().join("sound.pa");
        let lines = "load-module module-native-protocol-unix\n\
                     load-module module-null-sink sink_name=bench rate=48000 channels=2\n\
                     set-default-sink bench\n";
        std::fs::write(&script, lines).expect("the file can be written");
        let server = self
            .silent("pulseaudio")
            .args(["-n", "--exit-idle-time=-1", "--daemonize=no", "--use-pid-file=no", "-F"])
            .arg(&script)
            .spawn()
            .expect("pulseaudio is installed");
        self.keep(server);
        self.wait_until("the sound server", |display| {
            let asked = display.silent("pactl").args(["get-sink-volume", "bench"]).status();
            asked.expect("pactl is installed").success()
        });
    }

    /// What a command that asks the session prints.
    ///
    /// # Panics
    /// When it fails.
    pub fn ask(&self, program: &str, words: &[&str]) -> String {
        let output = self.command(program).args(words).output().expect("the program starts");
        let said = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.success(), "{program} {words:?}: {said}");
        String::from_utf8_lossy(&output.stdout).into_owned()
    }

    pub(crate) fn silent(&self, program: &str) -> Command {
        let mut command = self.command(program);
        command.stdout(Stdio::null()).stderr(Stdio::null());
        command
    }

    pub(crate) fn wait_for_name(&self, name: &str) {
        self.wait_until(name, |display| {
            let asked = display
                .silent("gdbus")
                .args(["wait", "--session", "--timeout", "5", name])
                .status();
            asked.expect("gdbus is installed").success()
        });
    }

    /// Looks again and again, a little apart, for what gives no sign of its own.
    ///
    /// # Panics
    /// When it does not come in time.
    pub fn wait_until(&self, what: &str, mut is_there: impl FnMut(&Display) -> bool) {
        wait_until(what, || is_there(self));
    }
}

/// Ends a program as a session's end does, so that it ends those it started; then by force.
pub(crate) fn end(child: &mut Child) {
    // The number of one that was waited for may be another's by now.
    if !matches!(child.try_wait(), Ok(None)) {
        return;
    }
    let _ = kill_process(Pid::from_child(child), Signal::TERM);
    let end = Instant::now() + Duration::from_secs(2);
    while matches!(child.try_wait(), Ok(None)) {
        if Instant::now() > end {
            let _ = child.kill();
            let _ = child.wait();
            return;
        }
        pause();
    }
}
