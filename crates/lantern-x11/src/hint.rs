//! Something small on the screen for a time, in a window of its own that takes no focus and lets
//! clicks through.

use lantern_model::{Corner, Hint, HintContent, HintPlace, Rect, RuleId, Time};
use x11rb::connection::Connection;
use x11rb::protocol::shape::{self, ConnectionExt as _};
use x11rb::protocol::xproto::{
    AtomEnum, ClipOrdering, ConnectionExt as _, CreateWindowAux, PropMode, Window, WindowClass,
};

use super::connection::XConnection;
use super::picture::{depth, picture, scale_of};
use super::pointer;
use lantern_backend::BackendError;
use lantern_backend::canvas::{Canvas, Fonts, level_sign, text_sign};

/// How far from the pointer, and from a screen's edges, in pixels.
const OFFSET: i32 = 16;
/// Between two hints.
const GAP: i32 = 6;
/// A hint is no longer than this.
const MOST_CHARACTERS: usize = 1000;

/// A hint on the screen.
#[derive(Debug)]
pub(super) struct ShownHint {
    window: Window,
    frame: Rect,
    /// The rule it is of, and where that wants it.
    rule: Option<RuleId>,
    place: HintPlace,
    /// When it goes away.
    pub until: Time,
}

/// All hints on the screen.
#[derive(Debug, Default)]
pub(super) struct Hints {
    shown: Vec<ShownHint>,
    fonts: Option<Fonts>,
}

impl Hints {
    /// Shows a hint; an older one of the same rule at the same place goes.
    pub(super) fn show(
        &mut self,
        link: &XConnection,
        now: Time,
        hint: &Hint,
    ) -> Result<(), BackendError> {
        let same = |shown: &mut ShownHint| shown.rule == hint.rule && shown.place == hint.place;
        let old: Vec<ShownHint> = self.shown.extract_if(.., same).collect();
        let scale = scale_of(link)?;
        let screen = pointer::screen_at_pointer(link)?;
        let fonts = self.fonts.get_or_insert_default();
        let most = usize::try_from(screen.width / 2).unwrap_or(600).max(200);
        let canvas = match &hint.content {
            HintContent::Text(text) | HintContent::Drawing(text) => {
                let text: String = text.chars().take(MOST_CHARACTERS).collect();
                text_sign(fonts, &text, scale, most)
            }
            HintContent::Level { share, muted } => level_sign(fonts, *share, *muted, scale),
        };
        let frame = self.free_place(link, hint.place, screen, &canvas)?;
        let window = open(link, frame, &canvas, &hint.content.to_string())?;
        // The new one is there before the old one goes, so that nothing flickers.
        remove(link, old)?;
        let until = now + hint.duration;
        self.shown.push(ShownHint { window, frame, rule: hint.rule, place: hint.place, until });
        link.conn.flush()?;
        Ok(())
    }

    /// Takes those off the screen whose time is over.
    pub(super) fn handle_deadline(
        &mut self,
        link: &XConnection,
        now: Time,
    ) -> Result<(), BackendError> {
        let gone: Vec<ShownHint> = self.shown.extract_if(.., |shown| shown.until <= now).collect();
        remove(link, gone)
    }

    pub(super) fn next_deadline(&self) -> Option<Time> {
        self.shown.iter().map(|shown| shown.until).min()
    }

