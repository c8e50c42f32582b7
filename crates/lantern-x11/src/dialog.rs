//! A question in a small window of our own, on a connection of its own.

use lantern_model::{Modifier, ModifierSet};
use unicode_normalization::char::compose;
use x11rb::connection::Connection;
use x11rb::protocol::Event;
use x11rb::protocol::xproto::{
    AtomEnum, ChangeWindowAttributesAux, ConnectionExt as _, CreateWindowAux, EventMask,
    InputFocus, KeyPressEvent, PropMode, Window, WindowClass,
};
use x11rb::wrapper::ConnectionExt as _;

use super::connection::XConnection;
use super::keymap::{Keymap, key_of};
use super::picture::{depth, picture, scale_of};
use super::{pointer, windows};
use lantern_backend::BackendError;
use lantern_backend::canvas::Fonts;
use lantern_backend::dialog::{Dialog, DialogAnswer, DialogKey, DialogLayout};
use lantern_backend::keysyms::{dead_accent, keysym_character};

/// Asks the person on the display in DISPLAY, and waits for the answer. `tell` is given the question in
/// words, for who cannot see it, and again whenever another answer is chosen.
///
/// # Errors
/// When the display cannot be reached, or goes away.
pub fn ask_person(
    question: Dialog,
    mut tell: impl FnMut(&str),
) -> Result<DialogAnswer, BackendError> {
    let link = XConnection::open(None)?;
    let keymap = Keymap::read(&link.conn)?;
    let mut fonts = Fonts::default();
    let scale = scale_of(&link)?;
    let (canvas, _) = question.draw(&mut fonts, scale);
    let window = open(&link, canvas.width, canvas.height)?;
    let (rows, accent) = (DialogLayout::default(), None);
    let mut asking = OpenDialog { link, keymap, fonts, scale, window, question, rows, accent };
    asking.show()?;
    asking.link.conn.map_window(window)?;
    asking.link.conn.flush()?;
    asking.wait(&mut tell)
}

struct OpenDialog {
    link: XConnection,
    keymap: Keymap,
    fonts: Fonts,
    scale: f32,
    window: Window,
    question: Dialog,
    rows: DialogLayout,
    /// What a dead key puts on the letter after it.
    accent: Option<char>,
}

impl OpenDialog {
    fn wait(&mut self, tell: &mut dyn FnMut(&str)) -> Result<DialogAnswer, BackendError> {
        let mut told = String::new();
        loop {
            let spoken = self.question.spoken();
            if spoken != told {
                tell(&spoken);
                told = spoken;
            }
            let answer = match self.link.conn.wait_for_event()? {
                Event::KeyPress(press) => {
                    let stroke = self.stroke(&press)?;
                    stroke.and_then(|stroke| self.take(stroke))
                }
                Event::ButtonPress(press) if press.detail == 1 => {
                    let row = usize::try_from(press.event_y).unwrap_or(0);
                    let below = row.checked_sub(self.rows.top);
                    let row = below.map(|below| self.rows.first + below / self.rows.height.max(1));
                    row.and_then(|row| self.question.pick(row))
                }
                Event::ClientMessage(message) => {
                    let [what, ..] = message.data.as_data32();
                    (what == self.link.atoms.WM_DELETE_WINDOW).then_some(DialogAnswer::Dismissed)
                }
                Event::MapNotify(_) => {
                    self.come_to_front()?;
                    None
                }
                Event::MappingNotify(_) => {
                    self.keymap = Keymap::read(&self.link.conn)?;
                    None
                }
                _ => continue,
            };
            if let Some(answer) = answer {
                return Ok(answer);
            }
            self.show()?;
        }
    }

    /// Some window managers do not give the keyboard to a new window. It is asked for.
    fn come_to_front(&self) -> Result<(), BackendError> {
        if windows::is_managed(&self.link)? {
            return windows::raise(&self.link, self.window);
        }
        let time = x11rb::CURRENT_TIME;
        self.link.conn.set_input_focus(InputFocus::PARENT, self.window, time)?;
        self.link.conn.flush()?;
        Ok(())
    }

    fn show(&mut self) -> Result<(), BackendError> {
        let (canvas, rows) = self.question.draw(&mut self.fonts, self.scale);
        self.rows = rows;
        let picture = picture(&self.link, &canvas)?;
        let look = ChangeWindowAttributesAux::new().background_pixmap(picture);
        self.link.conn.change_window_attributes(self.window, &look)?;
        self.link.conn.clear_area(false, self.window, 0, 0, 0, 0)?;
        self.link.conn.free_pixmap(picture)?;
        self.link.conn.flush()?;
        Ok(())
    }

    /// Takes a key, a letter with the accent of a dead key before it. An accent that goes with no
    /// letter is gone.
    fn take(&mut self, stroke: DialogKey) -> Option<DialogAnswer> {
        let accent = self.accent.take();
        let stroke = match (stroke, accent) {
            (DialogKey::Letter(character), Some(accent)) => {
                DialogKey::Letter(compose(character, accent).unwrap_or(character))
            }
            (stroke, _) => stroke,
        };
        self.question.take(stroke)
    }

