//! The guardian's side of a display. It releases what the working process left down when that has
//! ended, and ends one that hangs while the keyboard or the pointer waits for it.
//!
//! A press that a rule may want freezes the keyboard until the working process answers. The guardian
//! looks when the person does something after a pause, and when a pause begins: two alarms on the
//! server's idle time wake it, and nothing does while the person rests or types on. A key that is held
//! repeats, and keeps the idle time at zero; so the guardian also looks once a second while keys are
//! marked as held.

use std::os::fd::BorrowedFd;
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use x11rb::connection::{Connection, RequestConnection};
use x11rb::protocol::Event;
use x11rb::protocol::sync::{
    ChangeAlarmAux, ConnectionExt as _, CreateAlarmAux, Int64, TESTTYPE, VALUETYPE,
};
use x11rb::protocol::xinput::InputStateData;
use x11rb::protocol::xkb::ConnectionExt as _;
use x11rb::protocol::xproto::{self, ConnectionExt as _, GrabMode, GrabStatus};
use x11rb::rust_connection::RustConnection;

use super::connection::XConnection;
use super::raw_events::{query, set_bits};
use super::windows;
use lantern_backend::{BackendError, HeldKeyReader, HeldMarks};

/// Time without input, in milliseconds, that is a pause: its beginning and its end wake the guardian.
const PAUSE_MS: i64 = 1000;
/// Time between two looks at a process that may hang.
const LOOKS: Duration = Duration::from_millis(200);
/// Time between two looks while keys are marked as held.
const LOOKS_WHILE_HELD: Duration = Duration::from_secs(1);
/// Looks without a mark after which the guardian waits for alarms only. One is not enough: a rule may
/// have released a key just now to press it again.
const LOOKS_WITHOUT_MARKS: u32 = 3;
/// Maximum time for which one that ended is waited for until the server has taken in what it sent last.
const LAST_WORDS: Duration = Duration::from_secs(5);

/// The working process, as the guardian sees it.
pub trait Watched {
    /// Becomes readable when the process has ended, and when it says that it holds keys.
    fn pipe(&self) -> BorrowedFd<'_>;
    /// Reads what the process said. False if it has ended.
    fn is_alive(&mut self) -> bool;
    /// What it does now.
    fn look(&mut self) -> Progress;
    /// Ends the process. Called only while it is stuck and the keyboard or the pointer is taken.
    fn end(&mut self);
}

/// What a process does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Progress {
    /// It works, or waits for something to happen.
    Works,
    /// It is stopped, or awake without progress.
    Hangs,
    /// It has been so for longer than any work takes.
    IsStuck,
}

/// Guards a display, or the one in DISPLAY, until the working process has ended, and releases then
/// what is down by its doing. `process` is the working process, if it is known: what it sent last is
/// waited for.
///
/// # Errors
/// When the display cannot be reached, or goes.
pub fn guard_held(
    display: Option<&str>,
    held: &HeldKeyReader,
    process: Option<u32>,
    watched: &mut dyn Watched,
) -> Result<(), BackendError> {
    let link = XConnection::open(display)?;
    let mut alarm = IdleAlarm::set(display)?;
    let mut looks = false;
    // Looks that are left while keys are marked as held.
    let mut held_looks = 0;
    loop {
        let mut fds = vec![PollFd::from_borrowed_fd(watched.pipe(), PollFlags::IN)];
        fds.extend(alarm.as_ref().map(|alarm| PollFd::new(alarm.conn.stream(), PollFlags::IN)));
        let timeout = match (looks, held_looks) {
            (true, _) => Some(LOOKS),
            (false, 0) => None,
            (false, _) => Some(LOOKS_WHILE_HELD),
        };
        let timeout = timeout.map(|time| Timespec::try_from(time).expect("it is short"));
        match poll(&mut fds, timeout.as_ref()) {
            Ok(_) | Err(rustix::io::Errno::INTR) => {}
            Err(error) => return Err(BackendError::Lost(error.into())),
        }
        let said_something = !fds[0].revents().is_empty();
        if said_something && !watched.is_alive() {
            break;
        }
        let holds =
            said_something || held_looks > 0 && held.marks().is_none_or(|marks| marks.holds());
        held_looks = if holds { LOOKS_WITHOUT_MARKS } else { held_looks.saturating_sub(1) };
        let rang = alarm.as_mut().map_or(Ok(false), IdleAlarm::has_rung)?;
        looks = match watched.look() {
            // Once more after it rang: the process may not have begun yet with what the person did.
            Progress::Works => rang,
            Progress::Hangs => true,
            // The probe takes the keyboard for a moment. It waits for a look at which no alarm rang,
            // so that it takes no key that goes down just now.
            Progress::IsStuck if rang => true,
            // One probe for each alarm.
            Progress::IsStuck => {
                if is_taken(&link)? {
                    watched.end();
                }
                false
            }
        };
    }
    release_marked(&link, held.marks())?;
    let until = Instant::now() + LAST_WORDS;
    while let Some(process) = process
        && windows::is_client(&link, process)?
        && Instant::now() < until
    {
        std::thread::sleep(Duration::from_millis(2));
    }
    release_marked(&link, held.marks())
}

/// Releases what a list says is down on a display, or on the one in DISPLAY.
///
/// # Errors
/// When the display cannot be reached.
pub fn release_held(display: Option<&str>, held: &HeldKeyReader) -> Result<(), BackendError> {
    release_marked(&XConnection::open(display)?, held.marks())
}

