//! The connection to the compositor: its windows, and who has the keyboard.

use std::collections::{HashMap, VecDeque};
use std::os::fd::{AsFd, BorrowedFd};

use lantern_model::{App, CommandError, Event, Hint, Time};
use wayland_client::backend::ObjectId;
use wayland_client::globals::{GlobalListContents, registry_queue_init};
use wayland_client::protocol::wl_keyboard::{self, WlKeyboard};
use wayland_client::protocol::wl_registry::WlRegistry;
use wayland_client::protocol::wl_seat::{self, WlSeat};
use wayland_client::{
    Connection, Dispatch, EventQueue, Proxy, QueueHandle, WEnum, event_created_child,
};
use wayland_protocols_wlr::data_control::v1::client::zwlr_data_control_manager_v1::ZwlrDataControlManagerV1;
use wayland_protocols_wlr::foreign_toplevel::v1::client::zwlr_foreign_toplevel_handle_v1::{
    self as handle, ZwlrForeignToplevelHandleV1,
};
use wayland_protocols_wlr::foreign_toplevel::v1::client::zwlr_foreign_toplevel_manager_v1::{
    self as manager, ZwlrForeignToplevelManagerV1,
};

use super::clipboard::WaylandClipboard;
use super::hints::LayerHints;
use crate::connection::{read_events, read_keymap};
use lantern_backend::{BackendError, layout_of_keymap};

/// What a compositor has of what rules may need.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CompositorOffers {
    /// It tells which windows there are, and brings them to the front.
    pub windows: bool,
    /// It lets others at the clipboard.
    pub clipboard: bool,
    /// It has layers, on which hints are shown.
    pub hints: bool,
}

/// What the compositor of this session has.
///
/// # Errors
/// When none answers.
pub fn session_offers() -> Result<CompositorOffers, BackendError> {
    Ok(WaylandConnection::connect()?.offers())
}

/// A window, with the properties that the compositor has sent.
#[derive(Debug, Default)]
struct Window {
    app: App,
    active: bool,
    /// Whether everybody was told that it opened.
    told: bool,
}

/// What is known of the session.
#[derive(Debug)]
pub(super) struct SessionState {
    manager: Option<ZwlrForeignToplevelManagerV1>,
    seat: Option<WlSeat>,
    keyboard: Option<WlKeyboard>,
    knows_layout: bool,
    windows: HashMap<ObjectId, (ZwlrForeignToplevelHandleV1, Window)>,
    count: u64,
    /// Whether the windows of the start are known, so that others are new.
    settled: bool,
    front: u64,
    pub(super) hints: Option<LayerHints>,
    pub(super) clipboard: Option<WaylandClipboard>,
    events: VecDeque<Event>,
}

/// The connection.
#[derive(Debug)]
pub(super) struct WaylandConnection {
    connection: Connection,
    queue: EventQueue<SessionState>,
    state: SessionState,
}

impl WaylandConnection {
    pub(super) fn connect() -> Result<WaylandConnection, BackendError> {
        let name = || std::env::var("WAYLAND_DISPLAY").unwrap_or_default();
        let unreachable = |source: Box<dyn std::error::Error + Send + Sync>| {
            BackendError::NoSession { name: name(), source }
        };
        let connection = Connection::connect_to_env().map_err(|error| unreachable(error.into()))?;
        let (globals, mut queue) = registry_queue_init::<SessionState>(&connection)
            .map_err(|error| unreachable(error.into()))?;
        let handle = queue.handle();
        let seat: Option<WlSeat> = globals.bind(&handle, 1..=7, ()).ok();
        let manager = globals.bind(&handle, 1..=3, ()).ok();
        let data: Option<ZwlrDataControlManagerV1> = globals.bind(&handle, 1..=2, ()).ok();
        let clipboard =
            data.zip(seat.as_ref()).map(|(data, seat)| WaylandClipboard::open(data, seat, &handle));
        let clipboard = clipboard.transpose().map_err(|error| unreachable(error.into()))?;
        let mut state = SessionState {
            manager,
            seat,
            keyboard: None,
            knows_layout: false,
            windows: HashMap::new(),
            count: 0,
            settled: false,
            front: 0,
            hints: LayerHints::open(&globals, &handle),
            clipboard,
            events: VecDeque::new(),
        };
        // The windows there are and the seat's devices, then what each of them is, then the keyboard's map.
        for _ in 0..3 {
            queue.roundtrip(&mut state).map_err(|error| unreachable(error.into()))?;
        }
        state.settled = true;
        Ok(WaylandConnection { connection, queue, state })
    }

    /// What the compositor has.
    pub(super) fn offers(&self) -> CompositorOffers {
        CompositorOffers {
            windows: self.state.manager.is_some(),
            clipboard: self.state.clipboard.is_some(),
            hints: self.state.hints.is_some(),
        }
    }

