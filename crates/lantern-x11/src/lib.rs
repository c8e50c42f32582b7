//! The real desktop, over the X protocol: XInput 2 to take keys, XTEST to put input in.
//!
//! What is done here and why was measured first; see docs/notes/x11.md.

mod capture;
mod clipboard;
mod connection;
mod device_event;
mod diagnostics;
mod dialog;
mod event_queue;
mod events;
mod grab_manager;
mod grabs;
mod guard;
mod hint;
mod injection;
mod injector;
mod input_method;
mod keyboard_state;
mod keymap;
mod listener;
mod modifier_suspension;
mod packet_buffer;
mod picture;
mod ping;
mod pointer;
mod pointer_recorder;
mod press_tracker;
mod presses;
mod process_idle;
mod raw_events;
mod server;
mod tally;
mod temporary_keymap;
mod window_tracker;
mod windows;

pub use capture::{CapturedCombination, capture};
pub use clipboard::keep_copied;
pub use diagnostics::{DisplayDiagnostics, keyboard_is_held, list_windows, survey};
pub use dialog::ask_person;
pub use guard::{Progress, Watched, guard_held, release_held};
pub use listener::{Listener, Observation, ObservedKey};
pub use tally::pick_place;

use std::os::fd::BorrowedFd;

use lantern_model::{Command, EffectId, Event, GrabSet, Hint, InputBatch, ReplayKey, Time};
use rustix::event::Timespec;
use x11rb::connection::Connection;

use clipboard::X11Clipboard;
use connection::XConnection;
use event_queue::QueuedEvents;
use grab_manager::GrabManager;
use hint::Hints;
use injector::Injector;
use input_method::XInputMethods;
use keyboard_state::KeyboardState;
use lantern_backend::copied_contents::CopiedContents;
use lantern_backend::{Ability, Backend, BackendError, HeldKeyWriter};
use modifier_suspension::ModifierSuspensions;
use pointer_recorder::PointerRecorder;
use press_tracker::PressTracker;
use raw_events::RawEvents;
use temporary_keymap::TemporaryKeymap;
use window_tracker::WindowTracker;

/// Maximum time for which we sleep after an answer, to leave the processor to the client that
/// receives the key. Yielding without sleeping is not enough: the kernel would wake that client on
/// another, sleeping core while we are runnable here.
const BREATH: Timespec = Timespec { tv_sec: 0, tv_nsec: 150_000 };

/// The core modifier mask of caps lock.
const LOCK: u16 = 2;

/// The back end on an X display. It routes events and requests to its components; each of them is given
/// the connection.
#[derive(Debug)]
pub struct X11Backend {
    link: XConnection,
    keyboard: KeyboardState,
    injector: Injector,
    grabs: GrabManager,
    presses: PressTracker,
    raw: RawEvents,
    suspensions: ModifierSuspensions,
    temporary_keymap: TemporaryKeymap,
    methods: XInputMethods,
    windows: WindowTracker,
    clipboard: X11Clipboard,
    recorder: PointerRecorder,
    hints: Hints,
    queue: QueuedEvents,
}

impl X11Backend {
    /// Connects to the display in DISPLAY. `held` is where held keys are listed; what it lists from
    /// a run that died is let go first.
    ///
    /// # Errors
    /// When the display cannot be reached, or lacks what we need.
    pub fn open(held: HeldKeyWriter) -> Result<X11Backend, BackendError> {
        X11Backend::open_on(None, held)
    }

    /// The same for a display by its name.
    ///
    /// # Errors
    /// When the display cannot be reached, or lacks what we need.
    pub fn open_on(display: Option<&str>, held: HeldKeyWriter) -> Result<X11Backend, BackendError> {
        let link = XConnection::open(display)?;
        let injector = Injector::new(&link, held)?;
        ping::select_root_events(&link, false)?;
        events::select_keyboard_events(&link)?;
        let keyboard = KeyboardState::read(&link)?;
        let mut backend = X11Backend {
            link,
            keyboard,
            injector,
            grabs: GrabManager::default(),
            presses: PressTracker::default(),
            raw: RawEvents::default(),
            suspensions: ModifierSuspensions::default(),
            temporary_keymap: TemporaryKeymap::default(),
            methods: XInputMethods::default(),
            windows: WindowTracker::default(),
            clipboard: X11Clipboard::default(),
            recorder: PointerRecorder::default(),
            hints: Hints::default(),
            queue: QueuedEvents::default(),
        };
        let screens = pointer::screens(&backend.link)?;
        backend.queue.push(Event::Screens(screens));
        backend.windows.read_windows(&backend.link)?;
        backend.update_front()?;
        backend.methods.look(&backend.link)?;
        backend.report_layout();
        backend.flush()?;
        Ok(backend)
    }

