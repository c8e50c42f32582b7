//! A display with input devices of the test. The X server's test driver reads what each device does
//! from a socket, so that pens, pads and second keyboards are real devices for programs.

use std::io::{Read, Write};
use std::os::unix::net::UnixStream;
use std::path::Path;
use std::process::Command;

use lantern_model::Key;

use crate::Display;

/// A sort of device.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PlayedDeviceKind {
    /// Keys.
    Keyboard,
    /// A mouse, or the buttons of a tablet.
    Mouse,
    /// A pen, or its eraser end: it knows places, pressure and whether it is near.
    Pen,
}

/// A device that the test plays.
#[derive(Debug)]
pub struct PlayedDevice {
    socket: UnixStream,
}

/// Numbers of messages, and the sizes that the driver wants, from its protocol's description.
mod message {
    pub(super) const CLIENT_VERSION: u32 = 0;
    pub(super) const PROXIMITY: u32 = 3;
    pub(super) const BUTTON: u32 = 4;
    pub(super) const KEY: u32 = 5;
    /// A flag, eight bytes of mask, and twice sixty-four numbers of eight bytes.
    pub(super) const VALUES: usize = 1040;
}

impl Display {
    /// Starts a server with these devices, each by its name. Nothing else is plugged in.
    ///
    /// # Panics
    /// When the server is not installed or does not start: `scripts/test` installs what is needed.
    pub fn start_with_devices(
        devices: &[(&str, PlayedDeviceKind)],
    ) -> (Display, Vec<PlayedDevice>) {
        let folder = tempfile::tempdir().expect("a folder can be made");
        let config = folder.path().join("devices.conf");
        let socket = |index: usize| folder.path().join(format!("device{index}"));
        let sections: String = devices
            .iter()
            .enumerate()
            .map(|(index, (name, sort))| section(name, *sort, &socket(index)))
            .collect();
        let listed: String =
            devices.iter().map(|(name, _)| format!("  InputDevice \"{name}\"\n")).collect();
        let text = format!(
            "Section \"ServerFlags\"\n  Option \"AutoAddDevices\" \"false\"\n\
             \x20 Option \"DontVTSwitch\" \"true\"\nEndSection\n\
             Section \"Device\"\n  Identifier \"card\"\n  Driver \"dummy\"\nEndSection\n\
             Section \"Screen\"\n  Identifier \"screen\"\n  Device \"card\"\nEndSection\n{sections}\
             Section \"ServerLayout\"\n  Identifier \"all\"\n  Screen \"screen\"\n{listed}EndSection\n"
        );
        std::fs::write(&config, text).expect("the file can be written");
        let mut command = Command::new("/usr/lib/xorg/Xorg");
        command.arg("-config").arg(&config).arg("-logfile").arg(folder.path().join("server.log"));
        // No terminal of the machine is opened.
        command.args(["-novtswitch", "-sharevts", "-nolisten", "tcp", "-noreset", "vt7"]);
        let display = Display::start_server(command, folder, "us");
        let devices = (0..devices.len()).map(|index| PlayedDevice::plug(&display, index)).collect();
        (display, devices)
    }
}

fn section(name: &str, sort: PlayedDeviceKind, socket: &Path) -> String {
    let options = match sort {
        PlayedDeviceKind::Keyboard => "  Option \"DeviceType\" \"Keyboard\"\n",
        PlayedDeviceKind::Mouse => {
            "  Option \"DeviceType\" \"Pointer\"\n  Option \"PointerButtonCount\" \"9\"\n"
        }
        PlayedDeviceKind::Pen => {
            "  Option \"DeviceType\" \"PointerAbsoluteProximity\"\n\
             \x20 Option \"PointerHasPressure\" \"true\"\n  Option \"PointerButtonCount\" \"9\"\n"
        }
    };
    format!(
        "Section \"InputDevice\"\n  Identifier \"{name}\"\n  Driver \"inputtest\"\n\
         \x20 Option \"SocketPath\" \"{}\"\n{options}EndSection\n",
        socket.display()
    )
}

impl PlayedDevice {
    fn plug(display: &Display, index: usize) -> PlayedDevice {
        let path = display.folder().join(format!("device{index}"));
        let mut socket = None;
        display.wait_until("the device", |_| {
            socket = UnixStream::connect(&path).ok();
            socket.is_some()
        });
        let mut device = PlayedDevice { socket: socket.expect("it was waited for") };
        // Version 1.1 of its protocol, in two halves of a word.
        device.send(message::CLIENT_VERSION, &[1, 0, 1, 0], 12);
        let mut answer = [0; 12];
        device.socket.read_exact(&mut answer).expect("the driver answers");
        device
    }

    /// A message with its first fields; the rest of it is zero.
    fn send(&mut self, kind: u32, fields: &[u8], length: usize) {
        let mut message = Vec::with_capacity(length);
        let size = u32::try_from(length).expect("messages are short");
        message.extend_from_slice(&size.to_ne_bytes());
        message.extend_from_slice(&kind.to_ne_bytes());
        message.extend_from_slice(fields);
        message.resize(length, 0);
        self.socket.write_all(&message).expect("the driver listens");
    }

    /// Brings a pen near, or takes it away.
    pub fn come_near(&mut self, near: bool) {
        self.send(message::PROXIMITY, &u32::from(near).to_ne_bytes(), 16 + message::VALUES);
    }

    /// Presses or lets go a button.
    pub fn button(&mut self, button: i32, down: bool) {
        let fields = [0i32.to_ne_bytes(), button.to_ne_bytes(), i32::from(down).to_ne_bytes()];
        self.send(message::BUTTON, &fields.concat(), 24 + message::VALUES);
    }

    /// Presses or lets go a key of the board by its name.
    ///
    /// # Panics
    /// When there is no such key.
    pub fn key(&mut self, name: &str, down: bool) {
        let code = Key::named(name).and_then(|key| key.kernel()).expect("a key of the keyboard");
        let fields = [i32::from(code + 8).to_ne_bytes(), i32::from(down).to_ne_bytes()];
        self.send(message::KEY, &fields.concat(), 16);
    }
}
