//! The input devices of the kernel: finds, opens, reads, grabs and releases them.
//!
//! A device is grabbed only while none of its keys is down, because programs would not see the release
//! of such a key. The kernel releases all grabs when the process ends.

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::fs;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};

use evdev::{AbsoluteAxisCode, Device, EventType, InputEvent, KeyCode, RelativeAxisCode};
use lantern_model::{GrabSet, KeyKind};
use rustix::event::epoll;
use rustix::fs::inotify;

use super::{DeviceSelection, uinput_output};
use lantern_backend::BackendError;

/// Where the kernel shows them.
const FOLDER: &str = "/dev/input";
/// Number of the epoll events that report added and removed devices.
const DEVICE_CHANGES: u64 = u64::MAX;

/// Input devices that are grabbed, and events that are read besides.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct GrabRequest {
    keyboards: bool,
    pointers: bool,
    pens: bool,
    /// Pointers are read without a grab: their events reach programs directly.
    look_at_pointers: bool,
}

impl GrabRequest {
    /// What the rules in force need.
    pub(super) fn of(grabs: &GrabSet) -> GrabRequest {
        let any = |is_it: fn(KeyKind) -> bool| grabs.keys.iter().any(|key| is_it(key.key.kind()));
        let pointers = any(|kind| matches!(kind, KeyKind::Mouse | KeyKind::Wheel));
        GrabRequest {
            keyboards: grabs.whole_keyboard || grabs.keys.iter().any(|grab| !grab.key.is_pointer()),
            pointers,
            pens: any(|kind| kind == KeyKind::Pen),
            look_at_pointers: pointers
                || grabs.raw_keys
                || grabs.text_input
                || grabs.pointer_path.is_some(),
        }
    }
}

/// Something a device did.
#[derive(Debug)]
pub(super) enum EvdevEvent {
    /// A key or button: 0 is up, 1 down, 2 a repeat.
    Key { device: usize, code: u16, value: i32, taken: bool },
    /// The pointer or a wheel.
    Moved { axis: u16, by: i32, taken: bool },
    /// Anything that a pen did, which is taken.
    PenTablet(usize, InputEvent),
    /// Anything else.
    Other(InputEvent, bool),
    /// What came belongs together.
    Report,
    /// The device is gone.
    Gone(usize),
}

/// What sort of device it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum InputDeviceKind {
    /// It has keys that a person types with.
    Keyboard,
    /// It has a mouse's axes and buttons.
    Mouse,
    /// A tablet that a pen is drawn on.
    PenTablet,
}

#[derive(Debug)]
struct InputDevice {
    device: Device,
    path: PathBuf,
    name: String,
    sort: InputDeviceKind,
    taken: bool,
    watched: bool,
}

/// A device as `doctor` tells of it.
#[derive(Debug, Clone)]
pub struct DeviceSummary {
    /// Where it is.
    pub path: PathBuf,
    /// What it calls itself; nothing if we may not look.
    pub name: Option<String>,
}

/// Every input device that there is, and whether we may read it; those of no keys and buttons left out.
pub fn input_devices() -> Vec<DeviceSummary> {
    let mut seen: Vec<DeviceSummary> = nodes()
        .into_iter()
        .filter_map(|path| match Device::open(&path) {
            Ok(device) => {
                sort_of(&device)?;
                Some(DeviceSummary { path, name: Some(name_of(&device)) })
            }
            Err(_) => Some(DeviceSummary { path, name: None }),
        })
        .collect();
    seen.sort_by(|one, other| one.path.cmp(&other.path));
    seen
}

/// All of them.
#[derive(Debug)]
pub(super) struct InputDevices {
    choice: DeviceSelection,
    epoll: OwnedFd,
    inotify: OwnedFd,
    devices: BTreeMap<usize, InputDevice>,
    count: usize,
    taking: GrabRequest,
}

impl InputDevices {
    /// Opens those that are chosen.
    pub(super) fn open(choice: DeviceSelection) -> Result<InputDevices, BackendError> {
        let failed = |error: rustix::io::Errno| BackendError::Input {
            path: FOLDER.into(),
            source: error.into(),
        };
        let epoll = epoll::create(epoll::CreateFlags::CLOEXEC).map_err(failed)?;
        let flags = inotify::CreateFlags::CLOEXEC | inotify::CreateFlags::NONBLOCK;
        let inotify = inotify::init(flags).map_err(failed)?;
        // A device appears before its permissions are right.
        let wanted = inotify::WatchFlags::CREATE | inotify::WatchFlags::ATTRIB;
        inotify::add_watch(&inotify, FOLDER, wanted).map_err(failed)?;
        watch(&epoll, &inotify, DEVICE_CHANGES).map_err(failed)?;
        let (devices, taking) = (BTreeMap::new(), GrabRequest::default());
        let mut all = InputDevices { choice, epoll, inotify, devices, count: 0, taking };
        let refused = all.look_for_more();
        if let (true, Some((path, source))) = (all.devices.is_empty(), refused) {
            return Err(BackendError::Input { path, source });
        }
        Ok(all)
    }

