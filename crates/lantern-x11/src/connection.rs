//! The connection to the X server: what it must have, and who is who among its devices.

use std::collections::{BTreeMap, BTreeSet};
use std::env;

use lantern_model::Rect;
use x11rb::connection::{Connection, RequestConnection};
use x11rb::errors::ConnectionError;
use x11rb::protocol::xinput::{self, ConnectionExt as _, DeviceType};
use x11rb::protocol::xkb::{self, ConnectionExt as _};
use x11rb::protocol::xproto::{self, ConnectionExt as _, Window};
use x11rb::protocol::xtest;

use super::server::{self, ServerConnection};
use lantern_backend::BackendError;

x11rb::atom_manager! {
    /// Names the server knows by number.
    pub(super) Atoms: AtomsCookie {
        _NET_ACTIVE_WINDOW,
        _NET_CLIENT_LIST,
        _NET_CLIENT_LIST_STACKING,
        _NET_CLOSE_WINDOW,
        _NET_SUPPORTING_WM_CHECK,
        CLIPBOARD,
        TARGETS,
        MULTIPLE,
        TIMESTAMP,
        SAVE_TARGETS,
        DELETE,
        INCR,
        TEXT,
        ATOM_PAIR,
        COLD_LANTERN_DATA,
        COLD_LANTERN_TIME,
        COLD_LANTERN_WAKE,
        TEXT_UTF8: b"text/plain;charset=utf-8",
        _NET_WM_PID,
        XIM_SERVERS,
        _NET_WM_NAME,
        _NET_WM_PING,
        _NET_WM_WINDOW_TYPE,
        _NET_WM_WINDOW_TYPE_DIALOG,
        _NET_WM_WINDOW_TYPE_NOTIFICATION,
        WM_DELETE_WINDOW,
        _GTK_APPLICATION_ID,
        _XKB_RULES_NAMES,
        WM_PROTOCOLS,
        UTF8_STRING,
    }
}

/// The devices that matter.
#[derive(Debug, Clone, Default)]
pub(super) struct DeviceIds {
    /// The master keyboard, on which keys are grabbed.
    pub master_keyboard: u16,
    /// The master pointer, on which buttons are grabbed.
    pub master_pointer: u16,
    /// Keyboards under the person's hands: every slave that is not XTEST's.
    pub keyboards: Vec<u8>,
    /// Pointers under the person's hands.
    pub pointers: Vec<u8>,
    /// XTEST's own, by which injected input is known.
    pub injected: Vec<u16>,
    /// Pens, known by their pressure.
    pub pens: BTreeSet<u16>,
    /// Those of them that are erasers.
    pub erasers: BTreeSet<u16>,
    /// The name of each.
    pub names: BTreeMap<u16, String>,
    /// From where to where those go that tell places, not steps: across and down.
    pub ranges: BTreeMap<u16, [AxisRange; 2]>,
}

/// From where to where an axis goes.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct AxisRange {
    from: f64,
    to: f64,
}

impl AxisRange {
    /// The pixel of so many that a place on the axis stands for; without ends, it is the pixel.
    pub(super) fn place(self, value: f64, pixels: i32) -> f64 {
        let length = self.to - self.from;
        if length <= 0.0 { value } else { (value - self.from) / length * f64::from(pixels) }
    }
}

fn ranges_of(info: &xinput::XIDeviceInfo) -> Option<[AxisRange; 2]> {
    let axis = |number: u16| {
        info.classes.iter().find_map(|class| match &class.data {
            xinput::DeviceClassData::Valuator(axis)
                if axis.number == number && axis.mode == xinput::ValuatorMode::ABSOLUTE =>
            {
                Some(AxisRange { from: axis.min.integral.into(), to: axis.max.integral.into() })
            }
            _ => None,
        })
    };
    Some([axis(0)?, axis(1)?])
}

/// A connection with what goes with it.
#[derive(Debug)]
pub(super) struct XConnection {
    pub conn: ServerConnection,
    pub root: Window,
    /// The numbers of the extensions, by which their requests and events are known.
    pub xtest: u8,
    pub xinput: u8,
    /// The number of the event that tells of a device's new button map.
    pub device_mapping_notify: u8,
    pub atoms: Atoms,
    pub devices: DeviceIds,
}

impl XConnection {
    /// Connects to a display, or to the one in DISPLAY.
    pub(super) fn open(display: Option<&str>) -> Result<XConnection, BackendError> {
        let display = display.map(str::to_owned);
        let display = display.unwrap_or_else(|| env::var("DISPLAY").unwrap_or_default());
        if display.is_empty() {
            return Err(BackendError::NoDisplay);
        }
        let (conn, screen) = server::connect(&display).map_err(|source| {
            BackendError::Unreachable { display: display.clone(), source: Box::new(source) }
        })?;
        let ExtensionOpcodes { xtest, xinput, xinput_events } = find_extensions(&conn, &display)?;
        let device_mapping_notify = xinput_events + xinput::DEVICE_MAPPING_NOTIFY_EVENT;
        // With XKB in use and nothing selected, the server spares us its keyboard notices.
        let xkb = conn.xkb_use_extension(1, 0)?;
        let atoms = Atoms::new(&conn)?;
        let version = conn.xinput_xi_query_version(2, 2)?;
        let missing =
            |extension| BackendError::MissingExtension { display: display.clone(), extension };
        if !xkb.reply()?.supported {
            return Err(missing("XKEYBOARD"));
        }
        if version.reply()?.major_version < 2 {
            return Err(missing("XInput 2"));
        }
        let devices = query_devices(&conn)?;
        let atoms = atoms.reply()?;
        let root = conn.setup().roots[screen].root;
        Ok(XConnection { conn, root, xtest, xinput, device_mapping_notify, atoms, devices })
    }