/// Releases every key and button that is marked and takes lent keycodes back. Where marks are lost,
/// all that XTEST's devices hold is released.
pub(super) fn release_marked(
    link: &XConnection,
    marks: Option<HeldMarks>,
) -> Result<(), BackendError> {
    let marks = match marks {
        Some(marks) => marks,
        None => injected_marks(link)?,
    };
    let keys = marks.keycodes.into_iter().map(|code| (xproto::KEY_RELEASE_EVENT, code));
    let buttons = marks.buttons.into_iter().map(|button| (xproto::BUTTON_RELEASE_EVENT, button));
    for (kind, detail) in keys.chain(buttons) {
        link.fake(kind, detail)?;
    }
    for code in marks.lent {
        link.conn.change_keyboard_mapping(1, code, 2, &[0, 0])?;
    }
    link.conn.get_input_focus()?.reply()?;
    Ok(())
}

/// Keys and buttons that are down on XTEST's own devices, by any program.
fn injected_marks(link: &XConnection) -> Result<HeldMarks, BackendError> {
    let mut marks = HeldMarks::default();
    let numbers = link.devices.injected.iter().filter_map(|id| u8::try_from(*id).ok());
    for (_, state) in query(link, &numbers.collect::<Vec<u8>>())? {
        match state {
            InputStateData::Key(keys) => marks.keycodes.extend(set_bits(&keys.keys)),
            InputStateData::Button(buttons) => marks.buttons.extend(set_bits(&buttons.buttons)),
            _ => {}
        }
    }
    Ok(marks)
}

/// Whether another client has grabbed the keyboard or the pointer.
fn is_taken(link: &XConnection) -> Result<bool, BackendError> {
    let (mode, now) = (GrabMode::ASYNC, x11rb::CURRENT_TIME);
    // Both are given up in the same breath, so that no key of the person's falls in between.
    let keyboard = link.conn.grab_keyboard(false, link.root, now, mode, mode)?;
    link.conn.ungrab_keyboard(now)?;
    let (mask, none) = (xproto::EventMask::NO_EVENT, x11rb::NONE);
    let pointer = link.conn.grab_pointer(false, link.root, mask, mode, mode, none, none, now)?;
    link.conn.ungrab_pointer(now)?;
    let (keyboard, pointer) = (keyboard.reply()?.status, pointer.reply()?.status);
    let taken = [GrabStatus::ALREADY_GRABBED, GrabStatus::FROZEN];
    Ok(taken.contains(&keyboard) || taken.contains(&pointer))
}

/// Two alarms on the server's idle time: one rings when the person does something after a pause, the
/// other when a pause begins, since the last key before it may be unanswered.
struct IdleAlarm {
    conn: RustConnection,
    alarms: [u32; 2],
}

impl IdleAlarm {
    /// Sets it; nothing where the server does not count its idle time.
    fn set(display: Option<&str>) -> Result<Option<IdleAlarm>, BackendError> {
        let unreachable = |source: x11rb::errors::ConnectError| BackendError::Unreachable {
            display: display.unwrap_or_default().to_owned(),
            source: Box::new(source),
        };
        let (conn, _) = RustConnection::connect(display).map_err(unreachable)?;
        if conn.extension_information(x11rb::protocol::sync::X11_EXTENSION_NAME)?.is_none() {
            return Ok(None);
        }
        // Without it the server would wake us with two core MappingNotify for each key that comes from
        // another keyboard than the key before it.
        if conn.extension_information(x11rb::protocol::xkb::X11_EXTENSION_NAME)?.is_some() {
            conn.xkb_use_extension(1, 0)?.reply()?;
        }
        conn.sync_initialize(3, 1)?.reply()?;
        let counters = conn.sync_list_system_counters()?.reply()?.counters;
        let Some(idle) = counters.iter().find(|counter| counter.name == b"IDLETIME") else {
            return Ok(None);
        };
        let settings = CreateAlarmAux::new()
            .counter(idle.counter)
            .value_type(VALUETYPE::ABSOLUTE)
            .value(pause())
            .delta(Int64 { hi: 0, lo: 0 })
            .events(1);
        let mut alarms = [0; 2];
        let tests = [TESTTYPE::NEGATIVE_TRANSITION, TESTTYPE::POSITIVE_TRANSITION];
        for (alarm, test) in alarms.iter_mut().zip(tests) {
            *alarm = conn.generate_id()?;
            conn.sync_create_alarm(*alarm, &settings.test_type(test))?.check()?;
        }
        Ok(Some(IdleAlarm { conn, alarms }))
    }

    /// Whether it rang since the last look; it is set again then, as an alarm rings once.
    fn has_rung(&mut self) -> Result<bool, BackendError> {
        let mut rang = false;
        while let Some(event) = self.conn.poll_for_event()? {
            rang |= matches!(event, Event::SyncAlarmNotify(_));
        }
        if rang {
            for alarm in self.alarms {
                self.conn.sync_change_alarm(alarm, &ChangeAlarmAux::new().value(pause()))?;
            }
            self.conn.flush()?;
        }
        Ok(rang)
    }
}

fn pause() -> Int64 {
    Int64 { hi: 0, lo: PAUSE_MS as u32 }
}