    /// Where it is wanted, or the nearest place above or below that is free.
    fn free_place(
        &self,
        link: &XConnection,
        place: HintPlace,
        screen: Rect,
        canvas: &Canvas,
    ) -> Result<Rect, BackendError> {
        let width = i32::try_from(canvas.width).unwrap_or(i32::MAX / 4);
        let height = i32::try_from(canvas.height).unwrap_or(i32::MAX / 4);
        let (left, top) = (screen.x + OFFSET, screen.y + OFFSET);
        let right = screen.x + screen.width - width - OFFSET;
        let bottom = screen.y + screen.height - height - OFFSET;
        let (x, y) = match place {
            HintPlace::Pointer => {
                let (x, y) = pointer::place(link)?;
                (x + OFFSET, y + OFFSET)
            }
            HintPlace::At(x, y) => (x, y),
            HintPlace::Corner(Corner::TopLeft) => (left, top),
            HintPlace::Corner(Corner::TopRight) => (right, top),
            HintPlace::Corner(Corner::BottomLeft) => (left, bottom),
            HintPlace::Corner(Corner::BottomRight) => (right, bottom),
            HintPlace::BottomCenter => (screen.x + (screen.width - width) / 2, bottom - 3 * OFFSET),
        };
        let screen = pointer::screen_at(link, (x, y))?.unwrap_or(screen);
        let fit = |at: i32, from: i32, most: i32, own: i32| at.min(from + most - own).max(from);
        let x = fit(x, screen.x, screen.width, width);
        let y = fit(y, screen.y, screen.height, height);
        let wanted = Rect { x, y, width, height };
        Ok(self.moved_off_others(wanted, screen))
    }

    fn moved_off_others(&self, wanted: Rect, screen: Rect) -> Rect {
        let below = self.shown.iter().map(|shown| shown.frame.y + shown.frame.height + GAP);
        let above = self.shown.iter().map(|shown| shown.frame.y - GAP - wanted.height);
        let mut places: Vec<i32> = below.chain(above).chain([wanted.y]).collect();
        places.retain(|y| *y >= screen.y && y + wanted.height <= screen.y + screen.height);
        places.sort_by_key(|y| (y - wanted.y).abs());
        let free = |frame: &Rect| !self.shown.iter().any(|shown| overlap(&shown.frame, frame));
        let mut frames = places.into_iter().map(|y| Rect { y, ..wanted });
        // With no room left they lie upon one another, the newest on top.
        frames.find(free).unwrap_or(wanted)
    }
}

fn overlap(one: &Rect, other: &Rect) -> bool {
    one.x < other.x + other.width
        && other.x < one.x + one.width
        && one.y < other.y + other.height
        && other.y < one.y + one.height
}

fn remove(link: &XConnection, hints: Vec<ShownHint>) -> Result<(), BackendError> {
    for hint in &hints {
        link.conn.destroy_window(hint.window)?;
    }
    if !hints.is_empty() {
        link.conn.flush()?;
    }
    Ok(())
}

/// Opens a window that shows a sign and that the pointer does not see; `name` is what it is called.
pub(super) fn open(
    link: &XConnection,
    frame: Rect,
    canvas: &Canvas,
    name: &str,
) -> Result<Window, BackendError> {
    let conn = &link.conn;
    let size = |pixels: i32| u16::try_from(pixels).unwrap_or(u16::MAX);
    let place = |pixels: i32| i16::try_from(pixels).unwrap_or(0);
    let picture = picture(link, canvas)?;
    let window = conn.generate_id()?;
    let look = CreateWindowAux::new().override_redirect(1).background_pixmap(picture);
    conn.create_window(
        depth(link),
        window,
        link.root,
        place(frame.x),
        place(frame.y),
        size(frame.width),
        size(frame.height),
        0,
        WindowClass::INPUT_OUTPUT,
        0,
        &look,
    )?;
    conn.free_pixmap(picture)?;
    let (property, utf8) = (link.atoms._NET_WM_NAME, link.atoms.UTF8_STRING);
    let bytes = name.as_bytes();
    let mode = PropMode::REPLACE;
    conn.change_property(mode, window, property, utf8, 8, bytes.len() as u32, bytes)?;
    let (kind, sort) =
        (link.atoms._NET_WM_WINDOW_TYPE, link.atoms._NET_WM_WINDOW_TYPE_NOTIFICATION);
    let bytes = sort.to_ne_bytes();
    conn.change_property(mode, window, kind, AtomEnum::ATOM, 32, 1, &bytes)?;
    // No part of it is there for the pointer.
    let input = shape::SK::INPUT;
    conn.shape_rectangles(shape::SO::SET, input, ClipOrdering::UNSORTED, window, 0, 0, &[])?;
    conn.map_window(window)?;
    Ok(window)
}
