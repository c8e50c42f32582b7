//! Numbers on elements of the window in front, picked by digit keys or by a given number.

use std::io;
use std::os::fd::BorrowedFd;
use std::time::{Duration, Instant};

use lantern_model::{Key, KeyGrab, ModifierSet, Rect};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use x11rb::connection::Connection;
use x11rb::protocol::Event;
use x11rb::protocol::xkb::{ConnectionExt as _, ID};
use x11rb::protocol::xproto::{ConnectionExt as _, Window};

use super::connection::XConnection;
use super::dialog::named_stroke;
use super::grabs::Grabs;
use super::keymap::{Keymap, key_of};
use super::picture::scale_of;
use super::raw_events::{RawEventSelection, select_raw};
use super::{hint, pointer};
use lantern_backend::BackendError;
use lantern_backend::Tally;
use lantern_backend::canvas::Fonts;
use lantern_backend::dialog::{DialogAnswer, DialogKey};

/// Time without a choice after which the numbers disappear and the keyboard is released.
const FORGOTTEN: Duration = Duration::from_secs(30);

/// So many pixels of what it stands for a number hides, so that its first letter can be read.
const OVERLAP: i32 = 7;

/// What is taken from the programs while numbers are on the screen.
const TAKEN: &str = "0 1 2 3 4 5 6 7 8 9 pad-0 pad-1 pad-2 pad-3 pad-4 pad-5 pad-6 pad-7 pad-8 pad-9 \
                     enter pad-enter backspace escape";

/// Shows numbers at these places of the display in DISPLAY, and waits until the person picks one by
/// its digits, or `told` reads as a line with one. Digits reach no program meanwhile, unless
/// one has the keyboard to itself, as an open menu does: then it hears them too. All other keys stay
/// what they are, so that every rule still works.
///
/// # Errors
/// When the display cannot be reached, or goes away.
pub fn pick_place(places: &[Rect], told: BorrowedFd<'_>) -> Result<DialogAnswer, BackendError> {
    let link = XConnection::open(None)?;
    take_digits(&link)?;
    // They report every press, also in grabs.
    select_raw(
        &link,
        RawEventSelection::default(),
        RawEventSelection { all: true, ..RawEventSelection::default() },
    )?;
    let scale = scale_of(&link)?;
    let tally = Tally::of(places.len());
    let mut picking =
        Picking { link, places, fonts: Fonts::default(), scale, tally, shown: Vec::new() };
    picking.show()?;
    picking.wait(told)
}

fn take_digits(link: &XConnection) -> Result<(), BackendError> {
    let keymap = Keymap::read(&link.conn)?;
    let state = link.conn.xkb_get_state(ID::USE_CORE_KBD.into())?.reply()?;
    let keys = TAKEN.split_whitespace().filter_map(Key::named);
    let taken: Vec<KeyGrab> = keys
        .map(|key| KeyGrab {
            key,
            modifiers: ModifierSet::NONE,
            any_extra_modifiers: true,
            side_specific: false,
            report_release: false,
            synchronous: false,
        })
        .collect();
    // What a rule has already is the rule's, and is read all the same.
    Grabs::default().replace(
        link,
        &keymap,
        state.locked_mods.into(),
        &taken,
        RawEventSelection::default(),
    )?;
    Ok(())
}

struct Picking<'p> {
    link: XConnection,
    places: &'p [Rect],
    fonts: Fonts,
    scale: f32,
    tally: Tally,
    shown: Vec<Window>,
}

impl Picking<'_> {
    fn wait(&mut self, told: BorrowedFd<'_>) -> Result<DialogAnswer, BackendError> {
        let mut told = Some(told);
        let mut until = Instant::now() + FORGOTTEN;
        loop {
            while let Some(event) = self.link.conn.poll_for_event()? {
                let Event::XinputRawKeyPress(press) = event else { continue };
                until = Instant::now() + FORGOTTEN;
                let stroke = stroke(press.detail as u8);
                if let Some(answer) = stroke.and_then(|stroke| self.tally.take(stroke)) {
                    return Ok(answer);
                }
                self.show()?;
            }
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return Ok(DialogAnswer::Dismissed);
            }
            if let Some(number) = self.wait_for_either(&mut told, left)? {
                // The caller reports a number that is not there.
                return Ok(DialogAnswer::Picked(number.saturating_sub(1)));
            }
        }
    }

    /// Waits for the display or a told number.
    fn wait_for_either(
        &self,
        told: &mut Option<BorrowedFd<'_>>,
        left: Duration,
    ) -> Result<Option<usize>, BackendError> {
        let lost = |error: io::Error| BackendError::Lost(Box::new(error));
        let limit = Timespec { tv_sec: left.as_secs() as i64, tv_nsec: left.subsec_nanos().into() };
        let mut fds = vec![PollFd::from_borrowed_fd(self.link.conn.waitable(), PollFlags::IN)];
        fds.extend(told.map(|told| PollFd::from_borrowed_fd(told, PollFlags::IN)));
        match poll(&mut fds, Some(&limit)) {
            Err(rustix::io::Errno::INTR) => return Ok(None),
            result => result.map_err(|error| lost(error.into()))?,
        };
        let reads = |fd: &PollFd<'_>| !fd.revents().is_empty();
        let Some(source) = told.filter(|_| fds.get(1).is_some_and(reads)) else {
            return Ok(None);
        };
        let mut line = [0; 64];
        let count = rustix::io::read(source, &mut line).map_err(|error| lost(error.into()))?;
        if count == 0 {
            *told = None;
        }
        Ok(String::from_utf8_lossy(&line[..count]).trim().parse().ok())
    }

    /// Shows each number that may still be the one.
    fn show(&mut self) -> Result<(), BackendError> {
        let mut shown = Vec::new();
        for (index, place) in self.places.iter().enumerate() {
            if self.tally.fits(index + 1) {
                shown.push(self.show_one(index + 1, *place)?);
            }
        }
        // The new ones are there before the old ones go, so that nothing flickers.
        for window in std::mem::replace(&mut self.shown, shown) {
            self.link.conn.destroy_window(window)?;
        }
        self.link.conn.flush()?;
        Ok(())
    }

    /// Over the left edge of the place, on the screen that it is on.
    fn show_one(&mut self, number: usize, place: Rect) -> Result<Window, BackendError> {
        let canvas = self.tally.draw(&mut self.fonts, number, self.scale);
        let width = i32::try_from(canvas.width).unwrap_or(0);
        let height = i32::try_from(canvas.height).unwrap_or(0);
        let screen = pointer::screen_at(&self.link, (place.x, place.y))?;
        let screen = screen.map_or_else(|| self.link.whole_screen(), Ok)?;
        let x = (place.x - width + OVERLAP).clamp(screen.x, screen.x + screen.width - width);
        let y = place.y + (place.height.min(3 * height) - height) / 2;
        let y = y.clamp(screen.y, screen.y + screen.height - height);
        hint::open(&self.link, Rect { x, y, width, height }, &canvas, &number.to_string())
    }
}

/// What a key means here: digits by their place, whatever the layout makes of them.
fn stroke(code: u8) -> Option<DialogKey> {
    let name = key_of(code)?.name();
    let digit = name.strip_prefix("pad-").unwrap_or(name).parse::<u8>().ok();
    let digit =
        digit.filter(|digit| *digit < 10).map(|digit| DialogKey::Letter((b'0' + digit).into()));
    digit.or_else(|| named_stroke(name))
}
