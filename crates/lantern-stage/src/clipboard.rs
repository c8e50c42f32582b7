//! The clipboard: copied to, and asked for what it holds.

use std::process::Output;

use x11rb::connection::Connection;
use x11rb::protocol::Event;
use x11rb::protocol::xfixes::{ConnectionExt as _, SelectionEventMask};
use x11rb::protocol::xproto::{ConnectionExt as _, CreateWindowAux, PropMode, WindowClass};
use x11rb::wrapper::ConnectionExt as _;

use crate::display::wait_for;
use crate::{Display, Moments};

impl Display {
    /// Copies bytes to the clipboard, in that form; the program that offers them stays.
    ///
    /// # Panics
    /// When xclip is not installed or fails.
    pub fn copy(&self, bytes: impl AsRef<[u8]>, form: &str) {
        let path = self.folder().join("copied");
        let bytes = bytes.as_ref();
        std::fs::write(&path, bytes).expect("the file can be written");
        let copied = self
            .silent("xclip")
            .args(["-selection", "clipboard", "-target", form, "-in"])
            .arg(&path)
            .status();
        assert!(copied.expect("xclip is installed").success());
        // It says so before it is so.
        self.wait_until("the copy", |display| display.asked_of_clipboard(form).stdout == bytes);
    }

    /// Whether the clipboard holds that in that form; it may hold nothing.
    ///
    /// # Panics
    /// When xclip is not installed.
    pub fn clipboard_is(&self, bytes: &[u8], form: &str) -> bool {
        let asked = self.asked_of_clipboard(form);
        asked.status.success() && asked.stdout == bytes
    }

    fn asked_of_clipboard(&self, form: &str) -> Output {
        let words = ["-selection", "clipboard", "-target", form, "-out"];
        self.command("xclip").args(words).output().expect("xclip is installed")
    }

    /// What the clipboard holds in that form.
    ///
    /// # Panics
    /// When xclip is not installed, or it holds nothing in that form.
    pub fn clipboard(&self, form: &str) -> Vec<u8> {
        let output = self.asked_of_clipboard(form);
        let said = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.success(), "the clipboard as {form}: {said}");
        output.stdout
    }

    /// What comes of the clipboard when several forms are asked for at once, each unless it is not there.
    ///
    /// # Panics
    /// When its owner does not answer, or does not know how to be asked so.
    pub fn clipboard_at_once(&self, forms: &[&str]) -> Vec<Option<Vec<u8>>> {
        let conn = self.connect();
        let root = conn.setup().roots[0].root;
        let window = conn.generate_id().expect("there are numbers");
        let (class, look) = (WindowClass::INPUT_ONLY, CreateWindowAux::new());
        conn.create_window(0, window, root, -1, -1, 1, 1, 0, class, 0, &look).expect("it listens");
        let atom = |name: &str| {
            let cookie = conn.intern_atom(false, name.as_bytes()).expect("it listens");
            cookie.reply().expect("it answers").atom
        };
        let (list, pair) = (atom("WANTED"), atom("ATOM_PAIR"));
        let pairs: Vec<u32> = forms
            .iter()
            .enumerate()
            .flat_map(|(number, form)| [atom(form), atom(&format!("WANTED_{number}"))])
            .collect();
        conn.change_property32(PropMode::REPLACE, window, list, pair, &pairs).expect("it listens");
        let (clipboard, several) = (atom("CLIPBOARD"), atom("MULTIPLE"));
        conn.convert_selection(window, clipboard, several, list, 0u32).expect("it listens");
        let mut answer = None;
        wait_for(&conn, "the owner of the clipboard", |event| {
            if let Event::SelectionNotify(came) = event {
                answer = Some(came.property);
            }
            answer.is_some()
        });
        assert_eq!(answer, Some(list), "it can be asked for several forms at once");
        let read = |property: u32| {
            let cookie = conn.get_property(false, window, property, 0u32, 0, u32::MAX / 4);
            cookie.expect("it listens").reply().expect("it answers")
        };
        let answered: Vec<u32> = read(list).value32().expect("they are numbers").collect();
        let property = |pair: &[u32]| Some(pair[1]).filter(|property| *property != x11rb::NONE);
        answered.chunks_exact(2).map(|pair| property(pair).map(|at| read(at).value)).collect()
    }

    /// Listens for the clipboard coming into other hands from now on.
    ///
    /// # Panics
    /// When the server does not answer.
    pub fn copies(&self) -> Moments {
        let conn = self.connect();
        let root = conn.setup().roots[0].root;
        let atom = conn.intern_atom(false, b"CLIPBOARD").expect("it listens");
        let clipboard = atom.reply().expect("it answers").atom;
        conn.xfixes_query_version(5, 0).expect("it listens").reply().expect("it answers");
        let mask = SelectionEventMask::SET_SELECTION_OWNER;
        let selected = conn.xfixes_select_selection_input(root, clipboard, mask);
        selected.expect("it listens").check().expect("it may");
        Moments { conn }
    }
}