    /// Shows a hint, if there are layers.
    pub(super) fn show_hint(&mut self, now: Time, hint: &Hint) {
        let handle = self.queue.handle();
        if let Some(hints) = &mut self.state.hints {
            // One that cannot be shown for lack of memory is left out.
            let _ = hints.show(&handle, now, hint);
            self.flush();
        }
    }

    /// Takes hints off the screen whose time is over.
    pub(super) fn handle_deadline(&mut self, now: Time) {
        if let Some(hints) = &mut self.state.hints {
            hints.handle_deadline(now);
            self.flush();
        }
    }

    pub(super) fn next_deadline(&self) -> Option<Time> {
        self.state.hints.as_ref().and_then(LayerHints::next_deadline)
    }

    /// Whether the compositor has sent the keyboard's layout.
    pub(super) fn knows_layout(&self) -> bool {
        self.state.knows_layout
    }

    /// What becomes readable when there is something to read.
    pub(super) fn descriptors(&self) -> impl Iterator<Item = BorrowedFd<'_>> {
        let clipboard = self.state.clipboard.as_ref().map(WaylandClipboard::descriptor);
        [self.queue.as_fd()].into_iter().chain(clipboard)
    }

    /// Takes in what the compositor told by now.
    pub(super) fn read(&mut self) -> Result<(), BackendError> {
        read_events(&mut self.queue, &mut self.state)?;
        if let Some(clipboard) = &self.state.clipboard {
            clipboard.reset_waker();
        }
        self.flush();
        Ok(())
    }

    /// Sends what waits; what the compositor does not take now goes with the next.
    fn flush(&self) {
        let _ = self.connection.flush();
    }

    pub(super) fn next_event(&mut self) -> Option<Event> {
        self.state.events.pop_front()
    }

    /// Brings a program to the front.
    pub(super) fn activate(&mut self, name: &str) -> Result<(), CommandError> {
        let lower = name.to_lowercase();
        let window = self.state.find(|window| window.app.is_named(&lower))?;
        let handle = window
            .ok_or_else(|| CommandError::not_found(format!("no window of {name} is open")))?;
        self.state.bring(&handle)?;
        self.flush();
        Ok(())
    }

    /// Brings a window to the front, if it is still there.
    pub(super) fn raise(&mut self, number: u64) -> Result<(), CommandError> {
        if let Some(handle) = self.state.find(|window| window.app.window == number)? {
            self.state.bring(&handle)?;
            self.flush();
        }
        Ok(())
    }

    /// Asks a program's window to close.
    pub(super) fn close(&mut self, name: &str) -> Result<(), CommandError> {
        let lower = name.to_lowercase();
        let window = self.state.find(|window| window.app.is_named(&lower))?;
        let handle = window
            .ok_or_else(|| CommandError::not_found(format!("no window of {name} is open")))?;
        handle.close();
        self.flush();
        Ok(())
    }

    fn clipboard(&mut self) -> Result<&mut WaylandClipboard, CommandError> {
        let missing = "this compositor does not let others at the clipboard";
        self.state.clipboard.as_mut().ok_or_else(|| CommandError::unsupported(missing))
    }

    /// The text that the clipboard holds.
    pub(super) fn read_clipboard(&mut self) -> Result<String, CommandError> {
        self.flush();
        let connection = self.connection.clone();
        self.clipboard()?.read_text(&connection)
    }

    /// Gives the clipboard a text for a while.
    pub(super) fn lend(&mut self, text: &str) -> Result<(), CommandError> {
        let (connection, handle) = (self.connection.clone(), self.queue.handle());
        self.clipboard()?.lend(text, &connection, &handle)?;
        // The paste keys go another way: they must not come there before the text.
        let known = self.queue.roundtrip(&mut self.state);
        known.map(drop).map_err(|error| {
            CommandError::unavailable(format!("the compositor does not answer: {error}"))
        })
    }

    /// Whether a program has read the temporary text.
    pub(super) fn was_taken(&self) -> bool {
        self.state.clipboard.as_ref().is_some_and(WaylandClipboard::was_taken)
    }

    /// The clipboard holds again what it held.
    pub(super) fn give_back(&mut self) {
        let handle = self.queue.handle();
        if let Some(clipboard) = &mut self.state.clipboard {
            clipboard.give_back(&handle);
        }
        self.flush();
    }
}

impl SessionState {
    /// A window that is as `is_it` says, the one in front before others.
    fn find(
        &self,
        is_it: impl Fn(&Window) -> bool,
    ) -> Result<Option<ZwlrForeignToplevelHandleV1>, CommandError> {
        if self.manager.is_none() {
            return Err(CommandError::unsupported(
                "this compositor does not tell others of its windows",
            ));
        }
        let mut found: Vec<_> = self.windows.values().filter(|(_, window)| is_it(window)).collect();
        found.sort_by_key(|(_, window)| (!window.active, window.app.window));
        Ok(found.first().map(|(handle, _)| handle.clone()))
    }

