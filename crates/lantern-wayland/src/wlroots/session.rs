//! The connection to the compositor: the keyboard grab of an input method, and the screens.

use std::collections::{HashMap, VecDeque};

use lantern_backend::BackendError;
use lantern_model::Rect;
use wayland_client::backend::ObjectId;
use wayland_client::globals::{GlobalList, GlobalListContents, registry_queue_init};
use wayland_client::protocol::wl_output::{self, WlOutput};
use wayland_client::protocol::wl_registry::WlRegistry;
use wayland_client::protocol::wl_seat::{self, WlSeat};
use wayland_client::{Connection, Dispatch, EventQueue, Proxy, QueueHandle, WEnum, delegate_noop};
use wayland_protocols_misc::zwp_input_method_v2::client::zwp_input_method_keyboard_grab_v2::{
    self, ZwpInputMethodKeyboardGrabV2,
};
use wayland_protocols_misc::zwp_input_method_v2::client::zwp_input_method_manager_v2::ZwpInputMethodManagerV2;
use wayland_protocols_misc::zwp_input_method_v2::client::zwp_input_method_v2::{
    self, ZwpInputMethodV2,
};
use wayland_protocols_misc::zwp_virtual_keyboard_v1::client::zwp_virtual_keyboard_manager_v1::ZwpVirtualKeyboardManagerV1;
use wayland_protocols_misc::zwp_virtual_keyboard_v1::client::zwp_virtual_keyboard_v1::ZwpVirtualKeyboardV1;
use wayland_protocols_wlr::virtual_pointer::v1::client::zwlr_virtual_pointer_manager_v1::ZwlrVirtualPointerManagerV1;
use wayland_protocols_wlr::virtual_pointer::v1::client::zwlr_virtual_pointer_v1::ZwlrVirtualPointerV1;

use super::output::{LockedModifiers, VirtualDevices};
use crate::connection::{read_events, read_keymap};

/// What the grab and the compositor report.
#[derive(Debug)]
pub(super) enum KeyboardEvent {
    /// A key by its kernel code.
    Key {
        code: u16,
        is_down: bool,
    },
    /// The keymap of the keyboard in use.
    Keymap(Vec<u8>),
    Locks(LockedModifiers),
    /// Another input method has the seat.
    Unavailable,
    Screens(Vec<Rect>),
}

/// A screen, with what the compositor has sent of it.
#[derive(Debug, Default)]
struct Screen {
    place: Rect,
    scale: i32,
}

/// What is known of the compositor.
#[derive(Debug, Default)]
struct WlrootsState {
    events: VecDeque<KeyboardEvent>,
    screens: HashMap<ObjectId, Screen>,
}

/// The connection.
#[derive(Debug)]
pub(super) struct WlrootsSession {
    queue: EventQueue<WlrootsState>,
    state: WlrootsState,
    _input_method: ZwpInputMethodV2,
}

/// Whether the compositor has what the back end needs.
///
/// # Errors
/// When no compositor answers.
pub fn wlroots_offers() -> Result<bool, BackendError> {
    let (_, globals, _) = connect()?;
    let has = |name: &str| {
        globals.contents().with_list(|list| list.iter().any(|global| global.interface == name))
    };
    Ok(has("zwp_input_method_manager_v2") && has("zwp_virtual_keyboard_manager_v1"))
}

type Connected = (Connection, GlobalList, EventQueue<WlrootsState>);

fn connect() -> Result<Connected, BackendError> {
    let name = std::env::var("WAYLAND_DISPLAY").unwrap_or_default();
    let failed = |source: Box<dyn std::error::Error + Send + Sync>| BackendError::NoSession {
        name: name.clone(),
        source,
    };
    let connection = Connection::connect_to_env().map_err(|error| failed(error.into()))?;
    let (globals, queue) =
        registry_queue_init::<WlrootsState>(&connection).map_err(|error| failed(error.into()))?;
    Ok((connection, globals, queue))
}

impl WlrootsSession {
    /// Takes the keyboard of the seat as its input method.
    ///
    /// # Errors
    /// When the compositor lacks one of the protocols.
    pub(super) fn open() -> Result<(WlrootsSession, VirtualDevices), BackendError> {
        let (connection, globals, mut queue) = connect()?;
        let handle = queue.handle();
        let lacks = |what: &str| BackendError::Lost(format!("the compositor lacks {what}").into());
        let seat: WlSeat = globals.bind(&handle, 1..=7, ()).map_err(|_| lacks("a seat"))?;
        let methods: ZwpInputMethodManagerV2 =
            globals.bind(&handle, 1..=1, ()).map_err(|_| lacks("input methods"))?;
        let keyboards: ZwpVirtualKeyboardManagerV1 =
            globals.bind(&handle, 1..=1, ()).map_err(|_| lacks("virtual keyboards"))?;
        let pointers: Option<ZwlrVirtualPointerManagerV1> = globals.bind(&handle, 1..=2, ()).ok();
        let outputs = globals.contents().clone_list();
        for global in outputs.iter().filter(|global| global.interface == "wl_output") {
            globals.registry().bind::<WlOutput, _, _>(
                global.name,
                global.version.min(4),
                &handle,
                (),
            );
        }
        let devices = VirtualDevices::new(
            connection.clone(),
            keyboards.create_virtual_keyboard(&seat, &handle, ()),
            keyboards.create_virtual_keyboard(&seat, &handle, ()),
            pointers.map(|pointers| pointers.create_virtual_pointer(Some(&seat), &handle, ())),
        );
        let input_method = methods.get_input_method(&seat, &handle, ());
        input_method.grab_keyboard(&handle, ());
        let mut state = WlrootsState::default();
        // The screens and the keymap of the grab.
        for _ in 0..2 {
            queue.roundtrip(&mut state).map_err(|error| BackendError::Lost(error.into()))?;
        }
        let session = WlrootsSession { queue, state, _input_method: input_method };
        Ok((session, devices))
    }