    pub(super) fn descriptor(&self) -> BorrowedFd<'_> {
        self.epoll.as_fd()
    }

    pub(super) fn name(&self, device: usize) -> &str {
        self.devices.get(&device).map_or("", |device| &device.name)
    }

    /// Opens what is there and not open yet; the first that we may not open, if any.
    fn look_for_more(&mut self) -> Option<(PathBuf, io::Error)> {
        let mut refused = None;
        for path in nodes() {
            if self.devices.values().any(|device| device.path == path) {
                continue;
            }
            match Device::open(&path) {
                Ok(device) => self.add(device, path),
                Err(error) if error.kind() == io::ErrorKind::PermissionDenied => {
                    refused.get_or_insert((path, error));
                }
                // It went away again.
                Err(_) => {}
            }
        }
        refused
    }

    fn add(&mut self, device: Device, path: PathBuf) {
        let name = name_of(&device);
        let Some(sort) = sort_of(&device).filter(|_| self.is_chosen(&name)) else { return };
        if device.set_nonblocking(true).is_err() {
            return;
        }
        self.count += 1;
        let device = InputDevice { device, path, name, sort, taken: false, watched: false };
        self.devices.insert(self.count, device);
        let taking = self.taking;
        self.settle(self.count, taking);
    }

    fn is_chosen(&self, name: &str) -> bool {
        let lower = name.to_lowercase();
        let has = |part: &String| lower.contains(&part.to_lowercase());
        !uinput_output::is_own(name)
            && (self.choice.only.is_empty() || self.choice.only.iter().any(has))
            && !self.choice.without.iter().any(has)
    }

    /// Devices that are released if this is what is grabbed.
    pub(super) fn losing(&self, taking: GrabRequest) -> Vec<usize> {
        let loses = |device: &InputDevice| device.taken && !device.is_wanted(taking);
        self.devices.iter().filter(|(_, device)| loses(device)).map(|(number, _)| *number).collect()
    }

    /// Replaces what is grabbed.
    pub(super) fn take(&mut self, taking: GrabRequest) {
        self.taking = taking;
        let numbers: Vec<usize> = self.devices.keys().copied().collect();
        for number in numbers {
            self.settle(number, taking);
        }
    }

    /// Takes what could not be taken before, as a key was down.
    pub(super) fn take_up(&mut self) {
        let taking = self.taking;
        let waits = |device: &&InputDevice| device.is_wanted(taking) && !device.taken;
        if self.devices.values().any(|device| waits(&device)) {
            self.take(taking);
        }
    }

    fn settle(&mut self, number: usize, taking: GrabRequest) {
        let Some(device) = self.devices.get_mut(&number) else { return };
        device.settle(taking);
        let wanted = match device.sort {
            InputDeviceKind::Keyboard => true,
            InputDeviceKind::Mouse => taking.look_at_pointers,
            InputDeviceKind::PenTablet => device.taken,
        };
        if wanted != device.watched {
            device.watched = wanted;
            // A device that is gone tells so when it is read.
            let _ = match wanted {
                true => watch(&self.epoll, &device.device, number as u64),
                false => epoll::delete(&self.epoll, &device.device),
            };
        }
    }

    /// Pens, each with whether it is taken.
    pub(super) fn pens(&self) -> impl Iterator<Item = (usize, &Device, bool)> {
        let pens =
            self.devices.iter().filter(|(_, device)| device.sort == InputDeviceKind::PenTablet);
        pens.map(|(number, device)| (*number, &device.device, device.taken))
    }

    /// What happened by now.
    pub(super) fn read(&mut self) -> Vec<EvdevEvent> {
        let mut ready = Vec::with_capacity(16);
        let none = rustix::event::Timespec { tv_sec: 0, tv_nsec: 0 };
        let buffer = rustix::buffer::spare_capacity(&mut ready);
        if epoll::wait(&self.epoll, buffer, Some(&none)).is_err() {
            return Vec::new();
        }
        let mut happened = Vec::new();
        for event in ready {
            let number = event.data.u64();
            if number == DEVICE_CHANGES {
                // What it says is seen by looking.
                while rustix::io::read(&self.inotify, &mut [0; 4096]).is_ok_and(|read| read > 0) {}
                self.look_for_more();
            } else {
                self.read_device(number as usize, &mut happened);
            }
        }
        happened
    }

    fn read_device(&mut self, number: usize, happened: &mut Vec<EvdevEvent>) {
        let Some(device) = self.devices.get_mut(&number) else { return };
        let (taken, is_pen) = (device.taken, device.sort == InputDeviceKind::PenTablet);
        let gone = match device.device.fetch_events() {
            Ok(events) => {
                happened.extend(events.map(|event| match is_pen {
                    true => EvdevEvent::PenTablet(number, event),
                    false => sorted(number, event, taken),
                }));
                false
            }
            Err(error) => error.kind() != io::ErrorKind::WouldBlock,
        };
        if gone {
            // What was down on it is up: its own last word may be lost.
            happened.push(EvdevEvent::Gone(number));
            let _ = epoll::delete(&self.epoll, &device.device);
            self.devices.remove(&number);
        }
    }
}

