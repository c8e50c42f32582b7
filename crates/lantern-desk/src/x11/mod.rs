//! The real desktop, over the X protocol: XInput 2 to take keys, XTEST to put input in.
//!
//! What is done here and why was measured first; see docs/notes/x11.md.

mod accessx;
mod capture;
mod clipboard;
mod connection;
mod device_event;
mod diagnostics;
mod dialog;
mod events;
mod grabs;
mod guard;
mod hint;
mod inject;
mod input_method;
mod key_substitution;
mod keyboard_idle;
mod keymap;
mod listener;
mod modifier_suspension;
mod packet_buffer;
mod picture;
mod pointer;
mod pointer_recorder;
mod press_tracker;
mod process_idle;
mod raw_events;
mod server;
mod tally;
mod temporary_keymap;
mod window_commands;
mod windows;

pub use capture::{CapturedCombination, capture};
pub use clipboard::keep_copied;
pub use diagnostics::{DisplayDiagnostics, keyboard_is_held, list_windows, survey};
pub use dialog::ask_person;
pub use guard::{Progress, Watched, guard_held, release_held};
pub use listener::{Listener, Observation, ObservedKey};
pub use tally::pick_place;

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::os::fd::BorrowedFd;

use lantern_model::{
    App, Command, EffectId, Event, GrabSet, Hint, InputBatch, ReplayKey, ShiftLevel, Time,
};
use rustix::event::Timespec;
use x11rb::connection::Connection;
use x11rb::protocol::xproto::Window;

use crate::{Backend, BackendError, HeldKeyWriter};
use accessx::AccessXDelays;
use clipboard::X11Clipboard;
use connection::XConnection;
use grabs::{Grabs, KeyOrButton, Refusals};
use guard::release_marked;
use hint::Hints;
use input_method::XInputMethods;
use keymap::Keymap;
use modifier_suspension::ModifierSuspensions;
use pointer::ButtonMaps;
use pointer_recorder::PointerRecorder;
use press_tracker::PressTracker;
use temporary_keymap::WaitingStep;
use window_commands::PendingFocus;

/// Maximum time for which we sleep after an answer, to leave the processor to the client that
/// receives the key. Yielding without sleeping is not enough: the kernel would wake that client on
/// another, sleeping core while we are runnable here.
const BREATH: Timespec = Timespec { tv_sec: 0, tv_nsec: 150_000 };

/// The core modifier mask of caps lock.
const LOCK: u16 = 2;

/// The back end on an X display.
#[derive(Debug)]
pub struct X11Backend {
    link: XConnection,
    keymap: Keymap,
    buttons: ButtonMaps,
    /// Locked modifiers, as XKB last said.
    locked: u16,
    /// Modifiers that count for the next key only, as XKB last said.
    latched: u16,
    /// Slow and bounce keys, as XKB last said.
    delays: AccessXDelays,
    /// What must be withheld.
    wanted_grabs: GrabSet,
    grabs: Grabs,
    presses: PressTracker,
    suspensions: ModifierSuspensions,
    held: HeldKeyWriter,
    /// Releases that were put together but not sent.
    ups: Vec<u8>,
    button_ups: Vec<u8>,
    /// Keys and buttons whose grabs are let go for the present step.
    suspended: Vec<KeyOrButton>,
    /// Those whose grabs are let go as long as we hold them down.
    open: BTreeSet<KeyOrButton>,
    steps_ahead: u32,
    /// Keycodes and levels lent to characters that the layout lacks.
    lent: BTreeMap<char, (u8, ShiftLevel)>,
    waiting: Option<WaitingStep>,
    take_back_at: Option<Time>,
    methods: XInputMethods,
    hints: Hints,
    /// The way that a shape may be drawn on.
    trace: Option<PointerRecorder>,
    clipboard: X11Clipboard,
    coming: Vec<PendingFocus>,
    /// Whether something was typed that the program in front may not have read yet.
    unread: bool,
    /// Grabs that another client holds, of those that have been reported.
    told: Refusals,
    /// Whether any of it is missing now, and when it is tried again.
    missing: bool,
    retry_at: Option<Time>,
    /// The program in front, as last told.
    front: App,
    /// Every window of a program, as last told.
    windows: Vec<Window>,
    /// Seen, and not yet handed over.
    events: VecDeque<Event>,
    /// Done, and not yet handed over. What the person does comes first, so that a loop of steps
    /// never keeps the key that stops it waiting.
    outcomes: VecDeque<Event>,
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
        release_marked(&link, held.marks())?;
        let mut held = held;
        held.clear();
        let keymap = Keymap::read(&link.conn)?;
        let buttons = ButtonMaps::read(&link)?;
        let mut backend = X11Backend {
            link,
            keymap,
            buttons,
            locked: 0,
            latched: 0,
            delays: AccessXDelays::default(),
            wanted_grabs: GrabSet::default(),
            grabs: Grabs::default(),
            presses: PressTracker::default(),
            suspensions: ModifierSuspensions::default(),
            held,
            ups: Vec::new(),
            button_ups: Vec::new(),
            suspended: Vec::new(),
            open: BTreeSet::new(),
            steps_ahead: 0,
            lent: BTreeMap::new(),
            waiting: None,
            take_back_at: None,
            methods: XInputMethods::default(),
            hints: Hints::default(),
            trace: None,
            clipboard: X11Clipboard::default(),
            coming: Vec::new(),
            unread: false,
            told: Refusals::new(),
            missing: false,
            retry_at: None,
            front: App::default(),
            windows: Vec::new(),
            events: VecDeque::new(),
            outcomes: VecDeque::new(),
        };
        backend.select_root_events(false)?;
        backend.select_keyboard_events()?;
        let screens = pointer::screens(&backend.link)?;
        backend.events.push_back(Event::Screens(screens));
        backend.windows = windows::all(&backend.link)?;
        backend.look_at_front()?;
        backend.methods.look(&backend.link)?;
        backend.events.push_back(Event::Layout(backend.keymap.layout.clone()));
        backend.flush()?;
        Ok(backend)
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
    fn set_grabs(&mut self, armed: GrabSet) -> Result<(), BackendError> {
        self.arm_hands(armed)
    }