    pub(super) fn descriptor(&self) -> std::os::fd::BorrowedFd<'_> {
        use std::os::fd::AsFd;
        self.queue.as_fd()
    }

    /// Takes in what the compositor sent by now.
    ///
    /// # Errors
    /// When the compositor is gone.
    pub(super) fn read(&mut self) -> Result<VecDeque<KeyboardEvent>, BackendError> {
        read_events(&mut self.queue, &mut self.state)?;
        Ok(std::mem::take(&mut self.state.events))
    }
}

impl WlrootsState {
    fn report_screens(&mut self) {
        let mut screens: Vec<Rect> = self
            .screens
            .values()
            .filter(|screen| screen.place.width > 0)
            .map(|Screen { place, scale }| {
                let scale = (*scale).max(1);
                Rect { width: place.width / scale, height: place.height / scale, ..*place }
            })
            .collect();
        screens.sort_by_key(|screen| (screen.x, screen.y));
        self.events.push_back(KeyboardEvent::Screens(screens));
    }
}

impl Dispatch<ZwpInputMethodKeyboardGrabV2, ()> for WlrootsState {
    fn event(
        state: &mut Self,
        _: &ZwpInputMethodKeyboardGrabV2,
        event: zwp_input_method_keyboard_grab_v2::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
        use zwp_input_method_keyboard_grab_v2::Event;
        let event = match event {
            Event::Keymap { fd, size, .. } => match read_keymap(fd, size) {
                Some(text) => KeyboardEvent::Keymap(text),
                None => return,
            },
            Event::Key { key, state: WEnum::Value(pressed), .. } => {
                let is_down = pressed == wayland_client::protocol::wl_keyboard::KeyState::Pressed;
                let Ok(code) = u16::try_from(key) else { return };
                KeyboardEvent::Key { code, is_down }
            }
            Event::Modifiers { mods_latched, mods_locked, group, .. } => {
                KeyboardEvent::Locks(LockedModifiers {
                    latched: mods_latched,
                    locked: mods_locked,
                    group,
                })
            }
            _ => return,
        };
        state.events.push_back(event);
    }
}

impl Dispatch<ZwpInputMethodV2, ()> for WlrootsState {
    fn event(
        state: &mut Self,
        _: &ZwpInputMethodV2,
        event: zwp_input_method_v2::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
        if matches!(event, zwp_input_method_v2::Event::Unavailable) {
            state.events.push_back(KeyboardEvent::Unavailable);
        }
    }
}

impl Dispatch<WlOutput, ()> for WlrootsState {
    fn event(
        state: &mut Self,
        output: &WlOutput,
        event: wl_output::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
        let screen = state.screens.entry(output.id()).or_default();
        match event {
            wl_output::Event::Geometry { x, y, .. } => {
                (screen.place.x, screen.place.y) = (x, y);
            }
            wl_output::Event::Mode { flags: WEnum::Value(flags), width, height, .. }
                if flags.contains(wl_output::Mode::Current) =>
            {
                (screen.place.width, screen.place.height) = (width, height);
            }
            wl_output::Event::Scale { factor } => screen.scale = factor,
            wl_output::Event::Done => state.report_screens(),
            _ => {}
        }
    }
}

impl Dispatch<WlSeat, ()> for WlrootsState {
    fn event(
        _: &mut Self,
        _: &WlSeat,
        _: wl_seat::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
    }
}

impl Dispatch<WlRegistry, GlobalListContents> for WlrootsState {
    fn event(
        _: &mut Self,
        _: &WlRegistry,
        _: wayland_client::protocol::wl_registry::Event,
        _: &GlobalListContents,
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
    }
}

delegate_noop!(WlrootsState: ZwpInputMethodManagerV2);
delegate_noop!(WlrootsState: ZwpVirtualKeyboardManagerV1);
delegate_noop!(WlrootsState: ZwpVirtualKeyboardV1);
delegate_noop!(WlrootsState: ZwlrVirtualPointerManagerV1);
delegate_noop!(WlrootsState: ZwlrVirtualPointerV1);
