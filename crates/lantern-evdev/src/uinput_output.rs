//! The devices of our own, through which everything goes to the programs: a keyboard, a mouse, and where the
//! screen's size is known a pointer that jumps.

use std::collections::{BTreeMap, btree_map};
use std::time::Duration;

use evdev::uinput::VirtualDevice;
use evdev::{
    AbsInfo, AbsoluteAxisCode, AttributeSet, Device, EventType, InputEvent, KeyCode, MiscCode,
    RelativeAxisCode, UinputAbsSetup,
};
use lantern_model::{CommandError, Key};

use lantern_backend::{BackendError, InputSink};

/// The rule by which an ordinary user of the group `input` may make devices.
pub const UDEV_RULE: &str =
    "KERNEL==\"uinput\", GROUP=\"input\", MODE=\"0660\", OPTIONS+=\"static_node=uinput\"";

const PATH: &str = "/dev/uinput";
const KEYBOARD: &str = "Cold Lantern keyboard";
const POINTER: &str = "Cold Lantern pointer";
const PLACE: &str = "Cold Lantern place";
const PEN: &str = "Cold Lantern pen";
/// How finely the pointer that jumps divides the screen.
const FINE: i32 = 65_535;
/// Time that display servers take to see a new device. They send no event when they have.
const SEEN: Duration = Duration::from_millis(200);
/// A key that means nothing in any layout.
const MEANINGLESS: u16 = KeyCode::KEY_UNKNOWN.0;
/// Buttons of mice, pens and pads have the codes from here to `KEY_OK`.
const FIRST_BUTTON: u16 = 0x100;
/// What a wheel tells for one turn, in its fine figures.
const TURN: i32 = 120;

/// Whether we may make devices.
///
/// # Errors
/// Why not.
pub fn output_exists() -> std::io::Result<()> {
    std::fs::OpenOptions::new().write(true).open(PATH).map(drop)
}

/// Whether a device is one of ours.
pub(super) fn is_own(name: &str) -> bool {
    [KEYBOARD, POINTER, PLACE, PEN].contains(&name)
}

/// The devices, and what goes out with the next report.
pub(super) struct UinputOutput {
    keyboard: VirtualDevice,
    pointer: VirtualDevice,
    place: Option<(VirtualDevice, (i32, i32))>,
    /// Copies of the tablets of pens that are taken, by their devices.
    pens: BTreeMap<usize, PenTablet>,
    of_keyboard: Vec<InputEvent>,
    of_pointer: Vec<InputEvent>,
    of_place: Vec<InputEvent>,
}

impl std::fmt::Debug for UinputOutput {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Outlet").field("jumps", &self.place.is_some()).finish_non_exhaustive()
    }
}

impl UinputOutput {
    /// Makes the devices.
    pub(super) fn open(screen: Option<(i32, i32)>) -> Result<UinputOutput, BackendError> {
        let failed = |source| BackendError::Input { path: PATH.into(), source };
        let output = UinputOutput {
            keyboard: keyboard().map_err(failed)?,
            pointer: pointer().map_err(failed)?,
            place: screen
                .map(|size| place().map(|device| (device, size)))
                .transpose()
                .map_err(failed)?,
            pens: BTreeMap::new(),
            of_keyboard: Vec::new(),
            of_pointer: Vec::new(),
            of_place: Vec::new(),
        };
        std::thread::sleep(SEEN);
        Ok(output)
    }

    /// Moves the pointer or turns a wheel by this amount.
    pub(super) fn motion(&mut self, axis: u16, by: i32) {
        self.of_pointer.push(InputEvent::new(EventType::RELATIVE.0, axis, by));
    }

    /// The turn at hand is not for the programs, nor are its fine figures.
    pub(super) fn swallow_fine_turn(&mut self) {
        let fine = [RelativeAxisCode::REL_WHEEL_HI_RES.0, RelativeAxisCode::REL_HWHEEL_HI_RES.0];
        self.of_pointer.retain(|event| {
            event.event_type() != EventType::RELATIVE || !fine.contains(&event.code())
        });
    }

    /// Makes a copy of the tablet of a pen that is grabbed.
    pub(super) fn open_pen(&mut self, device: usize, tablet: &Device) -> Result<(), BackendError> {
        if let btree_map::Entry::Vacant(free) = self.pens.entry(device) {
            let failed = |source| BackendError::Input { path: PATH.into(), source };
            free.insert(PenTablet::copy(tablet).map_err(failed)?);
        }
        Ok(())
    }