    fn send_input(
        &mut self,
        now: Time,
        effect: EffectId,
        step: &InputBatch,
    ) -> Result<(), BackendError> {
        if step.types()
            && let Some(message) = self.lacks_focus()?
        {
            self.outcomes.push_back(Event::Outcome { effect, result: Err(message) });
            return Ok(());
        }
        if self.missing_characters(step).next().is_some() {
            return self.begin_lending(now, effect, step.clone());
        }
        self.perform_batch(now, step)?;
        if std::mem::take(&mut self.presses.answering) {
            self.link.conn.wait_at_most(&BREATH)?;
        }
        self.outcomes.push_back(Event::Outcome { effect, result: Ok(None) });
        Ok(())
    }

    fn replay_key(&mut self, _: Time, back: &ReplayKey) -> Result<(), BackendError> {
        self.give_key_back(back)
    }

    fn execute(
        &mut self,
        now: Time,
        effect: EffectId,
        deed: &Command,
    ) -> Result<bool, BackendError> {
        self.attempt_deed(now, effect, deed)
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
            if let Some(event) = self.events.pop_front() {
                return Ok(Some(event));
            }
            if self.lets_gather(now) && self.outcomes.is_empty() {
                self.flush()?;
                return Ok(None);
            }
            let message = self.link.conn.poll_for_raw_event_with_sequence()?;
            if let Some((message, told_after)) = message {
                self.suspensions.look_at(told_after);
                self.handle_message(now, &message)?;
                continue;
            }
            if let Some(way) = self.tell_way(now)? {
                return Ok(Some(way));
            }
            if std::mem::take(&mut self.presses.pointer_moved) && self.wanted_grabs.pointer_position
            {
                let (x, y) = pointer::place(&self.link)?;
                return Ok(Some(Event::Pointer(x, y)));
            }
            if let Some(outcome) = self.outcomes.pop_front() {
                return Ok(Some(outcome));
            }
            self.rest()?;
            if self.missing && self.retry_at.is_none() {
                self.retry_refused(now)?;
            }
            self.flush()?;
            if !self.presses.look_again {
                return Ok(None);
            }
            self.look_at_followed()?;
        }
    }

    fn handle_deadline(&mut self, now: Time) -> Result<(), BackendError> {
        self.hints.handle_deadline(&self.link, now)?;
        self.handle_clipboard_deadline(now)?;
        self.handle_coming_deadline(now)?;
        self.handle_methods_deadline(now)?;
        if self.retry_at.is_some_and(|at| at <= now) {
            self.retry_refused(now)?;
        }
        self.handle_lending_deadline(now)
    }

    fn next_deadline(&self) -> Option<Time> {
        let coming = self.coming.iter().map(|coming| coming.until);
        coming
            .chain(self.retry_at)
            .chain(self.hints.next_deadline())
            .chain(self.lending_deadline())
            .chain(self.clipboard.deadline())
            .chain(self.methods.deadline())
            .chain(self.gathers_until())
            .min()
    }

    fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        let waitable = self.link.conn.waitable();
        self.gathers_until().is_none().then_some(waitable)
    }
}

impl Drop for X11Backend {
    /// Leaves the display as it was. What fails here, the guardian does.
    fn drop(&mut self) {
        let _ = self.end_grab();
        let _ = self.take_back();
        let _ = self.flush();
        if release_marked(&self.link, self.held.marks()).is_ok() {
            self.held.clear();
        }
    }
}