    fn bring(&self, handle: &ZwlrForeignToplevelHandleV1) -> Result<(), CommandError> {
        let seat = self
            .seat
            .as_ref()
            .ok_or_else(|| CommandError::unsupported("this compositor has no keyboard"))?;
        handle.unset_minimized();
        handle.activate(seat);
        Ok(())
    }

    /// Tells what changed with a window that was told of as a whole.
    fn settle_window(&mut self, id: &ObjectId) {
        let settled = self.settled;
        let Some((_, window)) = self.windows.get_mut(id) else { return };
        if !std::mem::replace(&mut window.told, true) && settled {
            self.events.push_back(Event::WindowOpened(window.app.clone()));
        }
        if window.active {
            self.front = window.app.window;
            self.events.push_back(Event::Focus(window.app.clone()));
        } else if self.front == window.app.window {
            self.leave_front();
        }
    }

    /// No window is in front, or the compositor reports none.
    fn leave_front(&mut self) {
        self.front = 0;
        self.events.push_back(Event::Focus(App::default()));
    }
}

impl Dispatch<WlRegistry, GlobalListContents> for SessionState {
    fn event(
        _: &mut Self,
        _: &WlRegistry,
        _: <WlRegistry as Proxy>::Event,
        _: &GlobalListContents,
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
    }
}

impl Dispatch<WlSeat, ()> for SessionState {
    fn event(
        state: &mut Self,
        seat: &WlSeat,
        event: wl_seat::Event,
        (): &(),
        _: &Connection,
        handle: &QueueHandle<Self>,
    ) {
        let wl_seat::Event::Capabilities { capabilities: WEnum::Value(has) } = event else {
            return;
        };
        let has_keyboard = has.contains(wl_seat::Capability::Keyboard);
        if has_keyboard && state.keyboard.is_none() {
            state.keyboard = Some(seat.get_keyboard(handle, ()));
        } else if !has_keyboard && let Some(keyboard) = state.keyboard.take() {
            keyboard.release();
        }
    }
}

/// The keyboard is asked for its map alone: keys come to windows, and we have none.
impl Dispatch<WlKeyboard, ()> for SessionState {
    fn event(
        state: &mut Self,
        _: &WlKeyboard,
        event: wl_keyboard::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
        let wl_keyboard::Event::Keymap { fd, size, .. } = event else { return };
        let Some(text) = read_keymap(fd, size) else { return };
        if let Some(layout) = layout_of_keymap(&text) {
            state.knows_layout = true;
            state.events.push_back(Event::Layout(layout));
        }
    }
}

impl Dispatch<ZwlrForeignToplevelManagerV1, ()> for SessionState {
    fn event(
        state: &mut Self,
        _: &ZwlrForeignToplevelManagerV1,
        event: manager::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
        match event {
            manager::Event::Toplevel { toplevel } => {
                state.count += 1;
                let app = App { window: state.count, ..App::default() };
                let window = Window { app, ..Window::default() };
                state.windows.insert(toplevel.id(), (toplevel, window));
            }
            manager::Event::Finished => state.manager = None,
            _ => {}
        }
    }

    event_created_child!(SessionState, ZwlrForeignToplevelManagerV1, [
        manager::EVT_TOPLEVEL_OPCODE => (ZwlrForeignToplevelHandleV1, ()),
    ]);
}

impl Dispatch<ZwlrForeignToplevelHandleV1, ()> for SessionState {
    fn event(
        state: &mut Self,
        proxy: &ZwlrForeignToplevelHandleV1,
        event: handle::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
        let id = proxy.id();
        let Some((_, window)) = state.windows.get_mut(&id) else { return };
        match event {
            handle::Event::Title { title } => window.app.title = title,
            handle::Event::AppId { app_id } => window.app.names = names_of(&app_id),
            handle::Event::State { state: flags } => window.active = is_activated(&flags),
            handle::Event::Done => state.settle_window(&id),
            handle::Event::Closed => {
                let closed = state.windows.remove(&id);
                proxy.destroy();
                if closed.is_some_and(|(_, window)| window.app.window == state.front) {
                    state.leave_front();
                }
            }
            _ => {}
        }
    }
}

/// What a program is known by: its id, and the last part of one that is an address.
fn names_of(id: &str) -> Vec<String> {
    let whole = id.to_lowercase();
    let last = whole.rsplit('.').next().map(str::to_owned);
    let mut names = vec![whole.clone()];
    names.extend(last.filter(|last| *last != whole));
    names
}

/// Whether a list of states, each of four bytes, has the one in front.
fn is_activated(flags: &[u8]) -> bool {
    let activated = (handle::State::Activated as u32).to_ne_bytes();
    flags.chunks_exact(4).any(|flag| flag == activated)
}