    /// It is given back, or gone.
    pub(super) fn close_pen(&mut self, device: usize) {
        self.pens.remove(&device);
    }

    /// Forwards an event of a pen.
    pub(super) fn pen(&mut self, device: usize, event: InputEvent) {
        if let Some(pen) = self.pens.get_mut(&device) {
            pen.events.push(event);
        }
    }

    /// Sends what belongs together of a pen.
    pub(super) fn flush_pen(&mut self, device: usize) -> Result<(), BackendError> {
        let Some(pen) = self.pens.get_mut(&device).filter(|pen| !pen.events.is_empty()) else {
            return Ok(());
        };
        pen.copy.emit(&pen.events).map_err(|error| BackendError::Lost(Box::new(error)))?;
        pen.events.clear();
        Ok(())
    }

    /// A place along an axis of a tablet as one of the screen, so that what is drawn keeps its form: the axis, 0
    /// across and 1 down, and the place.
    pub(super) fn scaled(
        &self,
        device: usize,
        code: u16,
        value: i32,
        screen: Option<(i32, i32)>,
    ) -> Option<(u16, f32)> {
        let pen = self.pens.get(&device)?;
        let (width, height) = screen.unwrap_or((1920, 1080));
        let (axis, (least, most), size) = match AbsoluteAxisCode(code) {
            AbsoluteAxisCode::ABS_X => (0, pen.across, width),
            AbsoluteAxisCode::ABS_Y => (1, pen.down, height),
            _ => return None,
        };
        let share = (value - least) as f32 / (most - least).max(1) as f32;
        Some((axis, share * size as f32))
    }

    /// Forwards any other event of a grabbed device unchanged.
    pub(super) fn pass(&mut self, event: InputEvent) {
        if event.event_type() == EventType::MISC && event.code() == MiscCode::MSC_SCAN.0 {
            self.of_keyboard.push(event);
        }
    }
}

/// Keys and movements of batches.
impl InputSink for UinputOutput {
    fn key(&mut self, code: u16, value: i32) {
        let event = InputEvent::new(EventType::KEY.0, code, value);
        let is_button = (FIRST_BUTTON..KeyCode::KEY_OK.0).contains(&code);
        if is_button { &mut self.of_pointer } else { &mut self.of_keyboard }.push(event);
    }

    fn turn(&mut self, wheel: Key) {
        let (axis, fine, by) = match wheel.name() {
            "wheel-up" => (RelativeAxisCode::REL_WHEEL, RelativeAxisCode::REL_WHEEL_HI_RES, 1),
            "wheel-down" => (RelativeAxisCode::REL_WHEEL, RelativeAxisCode::REL_WHEEL_HI_RES, -1),
            "wheel-left" => (RelativeAxisCode::REL_HWHEEL, RelativeAxisCode::REL_HWHEEL_HI_RES, -1),
            _ => (RelativeAxisCode::REL_HWHEEL, RelativeAxisCode::REL_HWHEEL_HI_RES, 1),
        };
        self.motion(fine.0, by * TURN);
        self.motion(axis.0, by);
    }

    fn move_by(&mut self, x: i32, y: i32) {
        self.motion(0, x);
        self.motion(1, y);
    }

    fn move_to(&mut self, x: i32, y: i32) {
        let Some((_, (width, height))) = &self.place else { return };
        // The middle of the pixel, so that no rounding ends beside it.
        let at = |pixel: i32, size: i32| {
            let size = i64::from(size.max(1));
            let pixel = i64::from(pixel).clamp(0, size - 1);
            ((2 * pixel + 1) * i64::from(FINE) / (2 * size)) as i32
        };
        let absolute = EventType::ABSOLUTE.0;
        self.of_place.extend([
            InputEvent::new(absolute, AbsoluteAxisCode::ABS_X.0, at(x, *width)),
            InputEvent::new(absolute, AbsoluteAxisCode::ABS_Y.0, at(y, *height)),
        ]);
    }

    fn check_move_to(&self) -> Result<(), CommandError> {
        if self.place.is_some() {
            return Ok(());
        }
        Err(CommandError::unavailable(
            "the size of the screen is not known; `--screen 1920x1080` gives it",
        ))
    }

