//! A keyboard and a mouse that the kernel takes for real, for a person inside a machine of the tests' own.

use std::path::PathBuf;
use std::time::{Duration, Instant};

use evdev::uinput::VirtualDevice;
use evdev::{
    AbsInfo, AbsoluteAxisCode, AttributeSet, EventType, InputEvent, KeyCode, RelativeAxisCode,
    UinputAbsSetup,
};
use lantern_model::{Key, KeyKind};

use crate::waiting::pause;

/// Maximum time for devices to appear.
const PATIENCE: Duration = Duration::from_secs(10);

/// A device that is plugged in; it is pulled out when this is dropped, with whatever is down on it.
#[derive(Debug)]
pub struct Plugged {
    device: VirtualDevice,
    node: PathBuf,
}

impl Plugged {
    /// A keyboard with that name.
    pub fn keyboard(name: &str) -> Plugged {
        let keys: AttributeSet<KeyCode> = (1..0x100).map(KeyCode).collect();
        let built = VirtualDevice::builder()
            .and_then(|builder| builder.name(name).with_keys(&keys)?.build());
        Plugged::settle(built.expect("the machine has uinput"))
    }

    /// A mouse with that name.
    pub fn mouse(name: &str) -> Plugged {
        let buttons: AttributeSet<KeyCode> =
            (KeyCode::BTN_LEFT.0..=KeyCode::BTN_TASK.0).map(KeyCode).collect();
        let axes: AttributeSet<RelativeAxisCode> =
            [RelativeAxisCode::REL_X, RelativeAxisCode::REL_Y, RelativeAxisCode::REL_WHEEL]
                .into_iter()
                .collect();
        let built = VirtualDevice::builder().and_then(|builder| {
            builder.name(name).with_keys(&buttons)?.with_relative_axes(&axes)?.build()
        });
        Plugged::settle(built.expect("the machine has uinput"))
    }

    /// A tablet with a pen, of 10,000 by 10,000 places, with that name.
    pub fn pen(name: &str) -> Plugged {
        let codes =
            [KeyCode::BTN_TOOL_PEN, KeyCode::BTN_TOUCH, KeyCode::BTN_STYLUS, KeyCode::BTN_STYLUS2];
        let keys: AttributeSet<KeyCode> = codes.into_iter().collect();
        let axis = |code| UinputAbsSetup::new(code, AbsInfo::new(0, 0, 10_000, 0, 0, 100));
        let built = VirtualDevice::builder().and_then(|builder| {
            builder
                .name(name)
                .with_keys(&keys)?
                .with_absolute_axis(&axis(AbsoluteAxisCode::ABS_X))?
                .with_absolute_axis(&axis(AbsoluteAxisCode::ABS_Y))?
                .with_absolute_axis(&axis(AbsoluteAxisCode::ABS_PRESSURE))?
                .build()
        });
        Plugged::settle(built.expect("the machine has uinput"))
    }

    /// The pen comes to a place.
    pub fn places(&mut self, x: i32, y: i32) {
        let axis = EventType::ABSOLUTE.0;
        let events = [
            InputEvent::new(axis, AbsoluteAxisCode::ABS_X.0, x),
            InputEvent::new(axis, AbsoluteAxisCode::ABS_Y.0, y),
        ];
        self.device.emit(&events).expect("it is plugged in");
    }

    fn settle(mut device: VirtualDevice) -> Plugged {
        let until = Instant::now() + PATIENCE;
        loop {
            let nodes = device.enumerate_dev_nodes_blocking();
            let node = nodes.ok().and_then(|mut nodes| nodes.find_map(Result::ok));
            if let Some(node) = node.filter(|node| node.exists()) {
                return Plugged { device, node };
            }
            assert!(Instant::now() < until, "the device does not appear");
            pause();
        }
    }

    /// Where the kernel shows it.
    pub fn node(&self) -> &std::path::Path {
        &self.node
    }

    /// A key or button: 0 is up, 1 down, 2 a repeat.
    pub fn key(&mut self, code: u16, value: i32) {
        let event = InputEvent::new(EventType::KEY.0, code, value);
        self.device.emit(&[event]).expect("it is plugged in");
    }

    /// Several at once, each a report of its own.
    pub fn keys(&mut self, moves: &[(u16, i32)]) {
        for (code, value) in moves {
            self.key(*code, *value);
        }
    }

    /// The mouse moves.
    pub fn moves(&mut self, x: i32, y: i32) {
        let axis = EventType::RELATIVE.0;
        let events = [
            InputEvent::new(axis, RelativeAxisCode::REL_X.0, x),
            InputEvent::new(axis, RelativeAxisCode::REL_Y.0, y),
        ];
        self.device.emit(&events).expect("it is plugged in");
    }

    /// The wheel turns, away from the person for a positive number.
    pub fn turns(&mut self, by: i32) {
        let event = InputEvent::new(EventType::RELATIVE.0, RelativeAxisCode::REL_WHEEL.0, by);
        self.device.emit(&[event]).expect("it is plugged in");
    }
}

/// A keyboard and a mouse.
#[derive(Debug)]
pub struct VirtualDevices {
    /// The keyboard.
    pub keyboard: Plugged,
    /// The mouse.
    pub mouse: Plugged,
}

impl VirtualDevices {
    /// Plugs both in, under names that begin so.
    pub fn plug_in(name: &str) -> VirtualDevices {
        let keyboard = Plugged::keyboard(&format!("{name} keyboard"));
        VirtualDevices { keyboard, mouse: Plugged::mouse(&format!("{name} mouse")) }
    }

    /// A key or button of either goes down or up.
    pub fn key(&mut self, key: Key, down: bool) {
        let code = key.kernel().expect("the kernel has it");
        let is_button = key.kind() == KeyKind::Mouse;
        if is_button { &mut self.mouse } else { &mut self.keyboard }.key(code, i32::from(down));
    }

    /// Presses keys, named and joined by `+`, and lets them go.
    pub fn tap(&mut self, combo: &str) {
        let keys: Vec<Key> = combo.split('+').map(named).collect();
        for key in &keys {
            self.key(*key, true);
        }
        for key in keys.iter().rev() {
            self.key(*key, false);
        }
    }

    /// Presses one.
    pub fn press(&mut self, name: &str) {
        self.key(named(name), true);
    }

    /// Lets it go.
    pub fn release(&mut self, name: &str) {
        self.key(named(name), false);
    }
}

/// A key by its name, of a family by its usual side.
fn named(name: &str) -> Key {
    let usual = match name {
        "ctrl" => "left-ctrl",
        "shift" => "left-shift",
        "alt" => "left-alt",
        "super" => "left-super",
        other => other,
    };
    Key::named(usual).unwrap_or_else(|| panic!("there is no key {name}"))
}
