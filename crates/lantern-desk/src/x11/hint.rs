//! A small text on the screen for a time, in a window of its own that takes no focus.

use std::time::Duration;

use lantern_model::{HintPlace, Time};
use x11rb::connection::Connection;
use x11rb::protocol::xproto::{
    Char2b, ConnectionExt as _, CreateGCAux, CreateWindowAux, EventMask, Font, Window, WindowClass,
};

use super::connection::Link;
use crate::DeskError;

/// Space around the text, in pixels.
const MARGIN: u16 = 8;
/// How far from the pointer, in pixels.
const OFFSET: i16 = 16;
const BACKGROUND: u32 = 0x0014_2433;
const FOREGROUND: u32 = 0x00f2_f6fa;
/// Fonts of the X server's own, the better first.
const FONTS: [&str; 2] = ["-misc-fixed-medium-r-normal--18-*-*-*-*-*-iso10646-1", "fixed"];

/// A hint on the screen.
#[derive(Debug)]
pub(super) struct Hint {
    window: Window,
    text: Vec<Char2b>,
    font: Font,
    baseline: i16,
    /// When it goes away.
    pub until: Time,
}

impl Hint {
    /// Shows a text.
    pub(super) fn show(
        link: &Link,
        now: Time,
        text: &str,
        place: HintPlace,
        span: Duration,
    ) -> Result<Hint, DeskError> {
        let conn = &link.conn;
        let text: Vec<Char2b> = text.encode_utf16().take(200).map(two_bytes).collect();
        let font = open_font(link)?;
        let extents = conn.query_text_extents(font, &text)?.reply()?;
        let width =
            u16::try_from(extents.overall_width.max(1)).unwrap_or(u16::MAX / 2) + 2 * MARGIN;
        let line = extents.font_ascent.max(0) + extents.font_descent.max(0);
        let height = u16::try_from(line).unwrap_or(16) + 2 * MARGIN;
        let (x, y) = corner(link, place, width, height)?;
        let screen = conn.setup().roots.iter().find(|screen| screen.root == link.root);
        let depth = screen.map_or(24, |screen| screen.root_depth);
        let window = conn.generate_id()?;
        let look = CreateWindowAux::new()
            .override_redirect(1)
            .background_pixel(BACKGROUND)
            .event_mask(EventMask::EXPOSURE);
        let class = WindowClass::INPUT_OUTPUT;
        conn.create_window(depth, window, link.root, x, y, width, height, 0, class, 0, &look)?;
        conn.map_window(window)?;
        conn.flush()?;
        let baseline = extents.font_ascent + MARGIN as i16;
        Ok(Hint { window, text, font, baseline, until: now + span })
    }

    /// Whether the window is this hint's.
    pub(super) fn is_in(&self, window: Window) -> bool {
        self.window == window
    }

    /// Draws the text.
    pub(super) fn draw(&self, link: &Link) -> Result<(), DeskError> {
        let conn = &link.conn;
        let context = conn.generate_id()?;
        let look = CreateGCAux::new().foreground(FOREGROUND).background(BACKGROUND).font(self.font);
        conn.create_gc(context, self.window, &look)?;
        conn.image_text16(self.window, context, MARGIN as i16, self.baseline, &self.text)?;
        conn.free_gc(context)?;
        conn.flush()?;
        Ok(())
    }

    /// Takes it off the screen.
    pub(super) fn remove(self, link: &Link) -> Result<(), DeskError> {
        link.conn.destroy_window(self.window)?;
        link.conn.close_font(self.font)?;
        link.conn.flush()?;
        Ok(())
    }
}

fn open_font(link: &Link) -> Result<Font, DeskError> {
    for name in FONTS {
        let font = link.conn.generate_id()?;
        if link.conn.open_font(font, name.as_bytes())?.check().is_ok() {
            return Ok(font);
        }
    }
    Ok(link.conn.generate_id()?)
}

/// The upper left corner, so that the whole hint is on the screen.
fn corner(link: &Link, place: HintPlace, width: u16, height: u16) -> Result<(i16, i16), DeskError> {
    let size = link.conn.get_geometry(link.root)?.reply()?;
    let (x, y) = match place {
        HintPlace::Pointer => {
            let pointer = link.conn.query_pointer(link.root)?.reply()?;
            (pointer.root_x.saturating_add(OFFSET), pointer.root_y.saturating_add(OFFSET))
        }
        HintPlace::At(x, y) => (x.clamp(0, 32_000) as i16, y.clamp(0, 32_000) as i16),
    };
    let fit = |at: i16, most: u16, own: u16| at.min((most.saturating_sub(own)) as i16).max(0);
    Ok((fit(x, size.width, width), fit(y, size.height, height)))
}

fn two_bytes(unit: u16) -> Char2b {
    let [byte1, byte2] = unit.to_be_bytes();
    Char2b { byte1, byte2 }
}