impl InputDevice {
    fn is_wanted(&self, taking: GrabRequest) -> bool {
        match self.sort {
            InputDeviceKind::Keyboard => taking.keyboards,
            InputDeviceKind::Mouse => taking.pointers,
            InputDeviceKind::PenTablet => taking.pens,
        }
    }

    /// Grabs or releases it, if that is possible now.
    fn settle(&mut self, taking: GrabRequest) {
        match (self.taken, self.is_wanted(taking)) {
            (true, false) => {
                self.taken = false;
                // Of a device that is gone nothing is left to give back.
                let _ = self.device.ungrab();
            }
            (false, true) if !self.is_pressed() && self.device.grab().is_ok() => {
                self.taken = true;
                if self.is_pressed() {
                    // It went down between the look and the taking.
                    self.taken = false;
                    let _ = self.device.ungrab();
                }
            }
            _ => {}
        }
    }

    fn is_pressed(&self) -> bool {
        self.device.get_key_state().is_ok_and(|state| state.iter().next().is_some())
    }
}

fn sorted(device: usize, event: InputEvent, taken: bool) -> EvdevEvent {
    let (code, value) = (event.code(), event.value());
    match event.event_type() {
        EventType::KEY => EvdevEvent::Key { device, code, value, taken },
        EventType::RELATIVE => EvdevEvent::Moved { axis: code, by: value, taken },
        EventType::SYNCHRONIZATION => EvdevEvent::Report,
        _ => EvdevEvent::Other(event, taken),
    }
}

fn watch(epoll: &OwnedFd, fd: impl AsFd, number: u64) -> rustix::io::Result<()> {
    epoll::add(epoll, fd, epoll::EventData::new_u64(number), epoll::EventFlags::IN)
}

/// The nodes of devices, in the order of their numbers.
fn nodes() -> Vec<PathBuf> {
    let number = |path: &Path| {
        let name = path.file_name().and_then(OsStr::to_str)?;
        name.strip_prefix("event")?.parse::<u32>().ok()
    };
    let entries = fs::read_dir(FOLDER).into_iter().flatten().flatten();
    let mut nodes: Vec<(u32, PathBuf)> =
        entries.map(|entry| entry.path()).filter_map(|path| Some((number(&path)?, path))).collect();
    nodes.sort();
    nodes.into_iter().map(|(_, path)| path).collect()
}

fn name_of(device: &Device) -> String {
    device.name().unwrap_or("unnamed").to_owned()
}

/// What sort it is; nothing if it has no keys, or is one that cannot be passed on, as a touchpad.
fn sort_of(device: &Device) -> Option<InputDeviceKind> {
    let keys = device.supported_keys()?;
    let is_typed = |key: KeyCode| (1..0x100).contains(&key.code()) || key.code() >= 0x160;
    let power = [KeyCode::KEY_POWER, KeyCode::KEY_SLEEP, KeyCode::KEY_WAKEUP];
    let types = keys.iter().any(|key| is_typed(key) && !power.contains(&key));
    let moves =
        device.supported_relative_axes().is_some_and(|axes| axes.contains(RelativeAxisCode::REL_X));
    let touches =
        device.supported_absolute_axes().is_some_and(|axes| axes.contains(AbsoluteAxisCode::ABS_X));
    match (types, moves && keys.contains(KeyCode::BTN_LEFT)) {
        _ if touches => keys.contains(KeyCode::BTN_TOOL_PEN).then_some(InputDeviceKind::PenTablet),
        (_, true) => Some(InputDeviceKind::Mouse),
        (true, false) => Some(InputDeviceKind::Keyboard),
        (false, false) => None,
    }
}