    /// Keeps in `copied` what others copied and we own, for the process that outlives this one.
    pub fn keep_copied_in(&mut self, copied: CopiedContents) {
        self.clipboard.keep_in(copied);
    }

    /// Whether a window manager tells which program is in front.
    ///
    /// # Errors
    /// When the display is gone.
    pub fn tells_programs(&self) -> Result<bool, BackendError> {
        windows::tells_front(&self.link)
    }
}

impl Backend for X11Backend {
    fn abilities(&self) -> Vec<Ability> {
        vec![
            Ability::by("keys", "grabs of the X server"),
            Ability::by("input", "the XTEST extension, any character"),
            Ability::by("windows", "the window manager's properties"),
            Ability::by("clipboard", "selections of the X server"),
            Ability::by("hints", "windows of our own"),
        ]
    }

    fn set_grabs(&mut self, grabs: GrabSet) -> Result<(), BackendError> {
        self.install_grabs(grabs)
    }

    fn send_input(
        &mut self,
        now: Time,
        effect: EffectId,
        batch: &InputBatch,
    ) -> Result<(), BackendError> {
        self.begin_effect(now, effect, batch)
    }

    fn replay_key(&mut self, _: Time, replay: &ReplayKey) -> Result<(), BackendError> {
        self.replay(replay)
    }

    fn execute(
        &mut self,
        now: Time,
        effect: EffectId,
        command: &Command,
    ) -> Result<bool, BackendError> {
        self.execute_command(now, effect, command)
    }

    fn show_hint(&mut self, now: Time, _: EffectId, hint: &Hint) -> Result<(), BackendError> {
        self.hints.show(&self.link, now, hint)
    }

    fn shows_hints(&self) -> bool {
        true
    }

    fn poll_event(&mut self, now: Time) -> Result<Option<Event>, BackendError> {
        self.end_grab()?;
        loop {
            if let Some(event) = self.queue.pop() {
                return Ok(Some(event));
            }
            if self.recorder.is_resting(now) && self.queue.has_no_outcomes() {
                self.flush()?;
                return Ok(None);
            }
            let message = self.link.conn.poll_for_raw_event_with_sequence()?;
            if let Some((message, sent_after)) = message {
                self.suspensions.look_at(sent_after);
                self.handle_message(now, &message)?;
                continue;
            }
            if let Some(path) = self.recorder.take_path(&self.link, now)? {
                return Ok(Some(Event::PointerPath(path)));
            }
            if self.presses.take_pointer_moved() && self.grabs.wanted().pointer_position {
                let (x, y) = pointer::place(&self.link)?;
                return Ok(Some(Event::Pointer(x, y)));
            }
            if let Some(outcome) = self.queue.pop_outcome() {
                return Ok(Some(outcome));
            }
            self.end_answers()?;
            if self.grabs.needs_retry() {
                self.retry_grabs(now)?;
            }
            self.flush()?;
            if !self.presses.must_look() {
                return Ok(None);
            }
            self.query_followed()?;
        }
    }

    fn handle_deadline(&mut self, now: Time) -> Result<(), BackendError> {
        self.hints.handle_deadline(&self.link, now)?;
        self.use_clipboard(now, |clipboard| clipboard.handle_deadline())?;
        let outcomes = self.windows.handle_deadline(&self.link, now)?;
        self.queue.extend_outcomes(outcomes);
        self.methods.handle_deadline(&self.link, now)?;
        self.flush()?;
        if self.grabs.deadline().is_some_and(|at| at <= now) {
            self.retry_grabs(now)?;
        }
        self.lend(now, TemporaryKeymap::handle_deadline)
    }

    fn next_deadline(&self) -> Option<Time> {
        let deadlines = [
            self.windows.deadline(),
            self.grabs.deadline(),
            self.hints.next_deadline(),
            self.temporary_keymap.deadline(),
            self.clipboard.deadline(),
            self.methods.deadline(),
            self.recorder.rests_until(),
        ];
        deadlines.into_iter().flatten().min()
    }

    fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        let waitable = self.link.conn.waitable();
        self.recorder.rests_until().is_none().then_some(waitable)
    }
}

impl Drop for X11Backend {
    /// Leaves the display as it was. What fails here, the guardian does.
    fn drop(&mut self) {
        let _ = self.end_grab();
        let keymap = self.keyboard.keymap();
        let _ = self.temporary_keymap.take_back(&self.link, keymap, &mut self.injector);
        let _ = self.flush();
        self.injector.release_everything(&self.link);
    }
}