    /// What a key means for a question.
    fn stroke(&mut self, press: &KeyPressEvent) -> Result<Option<DialogKey>, BackendError> {
        let state = u16::from(press.state);
        let locked = state & self.keymap.locks();
        let held = self.keymap.families_in(state);
        let Some(key) = key_of(press.detail) else {
            return self.lent_character(press.detail);
        };
        let named = match key.name() {
            "u" if held.contains(Modifier::Ctrl) => Some(DialogKey::EraseAll),
            name => named_stroke(name),
        };
        let character = || {
            let character = self.keymap.character(key, held, locked)?;
            (!character.is_control()).then_some(DialogKey::Letter(character))
        };
        match named.or_else(character) {
            None => {
                let accent = self.accent_of(press.detail, held)?;
                if accent.is_none() && held.is_empty() {
                    return self.lent_character(press.detail);
                }
                // A modifier between the dead key and its letter changes nothing.
                self.accent = accent.or(self.accent);
                Ok(None)
            }
            stroke => Ok(stroke),
        }
    }

    /// The accent of a dead key.
    fn accent_of(&self, code: u8, held: ModifierSet) -> Result<Option<char>, BackendError> {
        let symbols = self.link.conn.get_keyboard_mapping(code, 1)?.reply()?.keysyms;
        // Two levels of each of two groups, then those of the third-level key (X protocol, 5).
        let from =
            if held.contains(Modifier::Level3) { 4 } else { self.keymap.layout.active % 2 * 2 };
        let level = from + usize::from(held.contains(Modifier::Shift));
        Ok(symbols.get(level).and_then(|symbol| dead_accent(*symbol)))
    }

    /// What a keycode that is no key of the board stands for at the moment.
    fn lent_character(&self, code: u8) -> Result<Option<DialogKey>, BackendError> {
        let symbols = self.link.conn.get_keyboard_mapping(code, 1)?.reply()?.keysyms;
        Ok(symbols.first().and_then(|symbol| keysym_character(*symbol)).map(DialogKey::Letter))
    }
}

/// What a key means by its name alone.
pub(super) fn named_stroke(name: &str) -> Option<DialogKey> {
    Some(match name {
        "escape" => DialogKey::Dismiss,
        "enter" | "pad-enter" => DialogKey::Accept,
        "down" | "tab" => DialogKey::Down,
        "up" => DialogKey::Up,
        "backspace" => DialogKey::Erase,
        _ => return None,
    })
}

/// Opens the window, in the middle of the screen the pointer is on, not yet shown.
fn open(link: &XConnection, width: usize, height: usize) -> Result<Window, BackendError> {
    let (conn, atoms) = (&link.conn, &link.atoms);
    let screen = pointer::screen_at_pointer(link)?;
    let middle = |from: i32, most: i32, own: usize| {
        let own = i32::try_from(own).unwrap_or(0);
        i16::try_from(from + (most - own).max(0) / 2).unwrap_or(0)
    };
    let x = middle(screen.x, screen.width, width);
    let y = middle(screen.y, screen.height, height);
    let size = |pixels: usize| u16::try_from(pixels).unwrap_or(u16::MAX);
    let mask = EventMask::KEY_PRESS | EventMask::BUTTON_PRESS | EventMask::STRUCTURE_NOTIFY;
    let look = CreateWindowAux::new().event_mask(mask);
    let window = conn.generate_id()?;
    let (class, depth) = (WindowClass::INPUT_OUTPUT, depth(link));
    let (width, height) = (size(width), size(height));
    conn.create_window(depth, window, link.root, x, y, width, height, 0, class, 0, &look)?;
    let text = |name: u32, kind: u32, text: &[u8]| {
        conn.change_property8(PropMode::REPLACE, window, name, kind, text)
    };
    text(atoms._NET_WM_NAME, atoms.UTF8_STRING, b"Cold Lantern asks")?;
    text(AtomEnum::WM_NAME.into(), AtomEnum::STRING.into(), b"Cold Lantern asks")?;
    text(AtomEnum::WM_CLASS.into(), AtomEnum::STRING.into(), b"cold-lantern\0cold-lantern\0")?;
    let number = |name: u32, kind: u32, numbers: &[u32]| {
        conn.change_property32(PropMode::REPLACE, window, name, kind, numbers)
    };
    let atom = u32::from(AtomEnum::ATOM);
    number(atoms._NET_WM_WINDOW_TYPE, atom, &[atoms._NET_WM_WINDOW_TYPE_DIALOG])?;
    number(atoms.WM_PROTOCOLS, atom, &[atoms.WM_DELETE_WINDOW])?;
    number(atoms._NET_WM_PID, AtomEnum::CARDINAL.into(), &[std::process::id()])?;
    // Position, and the same least and largest size (ICCCM, 4.1.2.3).
    const POSITION_AND_SIZES: u32 = 1 << 2 | 1 << 4 | 1 << 5;
    let (x, y) = (x as u32, y as u32);
    let (width, height) = (u32::from(width), u32::from(height));
    let mut hints = [0; 18];
    hints[..9].copy_from_slice(&[
        POSITION_AND_SIZES,
        x,
        y,
        width,
        height,
        width,
        height,
        width,
        height,
    ]);
    let (normal, kind) = (AtomEnum::WM_NORMAL_HINTS, AtomEnum::WM_SIZE_HINTS);
    number(normal.into(), kind.into(), &hints)?;
    Ok(window)
}