    /// Puts in a press or release. The library would ask for memory for it, which is felt where a key
    /// waits for its answer; no other request is made for each.
    pub(super) fn fake(&self, kind: u8, detail: u8) -> Result<(), ConnectionError> {
        const BYTES: usize = 36;
        let [low, high] = (BYTES as u16 / 4).to_ne_bytes();
        let mut request = [0; BYTES];
        // At once, on no particular screen, device or place: the rest is 0.
        let begin = [self.xtest, xtest::FAKE_INPUT_REQUEST, low, high, kind, detail];
        request[..begin.len()].copy_from_slice(&begin);
        self.conn.send_order(&request)
    }

    /// All screens together, as large as they are now.
    pub(super) fn whole_screen(&self) -> Result<Rect, BackendError> {
        let size = self.conn.get_geometry(self.root)?.reply()?;
        Ok(Rect { x: 0, y: 0, width: size.width.into(), height: size.height.into() })
    }

    /// Selects core events on the root window.
    pub(super) fn select_root(&self, mask: xproto::EventMask) -> Result<(), BackendError> {
        let attributes = xproto::ChangeWindowAttributesAux::new().event_mask(mask);
        self.conn.change_window_attributes(self.root, &attributes)?;
        Ok(())
    }
}

/// The numbers that the server gave the extensions we need.
struct ExtensionOpcodes {
    xtest: u8,
    xinput: u8,
    /// The first of the events of XInput.
    xinput_events: u8,
}

/// Looks for the extensions we need.
fn find_extensions(
    conn: &ServerConnection,
    display: &str,
) -> Result<ExtensionOpcodes, BackendError> {
    let find = |name, extension| -> Result<_, BackendError> {
        let missing = || BackendError::MissingExtension { display: display.to_owned(), extension };
        conn.extension_information(name)?.ok_or_else(missing)
    };
    let xtest = find(xtest::X11_EXTENSION_NAME, "XTEST")?.major_opcode;
    let xinput = find(xinput::X11_EXTENSION_NAME, "XInput 2")?;
    find(xkb::X11_EXTENSION_NAME, "XKEYBOARD")?;
    Ok(ExtensionOpcodes { xtest, xinput: xinput.major_opcode, xinput_events: xinput.first_event })
}

/// Asks the server for its devices.
pub(super) fn query_devices(conn: &ServerConnection) -> Result<DeviceIds, BackendError> {
    const ALL: u16 = 0;
    let mut devices = DeviceIds { master_keyboard: 3, master_pointer: 2, ..DeviceIds::default() };
    let mut master_seen = false;
    let pressure = conn.intern_atom(true, b"Abs Pressure")?.reply()?.atom;
    for info in conn.xinput_xi_query_device(ALL)?.reply()?.infos {
        let name = String::from_utf8_lossy(&info.name).into_owned();
        let injected = name.contains("XTEST");
        let id = info.deviceid;
        let small = u8::try_from(id).ok().filter(|_| !injected);
        match info.type_ {
            DeviceType::MASTER_KEYBOARD if !master_seen => {
                devices.master_keyboard = id;
                devices.master_pointer = info.attachment;
                master_seen = true;
            }
            DeviceType::SLAVE_KEYBOARD => devices.keyboards.extend(small),
            DeviceType::SLAVE_POINTER => devices.pointers.extend(small),
            _ => {}
        }
        let presses = |class: &xinput::DeviceClass| match &class.data {
            xinput::DeviceClassData::Valuator(axis) => pressure != 0 && axis.label == pressure,
            _ => false,
        };
        if info.type_ == DeviceType::SLAVE_POINTER && info.classes.iter().any(presses) {
            devices.pens.insert(id);
            if name.to_lowercase().contains("eraser") {
                devices.erasers.insert(id);
            }
        }
        devices.names.insert(id, name);
        devices.ranges.extend(ranges_of(&info).map(|ranges| (id, ranges)));
        if injected {
            devices.injected.push(id);
        }
    }
    Ok(devices)
}

#[cfg(test)]
mod tests {
    use super::AxisRange;

    #[test]
    fn a_place_of_a_tablet_is_a_pixel_of_the_screen() {
        let tablet = AxisRange { from: 100.0, to: 20_100.0 };
        assert_eq!(tablet.place(100.0, 1280), 0.0);
        assert_eq!(tablet.place(10_100.0, 1280), 640.0);
        assert_eq!(AxisRange { from: -1.0, to: -1.0 }.place(300.0, 1280), 300.0, "without ends");
    }
}