    fn flush(&mut self) -> Result<(), BackendError> {
        let lost = |error| BackendError::Lost(Box::new(error));
        // A scan code without its key, which was kept back, says nothing.
        if self.of_keyboard.iter().all(|event| event.event_type() == EventType::MISC) {
            self.of_keyboard.clear();
        }
        for (device, events) in [
            (Some(&mut self.keyboard), &mut self.of_keyboard),
            (Some(&mut self.pointer), &mut self.of_pointer),
            (self.place.as_mut().map(|(device, _)| device), &mut self.of_place),
        ] {
            let Some(device) = device.filter(|_| !events.is_empty()) else { continue };
            device.emit(events).map_err(lost)?;
            events.clear();
        }
        Ok(())
    }

    fn tap_meaningless(&mut self) {
        self.key(MEANINGLESS, 1);
        self.key(MEANINGLESS, 0);
    }
}

/// The copy of a pen's tablet.
struct PenTablet {
    copy: VirtualDevice,
    events: Vec<InputEvent>,
    /// The ends of its axes.
    across: (i32, i32),
    down: (i32, i32),
}

impl PenTablet {
    fn copy(tablet: &Device) -> std::io::Result<PenTablet> {
        let mut builder =
            VirtualDevice::builder()?.name(PEN).with_properties(tablet.properties())?;
        if let Some(keys) = tablet.supported_keys() {
            builder = builder.with_keys(keys)?;
        }
        if let Some(misc) = tablet.misc_properties() {
            builder = builder.with_msc(misc)?;
        }
        let (mut across, mut down) = ((0, 1), (0, 1));
        for (code, info) in tablet.get_absinfo()? {
            match code {
                AbsoluteAxisCode::ABS_X => across = (info.minimum(), info.maximum()),
                AbsoluteAxisCode::ABS_Y => down = (info.minimum(), info.maximum()),
                _ => {}
            }
            builder = builder.with_absolute_axis(&UinputAbsSetup::new(code, info))?;
        }
        Ok(PenTablet { copy: builder.build()?, events: Vec::new(), across, down })
    }
}

/// The key that a turn of a wheel is, by its axis and way.
pub(super) fn wheel_key(axis: u16, by: i32) -> Option<Key> {
    let name = match (RelativeAxisCode(axis), by.signum()) {
        (RelativeAxisCode::REL_WHEEL, 1) => "wheel-up",
        (RelativeAxisCode::REL_WHEEL, -1) => "wheel-down",
        (RelativeAxisCode::REL_HWHEEL, 1) => "wheel-right",
        (RelativeAxisCode::REL_HWHEEL, -1) => "wheel-left",
        _ => return None,
    };
    Key::named(name)
}

fn keyboard() -> std::io::Result<VirtualDevice> {
    let codes = (1..FIRST_BUTTON).chain(KeyCode::KEY_OK.0..0x2c0);
    let keys: AttributeSet<KeyCode> = codes.map(KeyCode).collect();
    let scans: AttributeSet<MiscCode> = [MiscCode::MSC_SCAN].into_iter().collect();
    VirtualDevice::builder()?.name(KEYBOARD).with_keys(&keys)?.with_msc(&scans)?.build()
}

fn buttons() -> AttributeSet<KeyCode> {
    (KeyCode::BTN_LEFT.0..=KeyCode::BTN_TASK.0).map(KeyCode).collect()
}

fn pointer() -> std::io::Result<VirtualDevice> {
    let axes: AttributeSet<RelativeAxisCode> = [
        RelativeAxisCode::REL_X,
        RelativeAxisCode::REL_Y,
        RelativeAxisCode::REL_WHEEL,
        RelativeAxisCode::REL_HWHEEL,
        RelativeAxisCode::REL_WHEEL_HI_RES,
        RelativeAxisCode::REL_HWHEEL_HI_RES,
    ]
    .into_iter()
    .collect();
    VirtualDevice::builder()?
        .name(POINTER)
        .with_keys(&buttons())?
        .with_relative_axes(&axes)?
        .build()
}

/// A pointer as virtual machines have it: places instead of ways.
fn place() -> std::io::Result<VirtualDevice> {
    let axis = |code| UinputAbsSetup::new(code, AbsInfo::new(0, 0, FINE, 0, 0, 0));
    VirtualDevice::builder()?
        .name(PLACE)
        .with_keys(&buttons())?
        .with_absolute_axis(&axis(AbsoluteAxisCode::ABS_X))?
        .with_absolute_axis(&axis(AbsoluteAxisCode::ABS_Y))?
        .build()
}
